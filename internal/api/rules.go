package api

import (
	"bytes"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/store"
)

func wireRule(rule sender.Rule, by *store.CountryRule) client.Rule {
	w := client.Rule{
		Country:      rule.Country,
		Name:         phone.CountryName(rule.Country),
		Alphanumeric: string(rule.Alphanumeric),
		Numeric:      string(rule.Numeric),
		ShortCode: string(
			rule.ShortCode,
		),
		Texts:       string(rule.Texts),
		Links:       string(rule.Links),
		Quiet:       []client.Quiet{},
		OptOut:      rule.OptOut,
		StopAnswer:  rule.StopAnswer,
		StartAnswer: rule.StartAnswer,
		Date:        rule.Date,
		Origin:      rule.Origin,
		Note:        rule.Note,
	}
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
		a.refuse(c, &nothing{"country", c.Param("country") + phone.Meant(country), nil})
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
	rule := sender.Rule{
		Country:      country,
		Alphanumeric: sender.Access(n.Alphanumeric),
		Numeric:      sender.Access(n.Numeric),
		ShortCode:    sender.Access(n.ShortCode),
		Texts:        sender.Access(n.Texts),
		Links:        sender.Access(n.Links),
		OptOut:       n.OptOut,
		StopAnswer:   n.StopAnswer,
		StartAnswer:  n.StartAnswer,
		Date:         n.Date,
		Origin:       n.Origin,
		Note:         n.Note,
	}
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
		a.refuse(c, fault.New("source", fault.Why(err), "a file of rules as an export has it"))
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
