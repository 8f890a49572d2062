package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/belong"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/engine/strays"
	"calmpigeon.example/internal/store"
)

// waiting is the word for a stray that has no fate yet.
const waiting = "waiting"

var fates = []string{waiting, string(store.Weakly), string(store.Attached), string(store.Discarded)}

// strayFilter reads the choice of strays from the query string.
func (a *API) strayFilter(c *gin.Context) (f store.StrayFilter, faults fault.Faults) {
	for name, values := range c.Request.URL.Query() {
		value := values[0]
		switch name {
		case "fate":
			for word := range strings.SplitSeq(value, ",") {
				switch {
				case word == waiting:
					f.Fates = append(f.Fates, store.Astray)
				case slices.Contains(fates, word):
					f.Fates = append(f.Fates, store.Fate(word))
				default:
					faults.Add(name, fmt.Sprintf("%q is none", word), "one or more of "+fault.Words(fates)+", with commas between")
				}
			}
		case "gateway":
			f.Gateway = a.gatewayCalled(value, &faults)
		case "gateway_ref":
			f.GatewayRef = store.Keepable(value)
		case "number":
			number, err := phone.Parse(value)
			if err != nil {
				faults.Add(name, fault.Why(err), phone.Accepted+`; in an address the plus is written %2B`)
			}
			f.Number = number.String()
		case "reason":
			reason, err := belong.ParseReason(value)
			if err != nil {
				faults.Add(name, fmt.Sprintf("%q is not a reason", value), fault.Words(belong.Reasons))
			}
			f.Reason = reason
		case "message":
			id, err := uuid.Parse(value)
			if err != nil {
				faults.Add(name, fmt.Sprintf("%q is not the id of a message", value), "a whole id")
			}
			f.Message = id
		}
	}
	return f, faults
}

func (a *API) strays(c *gin.Context) {
	f, faults := a.strayFilter(c)
	p, more := pageOf(c)
	if faults = append(faults, more...); faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.Strays(c.Request.Context(), f, p.after, p.limit+1)
	var counts []store.StrayCount
	if err == nil {
		counts, err = a.engine.Store.CountStrays(c.Request.Context(), f)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	found, next := cut(p, found, func(t *store.Stray) uuid.UUID { return t.ID })
	l := client.Strays{Items: []client.Stray{}, Next: next, Counts: []client.StrayCount{}}
	for _, t := range found {
		l.Items = append(l.Items, a.wireStray(t))
	}
	for _, n := range counts {
		l.Counts = append(l.Counts, client.StrayCount{Gateway: a.gatewayName(n.GatewayID), Fate: fateWord(n.Fate),
			Reason: string(n.Reason), Advice: n.Reason.Text(), Count: n.N})
	}
	c.JSON(http.StatusOK, l)
}

func fateWord(f store.Fate) string {
	if f == store.Astray {
		return waiting
	}
	return string(f)
}

func (a *API) wireStray(t store.Stray) client.Stray {
	w := client.Stray{ID: t.ID.String(), Gateway: a.gatewayName(t.GatewayID), GatewayRef: t.GatewayRef, Reference: t.Reference, At: t.At,
		Claim: string(t.Claim), Cause: string(t.Cause), Part: t.Part, Parts: t.Parts, Code: t.Code, Note: t.Note, GatewayAt: t.GatewayAt,
		Written: t.ToNumber, Segments: t.Segments, Fate: fateWord(t.Fate), FatedAt: t.FatedAt, By: t.ByWhom, Why: t.Why,
		Reason: string(t.Reason), Advice: t.Reason.Text(), Rivals: t.Rivals, Asks: t.Asks, Answer: string(t.Answer), LookAt: t.JudgeAt}
	if strings.HasPrefix(t.Number, "+") {
		w.Number = t.Number
	}
	if t.MessageID != nil {
		w.Message, w.Attempt = t.MessageID.String(), t.Attempt
	}
	return w
}

func (a *API) stray(c *gin.Context) {
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		a.refuse(c, &nothing{what: "stray", name: c.Param("id")})
		return
	}
	t, err := a.engine.Store.Stray(c.Request.Context(), id)
	if errors.Is(err, store.ErrNotFound) {
		err = &nothing{what: "stray", name: id.String()}
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := a.wireStray(t)
	w.Candidates = []client.StrayCandidate{}
	candidates, err := a.engine.Strays.Candidates(c.Request.Context(), t)
	if err != nil {
		a.refuse(c, err)
		return
	}
	for _, one := range candidates {
		w.Candidates = append(w.Candidates, client.StrayCandidate{Message: one.MessageID.String(), To: one.To.String(),
			State: string(one.State), Attempt: one.Attempt, BeganAt: one.Began, After: one.Apart.Seconds(), SameNumber: one.SameNumber,
			Fits: one.Fits, Settled: one.Settled, GatewayRef: one.Ref})
	}
	raw := []client.Evidence{{}}
	if err := a.addRaw(c, raw, []store.Evidence{{ReceiptID: &t.ReceiptID}}); err != nil {
		a.refuse(c, err)
		return
	}
	w.Raw = raw[0].Raw
	c.JSON(http.StatusOK, w)
}

// straysDo is what is done with strays that the body names.
func (a *API) straysDo(c *gin.Context, do func(ctx context.Context, given client.StrayWish, ids []uuid.UUID, by string) error) {
	n, err := read[client.StrayWish](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	ids := idsOf("strays", n.Strays, strays.Most, &faults)
	reason(n.Why, &faults)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	if err := do(c.Request.Context(), n, ids, keyOf(c).Name); err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, client.StraysDone{Strays: len(ids)})
}

func (a *API) attachStrays(c *gin.Context) {
	a.straysDo(c, func(ctx context.Context, n client.StrayWish, ids []uuid.UUID, by string) error {
		message, err := uuid.Parse(n.Message)
		if err != nil {
			return fault.New(
				"message",
				fmt.Sprintf("%q is not the id of a message", n.Message),
				"the id of the message that they belong to",
			)
		}
		return a.engine.Strays.Attach(ctx, ids, message, by, n.Why)
	})
}

func (a *API) discardStrays(c *gin.Context) {
	a.straysDo(c, func(ctx context.Context, n client.StrayWish, ids []uuid.UUID, by string) error {
		return a.engine.Strays.Discard(ctx, ids, by, n.Why)
	})
}

func (a *API) restoreStrays(c *gin.Context) {
	a.straysDo(c, func(ctx context.Context, n client.StrayWish, ids []uuid.UUID, by string) error {
		return a.engine.Strays.Restore(ctx, ids, by, n.Why)
	})
}
