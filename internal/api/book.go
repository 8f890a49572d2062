package api

import (
	"bytes"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/engine/fault"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

func wireSender(s store.Sender) client.Sender {
	w := client.Sender{Sender: s.ID, Kind: s.Kind, Defaults: []client.SenderDefault{}, Gateways: append([]string{}, s.Gateways...),
		Countries: append([]string{}, s.Countries...), Registrations: map[string]string{}, TwoWay: s.TwoWay, PerSecond: s.PerSecond, CreatedAt: s.CreatedAt}
	for _, d := range s.Defaults {
		w.Defaults = append(w.Defaults, client.SenderDefault{Kind: string(d.Kind), Country: d.Country})
		w.Default = w.Default || d == sender.Default{}
	}
	for country, id := range s.Registrations {
		w.Registrations[country] = id
	}
	return w
}

func (a *API) senders(c *gin.Context) {
	l := client.List[client.Sender]{Items: []client.Sender{}}
	for _, s := range a.engine.Roster.Book().Senders {
		l.Items = append(l.Items, wireSender(s))
	}
	// The default first: it is what one looks for.
	slices.SortStableFunc(l.Items, func(a, b client.Sender) int {
		switch {
		case a.Default == b.Default:
			return 0
		case a.Default:
			return -1
		}
		return 1
	})
	c.JSON(http.StatusOK, l)
}

func (a *API) putSender(c *gin.Context) {
	n, err := read[client.NewSender](c)
	named := c.Param("sender")
	if err == nil && named != "" && n.Sender != named {
		err = fault.New("sender", "it is not the one in the address", named)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	record := store.Sender{ID: n.Sender, Gateways: n.Gateways, Countries: upper(n.Countries), Registrations: map[string]string{}, TwoWay: n.TwoWay, PerSecond: n.PerSecond}
	for country, id := range n.Registrations {
		record.Registrations[strings.ToUpper(country)] = strings.TrimSpace(id)
	}
	for _, d := range n.Defaults {
		record.Defaults = append(record.Defaults, sender.Default{Kind: pace.Kind(d.Kind), Country: strings.ToUpper(d.Country)})
	}
	if all := (sender.Default{}); n.Default && !slices.Contains(record.Defaults, all) {
		record.Defaults = append(record.Defaults, all)
	}
	s, err := a.engine.Roster.PutSender(c.Request.Context(), record, named != "", a.engine.Now())
	if err != nil {
		a.refuse(c, err)
		return
	}
	status := http.StatusCreated
	if named != "" {
		status = http.StatusOK
	}
	c.JSON(status, wireSender(s))
}

func upper(all []string) []string {
	list := make([]string, len(all))
	for i, s := range all {
		list[i] = strings.ToUpper(s)
	}
	return list
}

func (a *API) removeSender(c *gin.Context) {
	if err := a.engine.Roster.RemoveSender(c.Request.Context(), c.Param("sender")); err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func wireRule(rule sender.Rule, by *store.CountryRule) client.Rule {
	w := client.Rule{Country: rule.Country, Name: phone.CountryName(rule.Country), Alphanumeric: string(rule.Alphanumeric), Numeric: string(rule.Numeric),
		ShortCode: string(rule.ShortCode), Texts: string(rule.Texts), Links: string(rule.Links), Quiet: []client.Quiet{}, OptOut: rule.OptOut,
		Date: rule.Date, Origin: rule.Origin, Note: rule.Note}
	for _, q := range rule.Quiet {
		kinds := make([]string, len(q.Kinds))
		for i, k := range q.Kinds {
			kinds[i] = string(k)
		}
		w.Quiet = append(w.Quiet, client.Quiet{Kinds: kinds, From: q.From, To: q.To, Days: append([]string{}, q.Days...)})
	}
	if by != nil {
		w.ChangedBy, w.ChangedAt = by.ChangedBy, &by.ChangedAt
	}
	return w
}

func (a *API) rules(c *gin.Context) {
	book := a.engine.Roster.Book()
	l := client.List[client.Rule]{Items: []client.Rule{}}
	for _, country := range book.Ruled() {
		l.Items = append(l.Items, wireRule(book.Rule(country)))
	}
	c.JSON(http.StatusOK, l)
}

// country reads the country in the address.
func (a *API) country(c *gin.Context) (string, bool) {
	country := strings.ToUpper(c.Param("country"))
	if !phone.IsCountry(country) {
		a.refuse(c, store.ErrNotFound)
		return "", false
	}
	return country, true
}

func (a *API) rule(c *gin.Context) {
	if country, ok := a.country(c); ok {
		c.JSON(http.StatusOK, wireRule(a.engine.Roster.Book().Rule(country)))
	}
}

func (a *API) putRule(c *gin.Context) {
	country, ok := a.country(c)
	if !ok {
		return
	}
	n, err := read[client.Rule](c)
	if err == nil && n.Country != country {
		err = fault.New("country", "it is not the one in the address", country)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	rule := sender.Rule{Country: country, Alphanumeric: sender.Access(n.Alphanumeric), Numeric: sender.Access(n.Numeric), ShortCode: sender.Access(n.ShortCode),
		Texts: sender.Access(n.Texts), Links: sender.Access(n.Links), OptOut: n.OptOut, Date: n.Date, Origin: n.Origin, Note: n.Note}
	for _, q := range n.Quiet {
		quiet := sender.Quiet{From: q.From, To: q.To, Days: q.Days}
		for _, k := range q.Kinds {
			quiet.Kinds = append(quiet.Kinds, pace.Kind(k))
		}
		rule.Quiet = append(rule.Quiet, quiet)
	}
	if err := a.engine.Roster.PutRules(c.Request.Context(), []sender.Rule{rule}, keyOf(c).Name, a.engine.Now()); err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, wireRule(a.engine.Roster.Book().Rule(country)))
}

func (a *API) resetRule(c *gin.Context) {
	country, ok := a.country(c)
	if !ok {
		return
	}
	if err := a.engine.Roster.DropRule(c.Request.Context(), country); err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (a *API) exportRules(c *gin.Context) {
	book := a.engine.Roster.Book()
	var rules []sender.Rule
	for _, country := range book.Ruled() {
		rule, _ := book.Rule(country)
		rules = append(rules, rule)
	}
	source, err := sender.WriteRules(rules)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, client.RulesFile{Source: string(source)})
}

func (a *API) importRules(c *gin.Context) {
	f, err := read[client.RulesFile](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	rules, err := sender.ReadRules([]byte(f.Source))
	if err != nil {
		a.refuse(c, fault.New("source", fault.Plainly(err, sender.ErrRule), "a file of rules as an export has it"))
		return
	}
	book := a.engine.Roster.Book()
	known := book.Ruled()
	change := client.RulesChange{New: []string{}, Changed: []string{}}
	var differ []sender.Rule
	for _, rule := range rules {
		now, _ := book.Rule(rule.Country)
		before, _ := sender.WriteRules([]sender.Rule{now})
		after, _ := sender.WriteRules([]sender.Rule{rule})
		switch {
		case bytes.Equal(before, after):
			change.Unchanged++
			continue
		case slices.Contains(known, rule.Country):
			change.Changed = append(change.Changed, rule.Country)
		default:
			change.New = append(change.New, rule.Country)
		}
		differ = append(differ, rule)
	}
	if c.Query("dry_run") != "true" {
		if err := a.engine.Roster.PutRules(c.Request.Context(), differ, keyOf(c).Name, a.engine.Now()); err != nil {
			a.refuse(c, err)
			return
		}
	}
	c.JSON(http.StatusOK, change)
}

func wireTemplate(record store.Template) client.Template {
	t := record.Template
	w := client.Template{Name: t.Name, About: t.About, Kind: string(t.Kind), Sender: t.Sender, Cure: string(t.Cure), Language: t.Language, Texts: t.Texts,
		Fields: map[string]client.TemplateField{}, Registered: []client.Registration{}, ChangedAt: record.ChangedAt}
	for name, f := range t.Fields {
		w.Fields[name] = client.TemplateField{As: string(f.As), Only: string(f.Only), Most: f.Most}
	}
	for _, r := range t.Registered {
		w.Registered = append(w.Registered, client.Registration{Country: r.Country, Gateway: r.Gateway, ID: r.ID, Wording: r.Wording})
	}
	must, may := t.Needs()
	w.Must, w.May = append([]string{}, must...), append([]string{}, may...)
	source, _ := t.Write() // it came from such a file
	w.Source = string(source)
	return w
}

func (a *API) templates(c *gin.Context) {
	l := client.List[client.Template]{Items: []client.Template{}}
	for _, t := range a.engine.Roster.Book().Templates() {
		l.Items = append(l.Items, wireTemplate(t))
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) template(c *gin.Context) {
	t, ok := a.engine.Roster.Book().Template(c.Param("name"))
	if !ok {
		a.refuse(c, store.ErrNotFound)
		return
	}
	c.JSON(http.StatusOK, wireTemplate(t))
}

func (a *API) putTemplate(c *gin.Context) {
	f, err := read[client.TemplateFile](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	named := c.Param("name")
	t, err := template.Read([]byte(f.Source))
	if err != nil {
		a.refuse(c, fault.New("source", err.Error(), "a template as the documentation describes it"))
		return
	}
	if named != "" && t.Name != named {
		a.refuse(c, fault.New("source", "name "+t.Name+" is not the one in the address", named))
		return
	}
	if err := a.engine.Roster.PutTemplate(c.Request.Context(), t, named != "", a.engine.Now()); err != nil {
		a.refuse(c, err)
		return
	}
	stored, _ := a.engine.Roster.Book().Template(t.Name)
	if named != "" {
		c.JSON(http.StatusOK, wireTemplate(stored))
		return
	}
	c.Header("Location", "/v1/templates/"+t.Name)
	c.JSON(http.StatusCreated, wireTemplate(stored))
}

func (a *API) removeTemplate(c *gin.Context) {
	if err := a.engine.Roster.RemoveTemplate(c.Request.Context(), c.Param("name")); err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func wirePrices(g *roster.Gateway, p roster.Prices) (client.PriceList, error) {
	w := client.PriceList{Gateway: g.Name, Prices: []client.Price{}, ChangedBy: p.ChangedBy}
	if !p.ChangedAt.IsZero() {
		w.ChangedAt = &p.ChangedAt
	}
	for _, e := range p.Entries {
		w.Prices = append(w.Prices, explain.Price(e))
	}
	var source bytes.Buffer
	err := price.WriteCSV(&source, p.Entries)
	w.Source = source.String()
	return w, err
}

func (a *API) prices(c *gin.Context) {
	g := a.engine.Roster.ByName(c.Param("name"))
	if g == nil {
		a.refuse(c, store.ErrNotFound)
		return
	}
	a.answerPrices(c, g, a.engine.Roster.Book().Prices(g.ID))
}

func (a *API) answerPrices(c *gin.Context, g *roster.Gateway, p roster.Prices) {
	w, err := wirePrices(g, p)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, w)
}

func (a *API) putPrices(c *gin.Context) {
	g := a.engine.Roster.ByName(c.Param("name"))
	if g == nil {
		a.refuse(c, store.ErrNotFound)
		return
	}
	f, err := read[client.PricesFile](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	entries, err := price.ReadCSV(strings.NewReader(f.Source))
	if err != nil {
		a.refuse(c, fault.New("source", strings.TrimPrefix(fault.Plainly(err, price.ErrList), price.ErrList.Error()+": "), "a price list in CSV as the documentation describes it"))
		return
	}
	if c.Query("dry_run") == "true" {
		a.answerPrices(c, g, roster.Prices{Entries: entries})
		return
	}
	if err := a.engine.Roster.PutPrices(c.Request.Context(), g.ID, entries, keyOf(c).Name, a.engine.Now()); err != nil {
		a.refuse(c, err)
		return
	}
	a.answerPrices(c, g, a.engine.Roster.Book().Prices(g.ID))
}
