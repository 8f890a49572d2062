package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

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
