package withdraw

import (
	"errors"
	"testing"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const honours = "dialect: plain\nreference: honoured\n" +
	"submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// desk is where messages are withdrawn, and how one is accepted there.
func desk(t *testing.T) (*Withdrawal, func() store.Message) {
	t.Helper()
	gateways, s := rostertest.Roster(t)
	g := rostertest.Gateway(t, gateways, honours, roster.Settings{})
	k := rostertest.Kit(gateways, s)
	return &Withdrawal{Kit: k, Course: &course.Course{Kit: k}}, func() store.Message {
		t.Helper()
		m := rostertest.Message(g, k.Now())
		if _, err := s.Accept(t.Context(), []store.Acceptance{{Message: m}}); err != nil {
			t.Fatal(err)
		}
		return m
	}
}

// Nobody is told that a message was withdrawn which may have gone.
func TestWithdrawingRefusesWhatMayHaveGone(t *testing.T) {
	t.Parallel()
	w, accept := desk(t)
	c, at := w.Course, w.Now()
	for name, tt := range map[string]struct {
		claims []delivery.State // of the first attempt
		want   error
	}{
		"never tried":                     {nil, nil},
		"known not to have been taken":    {[]delivery.State{delivery.Sending, delivery.Queued}, nil},
		"being sent":                      {[]delivery.State{delivery.Sending}, ErrGone},
		"in doubt":                        {[]delivery.State{delivery.Sending, delivery.Doubtful}, ErrMayHaveGone},
		"in doubt, and waits to go again": {[]delivery.State{delivery.Sending, delivery.Doubtful, delivery.Queued}, ErrMayHaveGone},
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

// Only what is in doubt can be stopped; then it goes no more, and what a gateway
// says of it still counts.
func TestStoppingTakesOutOfTheRunning(t *testing.T) {
	t.Parallel()
	w, accept := desk(t)
	c, s, at := w.Course, w.Store, w.Now()
	for name, tt := range map[string]struct {
		claims []delivery.State // of the first attempt
		want   error
	}{
		"never tried":                     {nil, ErrNoDoubt},
		"known not to have been taken":    {[]delivery.State{delivery.Sending, delivery.Queued}, ErrNoDoubt},
		"in doubt":                        {[]delivery.State{delivery.Sending, delivery.Doubtful}, nil},
		"in doubt, and waits to go again": {[]delivery.State{delivery.Sending, delivery.Doubtful, delivery.Queued}, nil},
		"taken":                           {[]delivery.State{delivery.Sending, delivery.Accepted}, ErrNoDoubt},
		"given up already":                {[]delivery.State{delivery.Sending, delivery.Doubtful, delivery.Unknown}, ErrNoDoubt},
	} {
		m := accept()
		say := func(source delivery.Source, claim delivery.State) {
			e := course.Own(m, at, claim, 1, "")
			e.Source = source
			if _, err := c.Record(t.Context(), s, []store.Evidence{e}, nil); err != nil {
				t.Fatal(err)
			}
		}
		for _, claim := range tt.claims {
			say(delivery.Own, claim)
		}
		if err := w.Stop(t.Context(), m.ID, "first"); !errors.Is(err, tt.want) {
			t.Errorf("%s: %v, want %v", name, err, tt.want)
		}
		if tt.want != nil {
			continue
		}
		for _, then := range []struct {
			source      delivery.Source
			claim, want delivery.State
		}{
			{delivery.Query, delivery.Queued, delivery.Unknown}, {delivery.Reply, delivery.Accepted, delivery.Unknown},
			{delivery.Receipt, delivery.Delivered, delivery.Delivered},
		} {
			say(then.source, then.claim)
			if now, err := s.Message(t.Context(), m.ID); err != nil || now.State != then.want {
				t.Errorf("%s: after %s %s it is %s, %v", name, then.source, then.claim, now.State, err)
			}
		}
	}
}
