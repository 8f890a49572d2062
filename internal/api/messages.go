package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

func (a *API) send(c *gin.Context) {
	draft, all, err := drafts(c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	if all != nil {
		a.sendAll(c, draft, all)
		return
	}
	d := draftOf(draft)
	if draft.DryRun {
		a.rehearse(c, d)
		return
	}
	w, err := a.accept(c, d, c.GetHeader("Idempotency-Key"))
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Header("Location", "/v1/messages/"+w.ID)
	c.JSON(http.StatusAccepted, w)
}

// draftOf is a draft as it is asked for.
func draftOf(draft client.Draft) intake.Draft {
	return intake.Draft{
		To:        draft.To,
		Text:      draft.Text,
		Sender:    draft.Sender,
		Kind:      draft.Kind,
		Reference: draft.Reference,
		Gateway:   draft.Gateway,
		ValidFor:  string(draft.ValidFor),
		Country:   draft.Country,
		Template:  draft.Template,
		Fields:    draft.Fields,
		Language:  draft.Language,
		Cure:      draft.Cure,
		Flash:     draft.Flash,
		Long:      draft.Long,
		SendAt:    draft.SendAt,
		Labels:    draft.Labels,
		AtAnyHour: draft.AtAnyHour,
		ReportTo:  draft.ReportTo,
	}
}

// accept takes a message on, and returns it as the API gives it.
func (a *API) accept(c *gin.Context, d intake.Draft, token string) (client.Message, error) {
	m, said, again, err := a.engine.Intake.Accept(c.Request.Context(), keyOf(c), d, token)
	if err != nil {
		return client.Message{}, err
	}
	if again {
		m = asAccepted(m) // the first answer: what was known when it was given
	}
	w := a.wire(m)
	if m.State == delivery.Held {
		w.HeldUntil = m.HeldUntil
	}
	w.Warnings, w.Again = warnings(said), again
	return w, nil
}

// asAccepted is a message as it was when it was accepted.
func asAccepted(m store.Message) store.Message {
	m.State, m.Cause, m.Rivals, m.Attempts, m.Repeats = delivery.Queued, "", "", 0, 0
	if m.HeldUntil != nil {
		m.State = delivery.Held
	}
	m.GatewayRef, m.SettledAt, m.ChangedAt = "", nil, m.CreatedAt
	return m
}

func (a *API) gatewayName(id uuid.UUID) string {
	if g := a.engine.Roster.ByID(id); g != nil {
		return g.Name
	}
	return id.String()
}

// wire is the message as the API gives it.
func (a *API) wire(m store.Message) client.Message {
	w := client.Message{
		ID: m.ID.String(), To: m.To.String(), Sender: m.Sender, Kind: string(m.Kind), Text: m.Text, Reference: m.Reference,
		State: string(m.State), Final: m.State.Final(), Cause: string(m.Cause), Rivals: []string{},
		Encoding: m.Encoding, Units: m.Units, Segments: m.Segments, Gateway: a.gatewayName(m.GatewayID), GatewayRef: m.GatewayRef,
		Attempts: m.Attempts, Repeats: m.Repeats, CreatedAt: m.CreatedAt,
		ChangedAt: m.ChangedAt, ValidUntil: m.ValidUntil, SettledAt: m.SettledAt,
		Country: m.Country, Template: m.Template, Given: m.Given, Flash: m.Flash, Route: m.Route, Labels: m.Labels.Map(),
		ReportTo: m.ReportTo,
	}
	_, w.Row, _ = store.BatchOf(m.ID)
	known := m.Known()
	w.Weak, w.Decided = known.Weak, known.Decided
	if m.Price != (price.Money{}) {
		w.Price = explain.Money(m.Price, true)
	}
	if told := m.Told(); told.Told {
		w.Charged = explain.Money(price.Of(told.Micros, told.Currency), true)
	}
	if m.Cause != "" {
		w.Advice = m.Cause.Advice().Text
	}
	if m.Rivals != "" {
		w.Rivals = strings.Split(m.Rivals, ",")
	}
	return w
}

func (a *API) message(c *gin.Context) {
	id, ok := a.id(c)
	if !ok {
		return
	}
	m, err := a.engine.Store.Message(c.Request.Context(), id)
	if err != nil {
		a.refuse(c, err)
		return
	}
	timeline, err := a.engine.Store.Timeline(c.Request.Context(), id)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := a.wire(m)
	if err := a.addHeld(c, []client.Message{w}, func(_ int, at *time.Time) { w.HeldUntil = at }); err != nil {
		a.refuse(c, err)
		return
	}
	if w.Row > 0 {
		first, _, _ := store.BatchOf(m.ID)
		one, err := a.engine.Store.BatchFirst(c.Request.Context(), first)
		if err != nil && !errors.Is(err, store.ErrNotFound) { // one that was forgotten
			a.refuse(c, err)
			return
		}
		if err == nil {
			w.Batch = one.ID.String()
		}
	}
	whole := explain.Text(m.Text, a.weighedFor(m))
	w.Parts, w.Room = whole.Parts, whole.Room
	var known delivery.Digest
	for i := range timeline {
		e := timeline[i]
		known.Add(e.Fact())
		w.Evidence = append(w.Evidence, client.Evidence{
			ID: e.ID.String(), At: e.At, Source: string(e.Source), Claim: string(e.Claim), Cause: string(e.Cause),
			StateAfter: string(known.Outcome().State), Attempt: e.Attempt, Part: e.Part, Parts: e.Parts,
			GatewayRef: e.GatewayRef, Code: e.Code, Note: e.Note, GatewayAt: e.GatewayAt, Segments: e.Segments, Charge: charge(e),
			HasRaw: e.ExchangeID != nil || e.ReceiptID != nil, Weak: e.Weak,
		})
		if e.GatewayID != nil {
			w.Evidence[len(w.Evidence)-1].Gateway = a.gatewayName(*e.GatewayID)
		}
	}
	for i, e := range timeline {
		w.Evidence[i].Withdrawn = e.Ground != 0 && known.Withdrawn(e.Ground)
	}
	lines, err := a.engine.Store.LinesAbout(c.Request.Context(), id)
	if err != nil {
		a.refuse(c, err)
		return
	}
	for _, l := range lines {
		w.Statements = append(w.Statements, wireLine(l))
	}
	if c.Query("raw") == "true" {
		if err := a.addRaw(c, w.Evidence, timeline); err != nil {
			a.refuse(c, err)
			return
		}
	}
	c.JSON(http.StatusOK, w)
}

// charge is what a gateway says that it charged; nil if it does not.
func charge(e store.Evidence) *client.Money {
	if e.ChargeMicros == nil {
		return nil
	}
	return &client.Money{Amount: explain.Amount(*e.ChargeMicros), Currency: e.ChargeCurrency}
}

// weighedFor is how a message's text was weighed.
func (a *API) weighedFor(m store.Message) smstext.Options {
	if g := a.engine.Roster.ByID(m.GatewayID); g != nil {
		return g.Dialect.Segments.Options()
	}
	return smstext.Options{}
}

// addHeld tells until when messages are held, of those that are.
func (a *API) addHeld(c *gin.Context, messages []client.Message, tell func(i int, at *time.Time)) error {
	var held []uuid.UUID
	for _, m := range messages {
		if m.State == string(delivery.Held) {
			held = append(held, uuid.MustParse(m.ID))
		}
	}
	until, err := a.engine.Store.HeldUntil(c.Request.Context(), held)
	if err != nil {
		return err
	}
	for i, m := range messages {
		if at, ok := until[uuid.MustParse(m.ID)]; ok {
			tell(i, &at)
		}
	}
	return nil
}

// sendAt changes until when a message is held, or lets it go.
func (a *API) sendAt(c *gin.Context) {
	request, err := read[client.SendAt](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	at := a.engine.Now()
	if request.SendAt != nil {
		at = *request.SendAt
	}
	a.decide(c, func(ctx context.Context, id uuid.UUID, by string) error { return a.engine.Hold.Until(ctx, id, at, by) })
}

// cancel withdraws a message that still waits.
func (a *API) cancel(c *gin.Context) { a.decide(c, a.engine.Withdraw.Withdraw) }

func (a *API) stop(c *gin.Context) { a.decide(c, a.engine.Withdraw.Stop) }

// decide carries a person's decision about a message out, and answers with what
// has become of it.
func (a *API) decide(c *gin.Context, decision func(ctx context.Context, id uuid.UUID, by string) error) {
	id, ok := a.id(c)
	if !ok {
		return
	}
	if err := decision(c.Request.Context(), id, keyOf(c).Name); err != nil {
		a.refuse(c, err)
		return
	}
	m, err := a.engine.Store.Message(c.Request.Context(), id)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := a.wire(m)
	if err := a.addHeld(c, []client.Message{w}, func(_ int, at *time.Time) { w.HeldUntil = at }); err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, w)
}

func (a *API) addRaw(c *gin.Context, evidence []client.Evidence, timeline []store.Evidence) error {
	exchanges, receipts, err := a.engine.Store.Exchanges(c.Request.Context(), timeline)
	if err != nil {
		return err
	}
	for i, e := range timeline {
		if e.ExchangeID != nil {
			if x, ok := exchanges[*e.ExchangeID]; ok {
				evidence[i].Raw = wireExchange(x)
			}
		}
		if e.ReceiptID != nil {
			if r, ok := receipts[*e.ReceiptID]; ok {
				evidence[i].Raw = &client.Exchange{
					Purpose:       "receipt",
					Method:        r.Method,
					URL:           "/receipts/" + a.gatewayName(r.GatewayID) + "/‹callback›" + query(r.Query),
					RequestHeader: r.Header,
					RequestBody:   text(r.Body),
					ReplyHeader:   map[string]string{},
					StartedAt:     r.ReceivedAt,
				}
			}
		}
	}
	return nil
}

func query(raw string) string {
	if raw == "" {
		return ""
	}
	return "?" + raw
}

func text(b []byte) string { return strings.ToValidUTF8(string(b), "\uFFFD") }

// id reads the id of a message in the address, or a start or an end of one that no
// other has. What is none names nothing.
func (a *API) id(c *gin.Context) (uuid.UUID, bool) {
	given := c.Param("id")
	if id, err := uuid.Parse(given); err == nil {
		return id, true
	}
	const most = 10 // are told
	found, err := a.engine.Store.Alike(c.Request.Context(), given, most)
	switch {
	case err != nil:
		a.refuse(c, err)
		return uuid.Nil, false
	case len(found) == 1:
		return found[0], true
	}
	missing := &nothing{what: "message", name: given}
	if len(found) > 1 {
		missing.what = "single message"
		for _, id := range found {
			missing.all = append(missing.all, id.String())
		}
	}
	a.refuse(c, missing)
	return uuid.Nil, false
}

// filter reads the choice of messages from the query string.
func (a *API) filter(c *gin.Context, others ...string) (store.Filter, error) {
	var f store.Filter
	var faults fault.Faults
	for name, values := range c.Request.URL.Query() {
		value := values[0]
		if strings.ContainsRune(strings.Join(values, ""), 0) {
			faults.Add(name, "it holds U+0000", "text")
			continue
		}
		switch name {
		case "to":
			number, err := phone.Parse(value)
			if err != nil {
				faults.Add(name, fault.Why(err), phone.Accepted+`; in an address the plus is written %2B`)
			}
			f.To = number.String()
		case "state":
			for word := range strings.SplitSeq(value, ",") {
				state, err := delivery.ParseState(word)
				if err != nil {
					faults.Add(
						name,
						fmt.Sprintf("%q is not a state", word),
						"one or more of "+fault.Words(delivery.States)+", with commas between",
					)
				}
				f.States = append(f.States, state)
			}
		case "kind":
			kind, err := pace.ParseKind(value)
			if err != nil {
				faults.Add(name, fmt.Sprintf("%q is not a kind", value), "otp, transactional or bulk")
			}
			f.Kind = string(kind)
		case "sender":
			f.Sender = value
		case "gateway":
			f.Gateway = a.gatewayCalled(value, &faults)
		case "reference":
			f.Reference = value
		case "gateway_ref":
			f.GatewayRef = value
		case "country":
			if f.Country = strings.ToUpper(value); !phone.IsCountry(f.Country) {
				faults.Add(
					name,
					fmt.Sprintf("%q is not the code of a country (ISO 3166-1)%s", value, phone.Meant(value)),
					"a code such as GB",
				)
			}
		case "template":
			f.Template = value
		case "label":
			f.Labels = values
		case "key":
			id, err := uuid.Parse(value)
			if err != nil {
				faults.Add(name, fmt.Sprintf("%q is not the id of a key", value), "an id as pigeon key list shows it")
			}
			f.Key = id
		case "contested":
			f.Contested = value == "true"
		case "weak":
			if f.Weak = value == "true"; f.Weak && !slices.Contains(others, "limit") {
				faults.Add(name, "what rests on a weak match is not counted in tallies", "this filter where messages are listed")
			}
		case "since", "until":
			t, err := time.Parse(time.RFC3339Nano, value)
			if err != nil {
				faults.Add(name, fmt.Sprintf("%q is not a time", value), "a time as in 2026-11-15T07:40:00Z (RFC 3339)")
			}
			if name == "since" {
				f.Since = t
			} else {
				f.Until = t
			}
		}
	}
	if faults != nil {
		return f, faults
	}
	return f, nil
}

func (a *API) find(c *gin.Context) {
	f, err := a.filter(c, "cursor", "limit")
	p, faults := pageOf(c)
	if err == nil && faults != nil {
		err = faults
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	found, err := a.engine.Store.Find(c.Request.Context(), f, p.after, p.limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := a.messagePage(p, found)
	if err := a.addHeld(c, l.Items, func(i int, at *time.Time) { l.Items[i].HeldUntil = at }); err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, l)
}

// messagePage makes a page of messages of what was found.
func (a *API) messagePage(p page, found []store.Message) client.List[client.Message] {
	found, next := cut(p, found, func(m *store.Message) uuid.UUID { return m.ID })
	l := client.List[client.Message]{Items: []client.Message{}, Next: next}
	for _, m := range found {
		l.Items = append(l.Items, a.wire(m))
	}
	return l
}

// gatewayCalled is the id of the gateway whose name a filter gives.
func (a *API) gatewayCalled(name string, faults *fault.Faults) uuid.UUID {
	g := a.engine.Roster.ByName(name)
	if g == nil {
		faults.Add("gateway", fmt.Sprintf("%q is not a gateway here", name), "the name of a gateway in use")
		return uuid.Nil
	}
	return g.ID
}

func (a *API) tally(c *gin.Context) {
	f, err := a.filter(c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	t, err := a.engine.Store.Tally(c.Request.Context(), f)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, wireTally(t))
}

// wireTally is a tally as the API gives it.
func wireTally(t delivery.Tally) *client.Tally {
	w := &client.Tally{Total: t.Total, States: map[string]int64{}, Contested: t.Contested, Equation: t.String()}
	for _, s := range delivery.States {
		w.States[string(s)] = t.ByState[s]
	}
	return w
}

const (
	// lookAtOne and lookAtAll are how often a stream looks by itself, for what
	// other instances changed.
	lookAtOne = time.Second
	lookAtAll = 5 * time.Second
	// settleDown joins changes that come close together.
	settleDown = 200 * time.Millisecond
	// heartbeat keeps a silent stream open.
	heartbeat = 15 * time.Second
)

// follow streams a message after each change, until its state is final.
func (a *API) follow(c *gin.Context) {
	id, ok := a.id(c)
	if !ok {
		return
	}
	changed, end := a.engine.Hub.Message(id)
	defer end()
	m, err := a.engine.Store.Message(c.Request.Context(), id)
	if err != nil {
		a.refuse(c, err)
		return
	}
	a.stream(c, changed, lookAtOne, func(first bool) (any, bool) {
		if !first {
			now, err := a.engine.Store.Message(c.Request.Context(), id)
			if err != nil || now.ChangedAt.Equal(m.ChangedAt) && now.State == m.State {
				return nil, false
			}
			m = now
		}
		return a.wire(m), m.State.Final()
	})
}

// followAll streams a word whenever messages have changed.
func (a *API) followAll(c *gin.Context) {
	changed, end := a.engine.Hub.Every()
	defer end()
	a.stream(c, changed, lookAtAll, func(bool) (any, bool) {
		select {
		case <-time.After(settleDown):
		case <-c.Request.Context().Done():
		}
		return gin.H{"changed": true}, false
	})
}

// stream writes server-sent events: what say returns at the start, after each
// nudge and every so often, until it says that this was the last.
func (a *API) stream(c *gin.Context, changed <-chan struct{}, every time.Duration, say func(first bool) (value any, last bool)) {
	c.Header("X-Accel-Buffering", "no")
	look, beat := time.NewTicker(every), time.NewTicker(heartbeat)
	defer look.Stop()
	defer beat.Stop()
	for first := true; ; first = false {
		value, last := say(first)
		if !first && !stillAdmitted(c) {
			return
		}
		if value != nil {
			c.SSEvent("message", value)
			c.Writer.Flush()
		}
		if last {
			return
		}
		select {
		case <-changed:
		case <-look.C:
		case <-beat.C:
			if !stillAdmitted(c) {
				return
			}
			c.Writer.WriteString(": still here\n\n")
			c.Writer.Flush()
		case <-c.Request.Context().Done():
			return
		case <-a.closing:
			return
		}
	}
}
