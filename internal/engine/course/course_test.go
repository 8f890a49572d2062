package course

import (
	"errors"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, nil) }

var noon = time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)

// honours and plain differ in what may be done in doubt; asks can be asked.
const (
	plain   = "dialect: plain\nsubmit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"
	honours = plain + "reference: honoured\n"
	asks    = plain + "query: {request: {get: '/s/{gateway_ref}'}, reply: [{when: .status == 200, read: '{code: .body}'}]}\n"
	asksOwn = plain + "query: {request: {get: '/s/{id}'}, reply: [{when: .status == 200, read: '{code: .body}'}]}\n"
)

// house makes a course with one gateway of the dialect.
func house(t *testing.T, source string) (*Course, *roster.Gateway) {
	t.Helper()
	gateways, s := rostertest.Roster(t)
	askAfter, giveUp := 10*time.Second, time.Hour
	g := rostertest.Gateway(t, gateways, source, roster.Setup{AskAfter: &askAfter, GiveUpAfter: &giveUp})
	return &Course{Store: s, Roster: gateways, Hub: &watch.Hub{}, Now: func() time.Time { return noon }, Due: watch.NewBells()}, g
}

func TestPlan(t *testing.T) {
	t.Parallel()
	at := func(d time.Duration) *time.Time { when := noon.Add(d); return &when }
	for name, tt := range map[string]struct {
		dialect  string
		kind     string
		state    delivery.State
		ref      string
		validFor time.Duration
		askAt    *time.Time
		giveUpAt *time.Time
		refused  bool
	}{
		"being sent":                            {asks, "bulk", delivery.Sending, "", time.Hour, at(10 * time.Second), at(time.Hour), false},
		"taken, and can be asked about":         {asks, "bulk", delivery.Accepted, "g-1", time.Hour, at(10 * time.Second), at(time.Hour), false},
		"taken, and nobody can be asked":        {plain, "bulk", delivery.Accepted, "g-1", time.Hour, at(time.Hour), at(time.Hour), false},
		"taken without an id to ask by":         {asks, "bulk", delivery.Accepted, "", time.Hour, at(time.Hour), at(time.Hour), false},
		"in doubt, the reference is honoured":   {honours, "bulk", delivery.Doubtful, "", time.Hour, at(doubtPause), at(time.Hour), false},
		"in doubt, honoured, but of no use now": {honours, "bulk", delivery.Doubtful, "", -time.Second, at(doubtEnd), at(doubtEnd), false},
		"in doubt, a passcode":                  {plain, "otp", delivery.Doubtful, "", time.Minute, at(doubtPause), at(time.Hour), false},
		"in doubt, asked by our reference":      {asksOwn, "transactional", delivery.Doubtful, "", time.Hour, at(doubtAsk), at(time.Hour), false},
		"in doubt, and nothing can be done":     {plain, "transactional", delivery.Doubtful, "", time.Hour, at(doubtEnd), at(doubtEnd), false},
		"in doubt, a code refused since":        {plain, "otp", delivery.Doubtful, "", time.Minute, at(doubtEnd), at(doubtEnd), true},
		"delivered":                             {asks, "bulk", delivery.Delivered, "g-1", time.Hour, nil, at(time.Hour), false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c, g := house(t, tt.dialect)
			var before, m store.Message
			before.Standing = store.Standing{GatewayID: g.ID, State: delivery.Queued}
			m.Standing = store.Standing{GatewayID: g.ID, State: tt.state, GatewayRef: tt.ref, Attempts: 1}
			m.Kind, m.ValidUntil = tt.kind, noon.Add(tt.validFor)
			c.plan(&before, &m, delivery.Outcome{Refused: tt.refused}, noon, Step{}, store.Content{})
			if !same(m.AskAt, tt.askAt) || !same(m.GiveUpAt, tt.giveUpAt) {
				t.Errorf("asked at %v, given up at %v; want %v and %v", m.AskAt, m.GiveUpAt, tt.askAt, tt.giveUpAt)
			}
		})
	}
}

func same(a, b *time.Time) bool { return a == nil && b == nil || a != nil && b != nil && a.Equal(*b) }

func TestPlanOfTriesAndQueries(t *testing.T) {
	t.Parallel()
	c, g := house(t, asks)
	id := uuid.New()
	var sending store.Message
	sending.ID, sending.GatewayID, sending.State, sending.Attempts = id, g.ID, delivery.Sending, 3
	again := sending
	again.State = delivery.Queued
	c.plan(&sending, &again, delivery.Outcome{}, noon, Step{}, store.Content{})
	if wait := again.DueAt.Sub(noon); wait < 3*time.Second || wait > 4*time.Second {
		t.Errorf("the fourth try waits %v, want 3 to 4 s", wait)
	}
	told := 42 * time.Second
	c.plan(&sending, &again, delivery.Outcome{}, noon, Step{Wait: &told}, store.Content{})
	if wait := again.DueAt.Sub(noon); wait != 42*time.Second {
		t.Errorf("told to wait 42 s, it waits %v", wait)
	}
	// What has not moved keeps its plan.
	kept := again
	c.plan(&again, &kept, delivery.Outcome{}, noon.Add(time.Hour), Step{}, store.Content{})
	if !kept.DueAt.Equal(again.DueAt) {
		t.Errorf("the plan moved to %v", kept.DueAt)
	}
	end := noon.Add(time.Hour)
	var last time.Duration
	for asks := range 12 {
		at := AskAgain(&store.Message{Plan: store.Plan{Asks: asks, GiveUpAt: &end}}, g, noon)
		wait := at.Sub(noon)
		if wait > time.Hour || wait < last*3/4 {
			t.Errorf("query %d waits %v after %v", asks, wait, last)
		}
		last = wait
	}
	if last != time.Hour {
		t.Errorf("the last query waits %v, want until the time is over", last)
	}
}

// Nobody is told that a message was withdrawn which may have gone.
func TestCancelRefusesWhatMayHaveGone(t *testing.T) {
	t.Parallel()
	c, g := house(t, honours)
	at := time.Now().UTC().Truncate(time.Microsecond)
	accept := func() store.Message {
		var m store.Message
		m.Content = store.Content{
			ID:         store.NewID(),
			ToNumber:   "+447700900123",
			Sender:     "Lanternholm",
			Kind:       "bulk",
			Lane:       2,
			Text:       "x",
			Encoding:   "gsm7",
			Units:      1,
			Segments:   1,
			ValidUntil: at.Add(time.Hour),
			CreatedAt:  at,
		}
		m.GatewayID, m.State, m.DueAt, m.ChangedAt = g.ID, delivery.Queued, at, at
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
			if _, err := c.Record(t.Context(), c.Store, []store.Evidence{Own(m, at, claim, 1, "")}, nil); err != nil {
				t.Fatal(err)
			}
		}
		if err := c.Cancel(t.Context(), m.ID, "first"); !errors.Is(err, tt.want) {
			t.Errorf("%s: %v, want %v", name, err, tt.want)
		}
		if now, err := c.Store.Message(t.Context(), m.ID); err != nil || (now.State == delivery.Cancelled) != (tt.want == nil) {
			t.Errorf("%s: it is %s, %v", name, now.State, err)
		}
	}
	if err := c.Cancel(t.Context(), store.NewID(), "first"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("of no message: %v", err)
	}
}
