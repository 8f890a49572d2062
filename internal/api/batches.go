package api

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/charset"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/engine/batches"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

const (
	// listMost is the longest list that is read, in octets.
	listMost = 1 << 30
	// actsMost is how many of the things that were done with a batch are told.
	actsMost = 20
	// listWithin is how long a list that is uploaded may stand still.
	listWithin = 30 * time.Second
)

func (a *API) newBatch(c *gin.Context) {
	w, err := read[client.BatchWants](c)
	if err == nil && len(w.Columns) > 0 {
		err = fault.New("columns", "there are no rows yet", "columns once there are rows")
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	one, err := a.engine.Batches.Create(c.Request.Context(), keyOf(c), w.Name, wantsOf(w))
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Header("Location", "/v1/batches/"+one.ID.String())
	c.JSON(http.StatusCreated, wireBatch(one))
}

func wantsOf(w client.BatchWants) batch.Wants {
	return batch.Wants{
		Text:       w.Text,
		Template:   w.Template,
		Sender:     w.Sender,
		Kind:       w.Kind,
		Gateway:    w.Gateway,
		ValidFor:   string(w.ValidFor),
		Country:    strings.ToUpper(w.Country),
		Language:   w.Language,
		Cure:       w.Cure,
		Flash:      w.Flash,
		Long:       w.Long,
		AtAnyHour:  w.AtAnyHour,
		SendAt:     w.SendAt,
		OwnTimes:   w.OwnTimes,
		FixedLines: w.FixedLines,
		Repeats:    w.Repeats,
		Labels:     w.Labels,
	}
}

// wireWants is what a batch sends, as the API gives it.
func wireWants(name string, w batch.Wants) client.BatchWants {
	return client.BatchWants{
		Name:       name,
		Text:       w.Text,
		Template:   w.Template,
		Sender:     w.Sender,
		Kind:       cmp.Or(w.Kind, string(pace.Bulk)),
		Gateway:    w.Gateway,
		ValidFor:   client.Span(w.ValidFor),
		Country:    w.Country,
		Language:   w.Language,
		Cure:       cmp.Or(w.Cure, w.KeyCure),
		Flash:      w.Flash,
		Long:       w.Long,
		AtAnyHour:  w.AtAnyHour,
		SendAt:     w.SendAt,
		OwnTimes:   w.OwnTimes,
		FixedLines: w.FixedLines,
		Repeats:    w.Repeats,
		Labels:     labelsOf(w.Labels),
	}
}

// labelsOf is labels as the API gives them.
func labelsOf(labels map[string]string) map[string]string {
	if labels == nil {
		return map[string]string{}
	}
	return labels
}

// wireBatch is a batch as the API gives it, without what is counted.
func wireBatch(b store.Batch) client.Batch {
	w := client.Batch{
		ID:         b.ID.String(),
		State:      string(b.State),
		Why:        b.Why,
		By:         b.ByWhom,
		Wants:      wireWants(b.Name, b.Wants),
		File:       b.Found.File,
		Recognised: b.Found.Said,
		Rows:       b.Rows,
		Checked:    b.Checked,
		Failures:   []client.Failure{},
		Spent:      []client.Money{},
		Through:    []client.Through{},
		Acts:       []client.BatchAct{},
		Waits:      []client.BatchWait{},
		CreatedAt:  b.CreatedAt,
		ChangedAt:  b.ChangedAt,
		LaunchedAt: b.LaunchedAt,
		FinishedAt: b.FinishedAt,
	}
	w.Columns = wireColumns(b.Found.Columns)
	if b.Totals != nil {
		w.Totals = wireTotals(b.Totals)
	}
	if b.LaunchedAt != nil {
		l := client.Launched{By: b.Launch.By, Approval: b.Launch.Approval}
		l.Pace, l.Seed, l.Budget = b.Pace().String(), b.Launch.Seed, b.Launch.Budget.String()
		if !b.Launch.StartsAt.IsZero() {
			l.StartsAt = &b.Launch.StartsAt
		}
		if !b.Launch.Until.IsZero() {
			l.Until = &b.Launch.Until
		}
		if !b.Launch.Evenly.IsZero() {
			l.Evenly = &b.Launch.Evenly
		}
		if !b.Launch.Foreseen.IsZero() {
			l.Foreseen = &b.Launch.Foreseen
		}
		l.Guard = &client.Guard{
			Failures: b.Launch.Guard.Failures,
			Cause:    b.Launch.Guard.Cause,
			Doubt:    b.Launch.Guard.Doubt,
			Cost:     b.Launch.Guard.Cost,
		}
		if wait := b.Launch.ScoutsWait; wait.After > 0 {
			l.ScoutsAfter, l.ScoutsLeast = client.Span(span.Format(wait.After)), wait.Least
		}
		if b.Launch.Scouts > 0 {
			l.Scouts = strconv.Itoa(b.Launch.Scouts)
		}
		w.Launch = &l
	}
	return w
}

func moneyOf(sums batch.Sums) []client.Money {
	all := []client.Money{}
	for _, m := range sums.Money() {
		all = append(all, *explain.Money(m, true))
	}
	return all
}

func wireTotals(t *batch.Totals) *client.BatchTotals {
	w := &client.BatchTotals{
		Rows: t.Rows, Goes: t.Goes, Segments: t.Segments, Warned: t.Warned, Cured: t.Cured, Changed: t.Changed, Unpriced: t.Unpriced,
		Cost: moneyOf(t.Micros), Left: []client.BatchPart{}, Countries: parts(t.ByCountry), Gateways: parts(t.ByGateway),
		Senders: parts(t.BySender), Encodings: parts(t.ByEncoding), Lengths: []client.BatchPart{}, Characters: []client.BatchPart{},
		Curable: client.BatchPart{
			Name:     string(smstext.Strong),
			Rows:     t.Curable.Rows,
			Segments: t.Curable.Segments,
			Cost:     moneyOf(t.Curable.Micros),
		},
		Dearest: samples(t.Dearest), Longest: samples(t.Longest), Random: samples(t.Random),
	}
	for _, reason := range batch.Reasons {
		if n := t.Left[reason]; n > 0 {
			w.Left = append(w.Left, client.BatchPart{Name: string(reason), Rows: n, Cost: []client.Money{}})
		}
	}
	for _, n := range slices.Sorted(maps.Keys(t.BySegments)) {
		w.Lengths = append(
			w.Lengths,
			client.BatchPart{Name: strconv.Itoa(n), Rows: t.BySegments[n], Segments: n * t.BySegments[n], Cost: []client.Money{}},
		)
	}
	for _, character := range slices.SortedFunc(maps.Keys(t.Characters), func(a, b string) int {
		return cmp.Or(cmp.Compare(t.Characters[b], t.Characters[a]), cmp.Compare(a, b))
	}) {
		w.Characters = append(w.Characters, client.BatchPart{Name: character, Rows: t.Characters[character], Cost: []client.Money{}})
	}
	return w
}

// parts lists what rows come to by something, the most first.
func parts(by map[string]batch.Part) []client.BatchPart {
	all := []client.BatchPart{}
	for name, p := range by {
		all = append(all, client.BatchPart{Name: name, Rows: p.Rows, Segments: p.Segments, Cost: moneyOf(p.Micros)})
	}
	slices.SortFunc(all, func(a, b client.BatchPart) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Name, b.Name))
	})
	return all
}

func samples(shown []batch.Shown) []client.BatchSample {
	all := []client.BatchSample{}
	for _, s := range shown {
		one := client.BatchSample{Row: s.Row, To: s.To, Text: s.Text, Segments: s.Segments}
		if s.Currency != "" {
			one.Price = explain.Money(price.Of(s.Micros, s.Currency), true)
		}
		all = append(all, one)
	}
	return all
}

// counted is a batch with what has become of its rows.
func (a *API) counted(b store.Batch, counts []store.BatchCount) client.Batch {
	w := wireBatch(b)
	if b.First == nil {
		return w
	}
	var tally delivery.Tally
	spent := batch.Sums{}
	through := map[string]map[string]int64{}
	failures := map[[2]string]int64{}
	for _, n := range counts {
		tally.Add(n.State, n.N)
		if n.Waiting {
			w.Waiting += n.N
		}
		name := a.gatewayName(n.Gateway)
		if through[name] == nil {
			through[name] = map[string]int64{}
		}
		through[name][string(n.State)] += n.N
		if went(n.State) && n.Currency != "" {
			spent[n.Currency] += n.Micros
		}
		if n.State.Final() && n.State != delivery.Delivered {
			failures[[2]string{string(n.State), string(n.Cause)}] += n.N
		}
	}
	w.Tally, w.Spent = wireTally(tally), moneyOf(spent)
	for _, name := range slices.Sorted(maps.Keys(through)) {
		w.Through = append(w.Through, client.Through{Gateway: name, States: through[name]})
	}
	for key, n := range failures {
		w.Failures = append(w.Failures, client.Failure{State: key[0], Cause: key[1], N: n, Advice: delivery.Cause(key[1]).Advice().Text})
	}
	slices.SortFunc(w.Failures, func(x, y client.Failure) int {
		return cmp.Or(cmp.Compare(y.N, x.N), cmp.Compare(x.State+x.Cause, y.State+y.Cause))
	})
	return w
}

// went reports whether a message in the state has been paid for, as far as that is known.
func went(s delivery.State) bool {
	switch s {
	case delivery.Held, delivery.Queued, delivery.Rejected, delivery.Cancelled:
		return false
	}
	return true
}

// batchID reads the id of a batch in the address, or a start or an end of one.
func (a *API) batchID(c *gin.Context) (uuid.UUID, bool) {
	given := c.Param("id")
	if id, err := uuid.Parse(given); err == nil {
		return id, true
	}
	const most = 10
	found, err := a.engine.Store.AlikeBatches(c.Request.Context(), strings.ToLower(given), most)
	if err == nil && len(found) == 1 && len(given) > 1 {
		return found[0], true
	}
	missing := &nothing{what: "batch", name: given}
	if len(found) > 1 {
		missing.what = "single batch"
		for _, id := range found {
			missing.all = append(missing.all, id.String())
		}
	}
	if err == nil {
		err = missing
	}
	a.refuse(c, err)
	return uuid.Nil, false
}

// batchOf reads the batch in the address.
func (a *API) batchOf(c *gin.Context) (store.Batch, bool) {
	id, ok := a.batchID(c)
	if !ok {
		return store.Batch{}, false
	}
	one, err := a.engine.Store.Batch(c.Request.Context(), id)
	if err != nil {
		a.refuse(c, err)
		return one, false
	}
	return one, true
}

func (a *API) batch(c *gin.Context) {
	if one, ok := a.batchOf(c); ok {
		a.answerBatch(c, http.StatusOK, one, nil)
	}
}

func (a *API) answerBatch(c *gin.Context, status int, one store.Batch, err error) {
	var w client.Batch
	var counts []store.BatchCount
	if err == nil {
		if counts, err = a.engine.Store.CountBatch(c.Request.Context(), one); err == nil {
			w = a.counted(one, counts)
		}
	}
	var acts []store.BatchAct
	if err == nil && one.First != nil {
		w.Segments, err = a.engine.Store.SegmentsOut(c.Request.Context(), one.ID)
	}
	if err == nil {
		err = a.waits(c.Request.Context(), &w, one, counts)
	}
	if err == nil {
		acts, err = a.engine.Store.BatchActs(c.Request.Context(), one.ID, actsMost)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	for _, act := range acts {
		w.Acts = append(w.Acts, client.BatchAct{At: act.At, By: act.ByWhom, Act: act.Act})
	}
	c.JSON(status, w)
}

// waits says what rows of a batch wait for.
func (a *API) waits(ctx context.Context, w *client.Batch, one store.Batch, counts []store.BatchCount) error {
	waits, err := a.engine.Batches.Waits(ctx, &one, counts)
	for _, is := range waits {
		wait := client.BatchWait{Rows: is.Rows, For: is.For, Country: is.Country}
		if !is.Until.IsZero() {
			wait.Until = &is.Until
		}
		w.Waits = append(w.Waits, wait)
	}
	return err
}

func (a *API) batches(c *gin.Context) {
	p, faults := pageOf(c)
	state := batch.State(c.Query("state"))
	if state != "" && !slices.Contains(batch.States, state) {
		faults.Add("state", fmt.Sprintf("%q is not a state of batches", state), "one of "+fault.Words(batch.States))
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.Batches(c.Request.Context(), state, p.after, p.limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.Batch]{Items: []client.Batch{}}
	found, l.Next = cut(p, found, func(b *store.Batch) uuid.UUID { return b.ID })
	counts, err := a.engine.Store.CountBatches(c.Request.Context(), found)
	if err != nil {
		a.refuse(c, err)
		return
	}
	for _, one := range found {
		l.Items = append(l.Items, a.counted(one, counts[one.ID]))
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) changeBatch(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	w, err := read[client.BatchWants](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	one, err := a.engine.Batches.Change(c.Request.Context(), id, func(name *string, wants *batch.Wants, columns []batch.Column) error {
		*name, *wants = w.Name, wantsOf(w)
		return correct(columns, w.Columns)
	})
	a.answerBatch(c, http.StatusOK, one, err)
}

// correct says what columns are for, as a person says it.
func correct(columns []batch.Column, said map[string]string) error {
	var faults fault.Faults
	for _, role := range slices.Sorted(maps.Keys(said)) {
		if !slices.Contains(sheet.Roles, sheet.Role(role)) {
			faults.Add("columns."+role, "columns have no such role", fault.Words(sheet.Roles))
			continue
		}
		at := slices.IndexFunc(columns, func(k batch.Column) bool { return k.Head == said[role] })
		if at < 0 && said[role] != "" {
			heads := make([]string, len(columns))
			for i, k := range columns {
				heads[i] = k.Head
			}
			faults.Add("columns."+role, fmt.Sprintf("there is no column %q", said[role]), "one of "+strings.Join(heads, ", "))
			continue
		}
		for i := range columns {
			if columns[i].Role == sheet.Role(role) {
				columns[i].Role, columns[i].Why = "", ""
			}
		}
		if at >= 0 {
			columns[at].Role, columns[at].Why = sheet.Role(role), "you said so"
		}
	}
	if faults != nil {
		return faults
	}
	return nil
}

// flowing reads a body for as long as something comes.
type flowing struct {
	io.Reader
	control *http.ResponseController
}

func (f flowing) Read(p []byte) (int, error) {
	f.control.SetReadDeadline(time.Now().Add(listWithin)) // where it cannot be set, that of the server holds
	return f.Reader.Read(p)
}

func (a *API) appendRows(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	hint, faults := listHint(c)
	at := -1
	if given := c.Query("at"); given != "" {
		var err error
		if at, err = strconv.Atoi(given); err != nil || at < 0 {
			faults.Add("at", fmt.Sprintf("%q is no number of rows", given), "how many rows stand before the first of these")
		}
	}
	file := c.Query("file")
	if file != "" {
		file = store.Keepable(filepath.Base(file))
	}
	var done batches.Appended
	one, ok := a.listed(c, id, faults, func(list io.Reader) (err error) {
		done, err = a.engine.Batches.Append(c.Request.Context(), id, list, hint, file, at)
		return err
	})
	if ok {
		c.JSON(http.StatusOK, client.BatchAppended{Rows: done.Rows, Already: done.Already, Mended: done.Mended, Batch: wireBatch(one)})
	}
}

// correctRows puts rows back that were left out.
func (a *API) correctRows(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	hint, faults := listHint(c)
	rows := 0
	one, ok := a.listed(c, id, faults, func(list io.Reader) (err error) {
		rows, err = a.engine.Batches.Correct(c.Request.Context(), id, list, hint)
		return err
	})
	if ok {
		c.JSON(http.StatusOK, client.BatchCorrected{Rows: rows, Batch: wireBatch(one)})
	}
}

// listHint is what is said of a list in the address.
func listHint(c *gin.Context) (hint sheet.Hint, faults fault.Faults) {
	hint = sheet.Hint{Encoding: c.Query("encoding"), Sheet: c.Query("sheet")}
	if hint.Encoding != "" && !charset.Known(hint.Encoding) {
		faults.Add("encoding", fmt.Sprintf("%q is none that is read here", hint.Encoding), "one of "+strings.Join(charset.Names, ", "))
	}
	if comma := c.Query("delimiter"); comma != "" {
		r, size := utf8.DecodeRuneInString(comma)
		if size != len(comma) {
			faults.Add("delimiter", fmt.Sprintf("%q is no single character", comma), "what stands between cells, such as ;")
		}
		hint.Delimiter = r
	}
	return hint, faults
}

// listed takes a list in, as it flows, and returns its batch; false if it was refused.
func (a *API) listed(c *gin.Context, id uuid.UUID, faults fault.Faults, take func(io.Reader) error) (one store.Batch, ok bool) {
	if faults != nil {
		a.refuse(c, faults)
		return one, false
	}
	err := a.uploaded(c, take)
	if err == nil {
		one, err = a.engine.Store.Batch(c.Request.Context(), id)
	}
	if err != nil {
		a.refuse(c, err)
	}
	return one, err == nil
}

func (a *API) rehearseBatch(c *gin.Context) {
	if id, ok := a.batchID(c); ok {
		one, err := a.engine.Batches.Rehearse(c.Request.Context(), id)
		a.answerBatch(c, http.StatusAccepted, one, err)
	}
}

func (a *API) tryBatch(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	t, err := read[client.BatchTry](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	d, err := a.engine.Batches.Example(c.Request.Context(), id, t.Row, t.To)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w, err := a.accept(c, d, c.GetHeader("Idempotency-Key"))
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusAccepted, w)
}

func (a *API) launchBatch(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	o, err := readOrders(c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	one, err := a.engine.Batches.Launch(c.Request.Context(), id, o)
	a.answerBatch(c, http.StatusAccepted, one, err)
}

// forecastBatch says how a batch is going to go: launched as is asked, or as it was.
func (a *API) forecastBatch(c *gin.Context) {
	one, ok := a.batchOf(c)
	if !ok {
		return
	}
	o, err := readOrders(c)
	var f batches.Foresight
	if err == nil {
		f, err = a.engine.Batches.Forecast(c.Request.Context(), one, o)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.BatchForecast{Goes: int64(math.Round(f.Gone)), Left: int64(math.Round(f.Left)), Before: f.Before, Waiting: f.Waiting,
		Why: f.Stands, Bounds: []client.ForecastBound{}, Curve: []client.ForecastPoint{}}
	if !f.Starts.IsZero() {
		w.StartsAt, w.EndsAt = &f.Starts, &f.Ends
	}
	if first := one.Launch.Foreseen; !first.IsZero() {
		w.First = &first
	}
	for _, b := range f.Bounds {
		w.Bounds = append(w.Bounds, client.ForecastBound{Kind: b.Kind, Name: b.Name, Share: math.Round(b.Share*1000) / 1000})
	}
	for _, p := range f.Points {
		w.Curve = append(w.Curve, client.ForecastPoint{At: p.At.Truncate(time.Millisecond), Gone: int64(math.Round(p.Gone))})
	}
	c.JSON(http.StatusOK, w)
}

// readOrders reads how a batch is to be launched.
func readOrders(c *gin.Context) (batches.Orders, error) {
	o := batches.Orders{}
	l, err := read[client.Launch](c)
	if err != nil {
		return o, err
	}
	var faults fault.Faults
	key := keyOf(c)
	o.Again, o.Seed, o.By, o.KeyID, o.KeyBudget = l.Again, l.Seed, key.Name, key.ID.String(), key.BudgetDay
	if l.Budget != "" {
		if o.Budget, err = batch.ParseBudget(l.Budget); err != nil {
			faults = append(faults, fault.Of(err)...)
		}
	}
	o.Guard = batch.UsualGuard
	if g := l.Guard; g != nil {
		o.Guard = batch.Guard{Failures: g.Failures, Cause: g.Cause, Doubt: g.Doubt, Cost: g.Cost}
	}
	o.ScoutsWait.Least = l.ScoutsLeast
	if l.ScoutsAfter != "" {
		if o.ScoutsWait.After, err = span.Parse(string(l.ScoutsAfter)); err != nil {
			faults.Add("scouts_after", fmt.Sprintf("%q is no span", l.ScoutsAfter), span.Accepted)
		}
	}
	for _, at := range []struct{ from, into *time.Time }{{l.StartsAt, &o.StartsAt}, {l.Until, &o.Until}, {l.Evenly, &o.Evenly}} {
		if at.from != nil {
			*at.into = *at.from
		}
	}
	if l.Pace != "" {
		if o.Pace, err = batch.ParsePace(l.Pace); err != nil {
			faults = append(faults, fault.Of(err)...)
		}
	}
	if l.Scouts != "" {
		share, isShare := strings.CutSuffix(strings.TrimSpace(l.Scouts), "%")
		value, err := strconv.ParseFloat(share, 64)
		switch {
		case err != nil || value < 0 || isShare && value > 100 || !isShare && (value != float64(int(value)) || value > batch.RowsMost):
			faults.Add("scouts", fmt.Sprintf("%q is no number of rows and no share", l.Scouts), "a number of rows, or a share such as 2%")
		case isShare:
			o.Share = value / 100
		default:
			o.Scouts = int(value)
		}
	}
	if faults != nil {
		return o, faults
	}
	return o, nil
}

// batchDo does something with a batch in the name of a key.
func (a *API) batchDo(do func(b *batches.Batches, ctx context.Context, id uuid.UUID, by string) (store.Batch, error)) gin.HandlerFunc {
	return func(c *gin.Context) {
		if id, ok := a.batchID(c); ok {
			one, err := do(a.engine.Batches, c.Request.Context(), id, keyOf(c).Name)
			a.answerBatch(c, http.StatusOK, one, err)
		}
	}
}

func (a *API) paceBatch(c *gin.Context) {
	setBatch(a, c, func(w client.BatchPace) string { return w.Pace }, batch.ParsePace, a.engine.Batches.SetPace)
}

func (a *API) budgetBatch(c *gin.Context) {
	setBatch(a, c, func(w client.BatchBudget) string { return w.Budget }, batch.ParseBudget, a.engine.Batches.SetBudget)
}

// setBatch sets something of a batch that is given as a word; an empty one stands for no limit.
func setBatch[W, V any](
	a *API,
	c *gin.Context,
	word func(W) string,
	parse func(string) (V, error),
	set func(ctx context.Context, id uuid.UUID, v V, by string) (store.Batch, error),
) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	w, err := read[W](c)
	var v V
	if given := word(w); err == nil && given != "" {
		v, err = parse(given)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	one, err := set(c.Request.Context(), id, v, keyOf(c).Name)
	a.answerBatch(c, http.StatusOK, one, err)
}

// batchCourse is how a batch has gone until now, to be drawn.
func (a *API) batchCourse(c *gin.Context) {
	one, ok := a.batchOf(c)
	if !ok {
		return
	}
	samples, err := a.engine.Store.BatchSamples(c.Request.Context(), one.ID)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.BatchCourse{PerSecond: a.engine.Batches.Limit(one), Points: []client.CoursePoint{}}
	for _, s := range samples {
		p := client.CoursePoint{At: s.At, States: map[string]int64{}}
		for state, n := range s.Counts {
			p.States[string(state)] = n
			if state != delivery.Held && state != delivery.Queued {
				p.Gone += n
			}
		}
		w.Points = append(w.Points, p)
	}
	c.JSON(http.StatusOK, w)
}

func (a *API) approveBatch(c *gin.Context) {
	if id, ok := a.batchID(c); ok {
		one, err := a.engine.Batches.Approve(c.Request.Context(), id, keyOf(c))
		a.answerBatch(c, http.StatusOK, one, err)
	}
}

func (a *API) retryBatch(c *gin.Context) {
	if id, ok := a.batchID(c); ok {
		one, err := a.engine.Batches.Retry(c.Request.Context(), id, keyOf(c))
		a.answerBatch(c, http.StatusCreated, one, err)
	}
}

func (a *API) removeBatch(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	if err := a.engine.Store.RemoveBatch(c.Request.Context(), id); err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (a *API) batchRows(c *gin.Context) {
	one, ok := a.batchOf(c)
	if !ok {
		return
	}
	limit, faults := limitOf(c)
	after := 0
	if given := c.Query("cursor"); given != "" {
		var err error
		if after, err = strconv.Atoi(given); err != nil || after < 0 {
			faults.Add("cursor", fmt.Sprintf("%q is not a cursor", given), "next of the page before")
		}
	}
	choice, wrong := choiceOf(c)
	if faults = append(faults, wrong...); faults != nil {
		a.refuse(c, faults)
		return
	}
	choice.Texts = true
	l := client.List[client.BatchRow]{Items: []client.BatchRow{}}
	for row, err := range a.engine.Batches.Rows(c.Request.Context(), one, after+1, choice) {
		if err != nil {
			a.refuse(c, err)
			return
		}
		if len(l.Items) == limit {
			l.Next = strconv.Itoa(l.Items[limit-1].Row)
			break
		}
		l.Items = append(l.Items, a.wireRow(one, row))
	}
	c.JSON(http.StatusOK, l)
}

// choiceOf reads which rows are chosen.
func choiceOf(c *gin.Context) (choice batches.Choice, faults fault.Faults) {
	switch given := c.Query("left_out"); {
	case given == "" || given == "false":
	case given == "true" || given == "any":
		choice.LeftOut = true
	case slices.Contains(batch.Reasons, batch.Reason(given)):
		choice.Reason = batch.Reason(given)
	default:
		faults.Add("left_out", fmt.Sprintf("%q is no reason", given), "any, or one of "+fault.Words(batch.Reasons))
	}
	if given := c.Query("state"); given != "" {
		state, err := delivery.ParseState(given)
		if err != nil {
			faults.Add("state", fmt.Sprintf("%q is not a state", given), "one of "+fault.Words(delivery.States))
		}
		choice.State = state
	}
	return choice, faults
}

// wireRow is a row as the API gives it.
func (a *API) wireRow(one store.Batch, r batches.Row) client.BatchRow {
	w := client.BatchRow{
		Row:       r.N,
		Line:      r.Line,
		Cells:     map[string]string{},
		Text:      r.Text,
		State:     string(r.State),
		Cause:     string(r.Cause),
		SettledAt: r.Settled,
	}
	for i, cell := range r.Cells {
		if i < len(one.Found.Columns) {
			w.Cells[one.Found.Columns[i].Head] = cell
		}
	}
	if r.Checked {
		k := r.Check
		w.LeftOut, w.Say, w.To, w.Country, w.Sender, w.Gateway = string(k.Reason), k.Say, k.To, k.Country, k.Sender, k.Gateway
		w.Segments = k.Segments
		if k.Segments > 0 {
			w.Encoding = string(k.Encoding())
		}
	}
	if r.Message != uuid.Nil {
		w.Message, w.Gateway = r.Message.String(), a.gatewayName(r.Gateway)
	}
	if r.Price != (price.Money{}) {
		w.Price = explain.Money(r.Price, true)
	}
	if r.Cause != "" {
		w.Advice = r.Cause.Advice().Text
	}
	return w
}

// batchResult streams a batch's rows with what became of each.
func (a *API) batchResult(c *gin.Context) {
	one, ok := a.batchOf(c)
	if !ok {
		return
	}
	choice, faults := choiceOf(c)
	format := cmp.Or(c.Query("format"), map[bool]string{true: "xlsx", false: "csv"}[one.Found.Format == string(sheet.XLSX)])
	if !slices.Contains([]string{"csv", "xlsx", "jsonl"}, format) {
		faults.Add("format", fmt.Sprintf("%q is no format", format), "csv, xlsx or jsonl; none: as the list came")
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	var book *batches.Workbook
	if format == "xlsx" && choice == (batches.Choice{}) {
		var err error
		if book, err = a.engine.Batches.Workbook(c.Request.Context(), one); err != nil {
			a.refuse(c, err)
			return
		}
		if book != nil {
			defer book.Close()
		}
	}
	name := strings.TrimSuffix(one.Found.File, filepath.Ext(one.Found.File))
	name = strings.Map(func(r rune) rune {
		if r < ' ' || r == '"' || r == '\\' || r > '~' {
			return '-'
		}
		return r
	}, cmp.Or(name, "batch"))
	if choice.LeftOut || choice.Reason != "" {
		name += "-left-out"
	}
	c.Header(
		"Content-Type",
		map[string]string{"csv": "text/csv; charset=" + cmp.Or(one.Found.Encoding, "utf-8"), "jsonl": "application/jsonl",
			"xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"}[format],
	)
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-result.%s"`, name, format))
	c.Header("Trailer", "Result")
	c.Status(http.StatusOK)
	rows := a.engine.Batches.Rows(c.Request.Context(), one, 1, choice)
	var err error
	switch {
	case book != nil:
		if err = book.Write(c.Writer, rows); errors.Is(err, sheet.ErrList) && c.Writer.Size() <= 0 { // better plain than none
			err = batches.WriteResult(c.Writer, one, format, rows)
		}
	case format == "jsonl":
		encoder := json.NewEncoder(c.Writer)
		encoder.SetEscapeHTML(false)
		for row, wrong := range rows {
			if err = wrong; err == nil {
				err = encoder.Encode(a.wireRow(one, row))
			}
			if err != nil {
				break
			}
		}
	default:
		err = batches.WriteResult(c.Writer, one, format, rows)
	}
	if err != nil { // part of it has gone: the connection says that it is not whole
		a.log.Error("writing the result of a batch", "batch", one.ID, "error", err)
		panic(http.ErrAbortHandler)
	}
	c.Writer.Header().Set("Result", "whole")
}
