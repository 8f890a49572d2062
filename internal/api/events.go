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
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/core/webhook"
	"calmpigeon.example/internal/engine/events"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// eventFilter reads the choice of events from the query string.
func (a *API) eventFilter(c *gin.Context) (f store.EventFilter, faults fault.Faults) {
	for name, values := range c.Request.URL.Query() {
		value := values[0]
		switch name {
		case "receiver":
			f.Receiver = a.receiverCalled(value, &faults)
		case "outcome":
			f.Outcome = outcomeOf(name, value, &faults)
		case "type":
			f.Types = typesOf(name, strings.Split(value, ","), &faults)
		case "message":
			f.Subject = messageOf(name, value, &faults)
		case "since", "until":
			at, err := time.Parse(time.RFC3339, value)
			if err != nil {
				faults.Add(name, fmt.Sprintf("%q is no time", value), "RFC 3339, such as 2026-11-15T07:40:00Z")
			}
			if name == "since" {
				f.Since = at
			} else {
				f.Until = at
			}
		case "cursor", "limit":
		default:
			faults.Add(name, "there is no such filter", "receiver, outcome, type, message, since, until, cursor, limit")
		}
	}
	return f, faults
}

func (a *API) receiverCalled(name string, faults *fault.Faults) uuid.UUID {
	if r := a.engine.Events.Find(name); r != nil {
		return r.ID
	}
	faults.Add("receiver", fmt.Sprintf("there is none called %q", name), "one of "+fault.Words(a.receiverNames()))
	return uuid.Nil
}

func (a *API) receiverNames() (all []string) {
	for _, r := range a.engine.Roster.Receivers() {
		all = append(all, r.Name)
	}
	return all
}

func outcomeOf(field, word string, faults *fault.Faults) store.Outcome {
	if word != "" && !slices.Contains(store.Outcomes, store.Outcome(word)) {
		faults.Add(field, fmt.Sprintf("%q is none", word), fault.Words(store.Outcomes))
	}
	return store.Outcome(word)
}

func typesOf(field string, chosen []string, faults *fault.Faults) []string {
	types, err := webhook.ParseTypes(chosen)
	for _, f := range fault.Of(err) {
		faults.Add(field, f.Wrong, f.Accepted)
	}
	return types
}

func messageOf(field, word string, faults *fault.Faults) uuid.UUID {
	if word == "" {
		return uuid.Nil
	}
	id, err := uuid.Parse(word)
	if err != nil {
		faults.Add(field, fmt.Sprintf("%q is not the id of a message", word), "a whole id")
	}
	return id
}

func (a *API) events(c *gin.Context) {
	f, faults := a.eventFilter(c)
	p, more := pageOf(c)
	if faults = append(faults, more...); faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.FindEvents(c.Request.Context(), f, p.after, p.limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	found, next := cut(p, found, func(e *store.Event) uuid.UUID { return e.ID })
	l := client.List[client.Event]{Next: next}
	if l.Items, err = a.wireEvents(c.Request.Context(), found); err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) event(c *gin.Context) {
	id, err := uuid.Parse(c.Param("id"))
	var found []store.Event
	if err == nil {
		found, err = a.engine.Store.Events(c.Request.Context(), []uuid.UUID{id})
	} else {
		err = nil
	}
	if err == nil && len(found) == 0 {
		err = &nothing{what: "event", name: c.Param("id")}
	}
	var all []client.Event
	if err == nil {
		all, err = a.wireEvents(c.Request.Context(), found)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, all[0])
}

func (a *API) wireEvents(ctx context.Context, found []store.Event) ([]client.Event, error) {
	all := []client.Event{}
	if len(found) == 0 {
		return all, nil
	}
	tellings, err := a.engine.Store.Tellings(ctx, found)
	if err != nil {
		return nil, err
	}
	bodies, err := a.engine.Events.Bodies(ctx, found)
	if err != nil {
		return nil, err
	}
	for _, e := range found {
		w := client.Event{
			ID:       e.ID.String(),
			Type:     string(e.Type),
			At:       e.At().UTC(),
			Subject:  e.Subject.String(),
			Tellings: []client.Telling{},
			Body:     bodies[e.ID],
		}
		for _, t := range tellings[e.ID] {
			name := t.ReceiverID.String() // it is no more
			if r := a.engine.Roster.Receiver(t.ReceiverID, ""); r != nil {
				name = r.Name
			}
			w.Tellings = append(
				w.Tellings,
				client.Telling{Receiver: name, Outcome: string(t.Outcome), Tries: t.Tries, At: t.At, Status: t.Status,
					TookMs: ms(t.Took), Error: t.Error, Answer: t.Answer, DueAt: t.DueAt},
			)
		}
		all = append(all, w)
	}
	return all, nil
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

func (a *API) eventTypes(c *gin.Context) {
	l := client.List[client.EventType]{Items: []client.EventType{}}
	for _, t := range webhook.Types {
		l.Items = append(l.Items, client.EventType{Type: string(t), When: t.Text()})
	}
	c.JSON(http.StatusOK, l)
}

// resendMost is how many events can be named in one request.
const resendMost = 1000

func (a *API) resendEvents(c *gin.Context) {
	n, err := read[client.Retelling](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	r := a.engine.Events.Find(n.Receiver)
	if r == nil {
		a.receiverCalled(n.Receiver, &faults)
	}
	f := store.EventFilter{Outcome: outcomeOf("outcome", n.Outcome, &faults), Types: typesOf("types", n.Types, &faults),
		Subject: messageOf("message", n.Message, &faults)}
	switch chosen := n.Outcome != "" || n.Message != "" || n.Since != nil || n.Until != nil || len(n.Types) > 0; {
	case len(n.Events) > 0 && chosen:
		faults.Add("events", "beside them there is a choice", "either events, or outcome, types, message, since, until")
	case len(n.Events) > 0:
		f.IDs = idsOf("events", n.Events, resendMost, &faults)
	case n.Since == nil && n.Message == "" && n.Outcome == "":
		faults.Add("events", "nothing is chosen", "ids of events, or at least one of since, message, outcome")
	}
	if n.Since != nil {
		f.Since = *n.Since
	}
	if n.Until != nil {
		f.Until = *n.Until
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	if f.Outcome != "" {
		f.Receiver = r.ID
	}
	told, err := a.engine.Events.Retell(c.Request.Context(), r, f, n.DryRun)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, client.Retold{Events: told})
}

// wireReceiver is a receiver as the API gives it. names are those of keys.
func (a *API) wireReceiver(r *roster.Receiver, h store.ReceiverHealth, names map[uuid.UUID]string) client.Receiver {
	now := a.engine.Now()
	w := client.Receiver{ID: r.ID.String(), Name: r.Name, Address: r.Address, Types: append([]string{}, r.Types...), Kinds: []string{},
		Labels: r.Labels.Map(), Reports: string(r.Reports), Keys: []string{}, AtOnce: r.AtOnce, Timeout: wireSpan(r.Timeout()),
		CreatedAt: r.CreatedAt, State: "working", ToldAt: h.ToldAt, Waiting: h.Waiting, Late: h.Late, Parked: h.Parked,
		Signing: []client.SigningUntil{}}
	for _, k := range r.Kinds {
		w.Kinds = append(w.Kinds, string(k))
	}
	for _, id := range r.Keys {
		w.Keys = append(w.Keys, names[id])
	}
	for _, s := range r.Secrets {
		if s.Until == nil || s.Until.After(now) {
			w.Signing = append(w.Signing, client.SigningUntil{Until: s.Until})
		}
	}
	switch {
	case r.PausedAt != nil:
		w.State, w.Since, w.Why = "paused", r.PausedAt, "by "+r.PausedBy
		if r.PausedWhy != "" {
			w.Why += ": " + r.PausedWhy
		}
	case h.RestUntil != nil && h.RestUntil.After(now):
		w.State, w.Since, w.Until, w.Why = "resting", h.FailedAt, h.RestUntil, h.Failure
	case h.Failures > 0:
		w.State, w.Since, w.Why = "failing", h.FailedAt, h.Failure
	}
	return w
}

// answerReceiver answers with a receiver, and its secret where that is new.
func (a *API) answerReceiver(c *gin.Context, status int, r *roster.Receiver, err error, secret bool) {
	var healths map[uuid.UUID]store.ReceiverHealth
	var names map[uuid.UUID]string
	if err == nil {
		healths, names, err = a.ofReceivers(c.Request.Context())
	}
	if errors.Is(err, store.ErrNotFound) || err == nil && r == nil {
		err = &nothing{"receiver", c.Param("name"), a.receiverNames()}
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := a.wireReceiver(r, healths[r.ID], names)
	if secret {
		w.Secret = r.Secrets[0].Secret.Reveal()
	}
	c.JSON(status, w)
}

func (a *API) ofReceivers(ctx context.Context) (map[uuid.UUID]store.ReceiverHealth, map[uuid.UUID]string, error) {
	healths, err := a.engine.Store.ReceiverHealths(ctx)
	if err != nil {
		return nil, nil, err
	}
	keys, err := a.engine.Store.Keys(ctx)
	names := make(map[uuid.UUID]string, len(keys))
	for _, k := range keys {
		names[k.ID] = k.Name
	}
	return healths, names, err
}

func (a *API) receivers(c *gin.Context) {
	healths, names, err := a.ofReceivers(c.Request.Context())
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.Receiver]{Items: []client.Receiver{}}
	for _, r := range a.engine.Roster.Receivers() {
		l.Items = append(l.Items, a.wireReceiver(r, healths[r.ID], names))
	}
	c.JSON(http.StatusOK, l)
}

// aReceiver finds the receiver in the address.
func (a *API) aReceiver(c *gin.Context) (*roster.Receiver, bool) {
	r := a.engine.Events.Find(c.Param("name"))
	if r == nil {
		a.refuse(c, &nothing{"receiver", c.Param("name"), a.receiverNames()})
	}
	return r, r != nil
}

func (a *API) receiver(c *gin.Context) {
	if r, ok := a.aReceiver(c); ok {
		a.answerReceiver(c, http.StatusOK, r, nil, false)
	}
}

// receiverSettings takes what is given of a receiver.
func (a *API) receiverSettings(ctx context.Context, n client.ReceiverSettings) (s roster.ReceiverSettings, err error) {
	var faults fault.Faults
	s = roster.ReceiverSettings{Address: n.Address, Secret: n.Secret, Types: n.Types, Kinds: n.Kinds, Labels: n.Labels, Reports: n.Reports,
		AtOnce: n.AtOnce}
	if n.Timeout != nil {
		s.Timeout = spanOf("timeout", *n.Timeout, &faults)
	}
	if n.Keys != nil {
		all, err := a.engine.Store.Keys(ctx)
		if err != nil {
			return s, err
		}
		keys := []uuid.UUID{}
		for i, name := range *n.Keys {
			at := slices.IndexFunc(all, func(k store.Key) bool { return k.Name == name && k.RevokedAt == nil })
			if at < 0 {
				faults.Add(fmt.Sprintf("keys[%d]", i), fmt.Sprintf("there is no key called %q", name), "the name of a key in use")
				continue
			}
			keys = append(keys, all[at].ID)
		}
		s.Keys = &keys
	}
	if faults != nil {
		return s, faults
	}
	return s, nil
}

func (a *API) addReceiver(c *gin.Context) {
	n, err := read[client.ReceiverSettings](c)
	var s roster.ReceiverSettings
	if err == nil {
		s, err = a.receiverSettings(c.Request.Context(), n)
	}
	var r *roster.Receiver
	if err == nil {
		r, err = a.engine.Roster.AddReceiver(c.Request.Context(), n.Name, s, a.engine.Now())
	}
	a.answerReceiver(c, http.StatusCreated, r, err, true)
}

func (a *API) changeReceiver(c *gin.Context) {
	r, ok := a.aReceiver(c)
	if !ok {
		return
	}
	n, err := read[client.ReceiverSettings](c)
	var s roster.ReceiverSettings
	if err == nil && n.Secret != nil {
		err = fault.New("secret", "it is replaced with an overlap, and not changed", "POST /v1/receivers/"+r.Name+"/rotate")
	}
	if err == nil && n.Name != "" && n.Name != r.Name {
		err = fault.New("name", "it stays", r.Name)
	}
	if err == nil {
		s, err = a.receiverSettings(c.Request.Context(), n)
	}
	if err == nil {
		r, err = a.engine.Roster.ChangeReceiver(c.Request.Context(), r.ID, s)
	}
	a.answerReceiver(c, http.StatusOK, r, err, false)
}

func (a *API) removeReceiver(c *gin.Context) {
	r, ok := a.aReceiver(c)
	if !ok {
		return
	}
	if err := a.engine.Roster.RemoveReceiver(c.Request.Context(), r.ID, a.engine.Now()); err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func (a *API) pauseReceiver(c *gin.Context) {
	r, ok := a.aReceiver(c)
	if !ok {
		return
	}
	n, err := read[client.Pause](c)
	var faults fault.Faults
	if err == nil {
		if reason(n.Why, &faults); faults != nil {
			err = faults
		}
	}
	if err == nil {
		r, err = a.engine.Roster.PauseReceiver(c.Request.Context(), r.ID, "the key "+keyOf(c).Name, n.Why, a.engine.Now())
	}
	a.answerReceiver(c, http.StatusOK, r, err, false)
}

func (a *API) resumeReceiver(c *gin.Context) {
	if r, ok := a.aReceiver(c); ok {
		r, err := a.engine.Roster.ResumeReceiver(c.Request.Context(), r.ID)
		a.answerReceiver(c, http.StatusOK, r, err, false)
	}
}

func (a *API) rotateReceiver(c *gin.Context) {
	r, ok := a.aReceiver(c)
	if !ok {
		return
	}
	n, err := read[client.Rotation](c)
	var faults fault.Faults
	overlap := new(time.Duration)
	if n.Overlap != "0" && n.Overlap != "0s" { // the one before is of no use any more
		overlap = spanOf("overlap", n.Overlap, &faults)
	}
	if err == nil && faults != nil {
		err = faults
	}
	if err == nil {
		r, err = a.engine.Roster.RotateSecret(c.Request.Context(), r.ID, n.Secret, overlap, a.engine.Now())
	}
	a.answerReceiver(c, http.StatusOK, r, err, true)
}

func (a *API) testReceiver(c *gin.Context) {
	r, ok := a.aReceiver(c)
	if !ok {
		return
	}
	if r.Follows() {
		a.refuse(c, fault.New("name", "somebody follows there, and fetches", "a receiver with an address"))
		return
	}
	t, err := a.engine.Events.Try(c.Request.Context(), r.Address, r.Signing(a.engine.Now()), r.Timeout())
	if err != nil {
		a.refuse(c, err)
		return
	}
	x := client.Exchange{StartedAt: a.engine.Now().Add(-t.Took), Purpose: "event", Method: http.MethodPost, URL: r.Address,
		RequestHeader: flat(t.Header), RequestBody: string(t.Body), Status: t.Status, ReplyHeader: flat(t.AnswerHeader),
		ReplyBody: string(t.Answer), TookMs: ms(t.Took)}
	if t.Status == 0 {
		x.Error = t.Wrong
	}
	c.JSON(http.StatusOK, client.EventTrial{Taken: t.Taken, Wrong: t.Wrong, Exchange: x})
}

func (a *API) followEvents(c *gin.Context) {
	n, err := read[client.Following](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var like *roster.Receiver
	if n.Like != "" {
		if like = a.engine.Events.Find(n.Like); like == nil {
			a.refuse(c, fault.New("like", fmt.Sprintf("there is no receiver called %q", n.Like), "one of "+fault.Words(a.receiverNames())))
			return
		}
	}
	r, err := a.engine.Roster.Follow(c.Request.Context(), like, roster.ReceiverSettings{Secret: n.Secret, Types: &n.Types, Kinds: &n.Kinds,
		Labels: n.Labels}, a.engine.Now())
	a.answerReceiver(c, http.StatusCreated, r, err, like == nil)
}

// flat is a header with one value for each name.
func flat(header http.Header) map[string]string {
	all := make(map[string]string, len(header))
	for name, values := range header {
		all[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	return all
}

const (
	fetchMost     = 25 * time.Second // that somebody waits
	fetchLook     = 100 * time.Millisecond
	deliveredMost = 2 * events.FetchMost
)

func (a *API) fetchEvents(c *gin.Context) {
	r, ok := a.aReceiver(c)
	if !ok {
		return
	}
	n, err := read[client.EventFetch](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	if !r.Follows() {
		faults.Add("name", "it has an address, and is told there", "somebody who follows: POST /v1/receivers/follow")
	}
	wait := spanOf("wait", n.Wait, &faults)
	if wait != nil && *wait > fetchMost {
		faults.Add("wait", span.Format(*wait), "at most "+span.Format(fetchMost))
	}
	done := deliveredOf(n.Done, &faults)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	ctx := c.Request.Context()
	if err := a.engine.Events.Report(ctx, r, done); err != nil {
		a.refuse(c, err)
		return
	}
	until := time.Now()
	if wait != nil {
		until = until.Add(*wait)
	}
	changed, end := a.engine.Hub.Every()
	defer end()
	for {
		signed, err := a.engine.Events.Fetch(ctx, r, events.FetchMost)
		left := time.Until(until)
		if err != nil || len(signed) > 0 || left <= 0 {
			a.answerSigned(c, signed, err)
			return
		}
		look := time.NewTimer(min(left, fetchLook))
		select {
		case <-ctx.Done():
		case <-a.closing:
			until = time.Now()
		case <-changed:
		case <-look.C:
		}
		look.Stop()
		if ctx.Err() != nil {
			c.Abort()
			return
		}
	}
}

func (a *API) answerSigned(c *gin.Context, signed []events.Signed, err error) {
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.SignedEvent]{Items: []client.SignedEvent{}}
	for _, s := range signed {
		l.Items = append(
			l.Items,
			client.SignedEvent{ID: s.EventID.String(), Seq: s.Seq, Type: string(s.Type), Subject: s.Subject.String(), Since: s.Since,
				Tries: s.Tries, Header: s.Header, Body: string(s.Body)},
		)
	}
	c.JSON(http.StatusOK, l)
}

// deliveredOf is what came of telling what was fetched.
func deliveredOf(given []client.Delivered, faults *fault.Faults) (done []store.Telling) {
	if len(given) > deliveredMost {
		faults.Add("done", fmt.Sprintf("%d of them", len(given)), fmt.Sprintf("at most %d", deliveredMost))
		return nil
	}
	for i, d := range given {
		id, err := uuid.Parse(d.ID)
		if err != nil {
			faults.Add(fmt.Sprintf("done[%d].id", i), fmt.Sprintf("%q is not an id", d.ID), "a whole id")
		}
		if d.Tries < 0 || d.Tries > 1000 || d.Status < 0 || d.Status > 999 || d.TookMs < 0 || d.TookMs > float64(time.Hour.Milliseconds()) {
			faults.Add(fmt.Sprintf("done[%d]", i), "a number is out of range", "tries up to 1000, a status of HTTP, a span up to an hour")
		}
		t := store.Telling{EventID: id, Seq: d.Seq, Since: d.Since, Outcome: store.IsTold, Tries: d.Tries, Status: d.Status,
			Took: time.Duration(d.TookMs * float64(time.Millisecond)), Error: bounded(d.Error), Answer: bounded(d.Answer)}
		if !d.Taken {
			t.Outcome = store.Waits
		}
		done = append(done, t)
	}
	return done
}

// saidMost is how much is kept of what somebody says of an answer, in octets.
const saidMost = 1000

func bounded(s string) string { return strings.ToValidUTF8(s[:min(len(s), saidMost)], "") }
