package api

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/engine/events"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

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
