package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/statement"
	"calmpigeon.example/internal/engine/statements"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

// takeStatement takes a gateway's own list or bill in, as it flows.
func (a *API) takeStatement(c *gin.Context) {
	hint, faults := listHint(c)
	w := statements.Wants{Name: store.Keepable(c.Query("file")), By: keyOf(c).Name, DryRun: c.Query("dry_run") == "true"}
	if n := len(w.Name); n > 200 {
		faults.Add("file", fmt.Sprintf("%d octets", n), "a name of at most 200")
	}
	if w.Name == "" {
		w.Name = "statement"
	}
	if w.Gateway = a.engine.Roster.ByName(c.Query("gateway")); w.Gateway == nil {
		faults.Add("gateway", fmt.Sprintf("%q is not a gateway here", c.Query("gateway")), "the name of the gateway whose list it is")
	}
	for name, to := range map[string]**time.Time{"from": &w.From, "until": &w.Until} {
		if given := c.Query(name); given != "" {
			t, err := time.Parse(time.RFC3339, given)
			if err != nil {
				faults.Add(name, fmt.Sprintf("%q is not a time", given), "a time as in 2026-11-15T07:40:00Z (RFC 3339)")
			}
			*to = &t
		}
	}
	if given := c.Query("mapping"); given != "" {
		w.Mapping = &statement.Mapping{}
		if err := json.Unmarshal([]byte(given), w.Mapping); err != nil {
			faults.Add("mapping", "it is not the JSON that is expected", `such as {"columns": {"id": "MsgID", "status": "State"}}`)
		}
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	var t statements.Took
	err := a.uploaded(c, func(list io.Reader) (err error) {
		t, err = a.engine.Statements.Take(c.Request.Context(), w, list, hint)
		return err
	})
	if err != nil {
		a.refuse(c, err)
		return
	}
	a.taken(c, t, w.DryRun)
}

// taken answers with a statement that was read.
func (a *API) taken(c *gin.Context, t statements.Took, dryRun bool) {
	s := client.StatementTaken{Statement: a.wireStatement(t.Statement), Again: t.Again, First: []client.StatementLine{}}
	for i, l := range t.First {
		one := client.StatementLine{N: i + 1, GatewayRef: l.GatewayRef, Reference: l.Reference, Number: l.Number, Sender: l.Sender,
			State: string(l.State), Cause: string(l.Cause), Code: l.Code, Segments: l.Segments, Wrong: l.Wrong}
		if !l.At.IsZero() {
			one.At = &l.At
		}
		if l.Charge != nil {
			one.Charge = &client.Money{Amount: explain.Amount(*l.Charge), Currency: l.Currency}
		}
		s.First = append(s.First, one)
	}
	status := http.StatusCreated
	if dryRun || t.Again {
		status = http.StatusOK
	}
	c.JSON(status, s)
}

// fetchSpan is the longest span of which a statement is fetched at once.
const fetchSpan = 31 * 24 * time.Hour

// fetchStatement fetches a gateway's statement, and takes it in.
func (a *API) fetchStatement(c *gin.Context) {
	g, ok := a.named(c)
	if !ok {
		return
	}
	w, err := read[client.StatementSpan](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	if !g.Dialect.CanFetchStatement() {
		faults.Add(
			"gateway",
			"dialect "+g.Dialect.Name+" does not say how a statement is fetched",
			"one with statement.request, or a file",
		)
	}
	switch now := a.engine.Now(); {
	case w.From.IsZero():
		faults.Add("from", "is missing", "a time as in 2026-11-15T00:00:00Z (RFC 3339)")
	case w.Until.IsZero():
		faults.Add("until", "is missing", "a time as in 2026-11-16T00:00:00Z (RFC 3339)")
	case w.From.After(now):
		faults.Add("from", "it is to come", "a time that is over")
	case !w.Until.After(w.From) || w.Until.Sub(w.From) > fetchSpan:
		faults.Add("until", "it is not after from, or more than 31 days after it", "a later time, 31 days at most")
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	t, err := a.engine.Fetcher.Fetch(c.Request.Context(), g, w.From, w.Until, keyOf(c).Name)
	if err != nil {
		a.refuse(c, err)
		return
	}
	a.taken(c, t, false)
}

// statementSchedules tells how far statements were fetched.
func (a *API) statementSchedules(c *gin.Context) {
	all, err := a.engine.Fetcher.Schedules(c.Request.Context())
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.StatementSchedule]{Items: []client.StatementSchedule{}}
	for _, s := range all {
		w := client.StatementSchedule{
			Gateway:  s.Gateway.Name,
			Every:    wireSpan(s.Gateway.StatementEvery()),
			DueAt:    s.Due,
			FailedAt: s.FailedAt,
			Failure:  s.Failure,
		}
		if through := s.Through.UTC(); !through.IsZero() {
			w.Through = &through
		}
		l.Items = append(l.Items, w)
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) wireStatement(s store.Statement) client.Statement {
	w := client.Statement{
		ID:           s.ID.String(),
		Gateway:      a.gatewayName(s.GatewayID),
		Name:         s.Name,
		State:        string(s.State),
		Recognised:   s.Found,
		Columns:      s.Head,
		Lines:        s.Lines,
		From:         s.FromAt,
		Until:        s.UntilAt,
		CreatedAt:    s.CreatedAt,
		By:           s.ByWhom,
		FinishedAt:   s.FinishedAt,
		WithdrawnAt:  s.WithdrawnAt,
		WithdrawnBy:  s.WithdrawnBy,
		WithdrawnWhy: s.WithdrawnWhy,
		Mapping: client.StatementMapping{Columns: map[string]string{}, Zone: s.Mapping.Zone, MonthFirst: s.Mapping.MonthFirst,
			Comma: s.Mapping.Comma, Currency: s.Mapping.Currency, Dialect: s.Mapping.Dialect},
	}
	for role, name := range s.Mapping.Columns {
		w.Mapping.Columns[string(role)] = name
	}
	if h := s.Totals; h != nil {
		w.Heaps = &client.StatementHeaps{
			Agrees:        h.Lines[store.Agrees],
			State:         h.Lines[store.StateDiffers],
			Money:         h.Lines[store.MoneyDiffers],
			Theirs:        h.Lines[store.OnlyTheirs],
			Ours:          h.Lines[store.OnlyOurs],
			Tied:          h.Tied,
			Unreadable:    h.Bad,
			Weak:          h.Weak,
			OurSegments:   h.OurSegments,
			TheirSegments: h.TheirSegments,
			Estimated:     sums(h.Estimated),
			Billed:        sums(h.Billed),
			Unmatched:     sums(h.Unmatched),
		}
		w.Heaps.Equation = equation(*w.Heaps)
	}
	return w
}

func sums(all map[string]int64) []client.Money {
	list := []client.Money{}
	for code, micros := range all {
		list = append(list, client.Money{Amount: explain.Amount(micros), Currency: code})
	}
	slices.SortFunc(list, func(a, b client.Money) int { return strings.Compare(a.Currency, b.Currency) })
	return list
}

// equation says how lines and messages are the sums of heaps.
func equation(h client.StatementHeaps) string {
	both := h.Agrees + h.State + h.Money
	return fmt.Sprintf(
		"%d lines = %d agree + %d state differs + %d money differs + %d only theirs; %d messages = %d with a line + %d only ours",
		both+h.Theirs,
		h.Agrees,
		h.State,
		h.Money,
		h.Theirs,
		both+h.Ours,
		both,
		h.Ours,
	)
}

// statementOf finds the statement in the address.
func (a *API) statementOf(c *gin.Context) (store.Statement, bool) {
	id, err := uuid.Parse(c.Param("id"))
	var one store.Statement
	if err == nil {
		one, err = a.engine.Store.Statement(c.Request.Context(), id)
	} else {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		err = &nothing{what: "statement", name: c.Param("id")}
	}
	if err != nil {
		a.refuse(c, err)
	}
	return one, err == nil
}

func (a *API) statement(c *gin.Context) {
	if one, ok := a.statementOf(c); ok {
		c.JSON(http.StatusOK, a.wireStatement(one))
	}
}

func (a *API) statements(c *gin.Context) {
	p, faults := pageOf(c)
	gateway := uuid.Nil
	if given := c.Query("gateway"); given != "" {
		gateway = a.gatewayCalled(given, &faults)
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.Statements(c.Request.Context(), gateway, p.after, p.limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	found, next := cut(p, found, func(s *store.Statement) uuid.UUID { return s.ID })
	l := client.List[client.Statement]{Items: []client.Statement{}, Next: next}
	for _, s := range found {
		l.Items = append(l.Items, a.wireStatement(s))
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) withdrawStatement(c *gin.Context) {
	one, ok := a.statementOf(c)
	if !ok {
		return
	}
	n, err := read[client.Why](c)
	var faults fault.Faults
	if err == nil {
		if reason(n.Why, &faults); faults != nil {
			err = faults
		}
	}
	if err == nil {
		one, err = a.engine.Statements.Withdraw(c.Request.Context(), one.ID, keyOf(c).Name, n.Why)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, a.wireStatement(one))
}

// heapOf reads which lines are asked for.
func heapOf(c *gin.Context, faults *fault.Faults) (heap store.Heap, how store.How) {
	heap, how = store.Heap(c.Query("heap")), store.How(c.Query("how"))
	if heap != "" && (heap == store.OnlyOurs || !slices.Contains(store.HeapsInOrder, heap)) {
		faults.Add("heap", fmt.Sprintf("%q is none of lines", heap), "agrees, state, money or theirs")
	}
	if how != "" &&
		!slices.Contains([]store.How{store.ByID, store.ByReference, store.ByNumber, store.NoMessage, store.Tied, store.Unreadable}, how) {
		faults.Add("how", fmt.Sprintf("%q is none", how), "id, reference, number, none, tied or unreadable")
	}
	return heap, how
}

func (a *API) statementLines(c *gin.Context) {
	after, limit, faults := numbered(c)
	heap, how := heapOf(c, &faults)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	one, ok := a.statementOf(c)
	if !ok {
		return
	}
	lines, err := a.engine.Store.LinesOf(c.Request.Context(), one.ID, heap, how, int(after), limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.StatementLine]{Items: []client.StatementLine{}}
	if len(lines) > limit {
		lines = lines[:limit]
		l.Next = strconv.Itoa(lines[limit-1].N)
	}
	for _, one := range lines {
		l.Items = append(l.Items, wireLine(one))
	}
	c.JSON(http.StatusOK, l)
}

func wireLine(l store.StatementLine) client.StatementLine {
	w := client.StatementLine{
		Statement:    l.StatementID.String(),
		N:            l.N,
		GatewayRef:   l.GatewayRef,
		Reference:    l.Reference,
		Number:       l.Number,
		Sender:       l.Sender,
		At:           l.At,
		State:        string(l.State),
		Cause:        string(l.Cause),
		Code:         l.Code,
		Segments:     l.Segments,
		Wrong:        l.Wrong,
		Heap:         string(l.Heap),
		How:          string(l.How),
		OursState:    string(l.OursState),
		OursSegments: l.OursSegments,
	}
	if l.ChargeMicros != nil {
		w.Charge = &client.Money{Amount: explain.Amount(*l.ChargeMicros), Currency: l.ChargeCurrency}
	}
	if l.OursMicros != nil {
		w.OursPrice = &client.Money{Amount: explain.Amount(*l.OursMicros), Currency: l.OursCurrency}
	}
	if l.MessageID != nil {
		w.Message = l.MessageID.String()
	}
	return w
}

func (a *API) statementOurs(c *gin.Context) {
	p, faults := pageOf(c)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	one, ok := a.statementOf(c)
	if !ok {
		return
	}
	found, err := a.engine.Store.OursOf(c.Request.Context(), one.ID, p.after, p.limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, a.messagePage(p, found))
}
