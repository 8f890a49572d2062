package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/webhook"
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
