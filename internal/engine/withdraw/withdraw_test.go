package withdraw

import (
	"errors"
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

const honours = "dialect: plain\nreference: honoured\n" +
	"submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// Nobody is told that a message was withdrawn which may have gone.
func TestWithdrawingRefusesWhatMayHaveGone(t *testing.T) {
	t.Parallel()
	gateways, s := rostertest.Roster(t)
	g := rostertest.Gateway(t, gateways, honours, roster.Settings{})
	k := rostertest.Kit(gateways, s)
	c := &course.Course{Kit: k}
	w := &Withdrawal{Kit: k, Course: c}
	at := time.Now().UTC().Truncate(time.Microsecond)
	accept := func() store.Message {
		m := rostertest.Message(g, at)
		if _, err := c.Store.Accept(t.Context(), []store.Acceptance{{Message: m}}); err != nil {
			t.Fatal(err)
		}
		return m
	}
	for name, tt := range map[string]struct {
		claims []delivery.State // of the first attempt
		want   error
	}{
		"never tried":                     {nil, nil},
		"known not to have been taken":    {[]delivery.State{delivery.Sending, delivery.Queued}, nil},
		"being sent":                      {[]delivery.State{delivery.Sending}, ErrGone},
		"in doubt":                        {[]delivery.State{delivery.Sending, delivery.Doubtful}, ErrGone},
		"in doubt, and waits to go again": {[]delivery.State{delivery.Sending, delivery.Doubtful, delivery.Queued}, ErrGone},
		"taken":                           {[]delivery.State{delivery.Sending, delivery.Accepted}, ErrGone},
	} {
		m := accept()
		for _, claim := range tt.claims {
			if _, err := c.Record(t.Context(), c.Store, []store.Evidence{course.Own(m, at, claim, 1, "")}, nil); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Withdraw(t.Context(), m.ID, "first"); !errors.Is(err, tt.want) {
			t.Errorf("%s: %v, want %v", name, err, tt.want)
		}
		if now, err := c.Store.Message(t.Context(), m.ID); err != nil || (now.State == delivery.Cancelled) != (tt.want == nil) {
			t.Errorf("%s: it is %s, %v", name, now.State, err)
		}
	}
	if err := w.Withdraw(t.Context(), store.NewID(), "first"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("of no message: %v", err)
	}
}
