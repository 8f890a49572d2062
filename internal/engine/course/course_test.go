package course

import (
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const plain = "dialect: plain\n" +
	"submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// What has not moved keeps its times; what goes through another gateway goes at
// once, unless it may have gone already.
func TestWhatComesNext(t *testing.T) {
	t.Parallel()
	gateways, s := rostertest.Roster(t)
	first := rostertest.Gateway(t, gateways, plain, roster.Settings{})
	c := &Course{Kit: rostertest.Kit(gateways, s)}
	now := time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)
	other, gone := uuid.New(), delivery.Outcome{MayHaveGone: true}
	for name, tt := range map[string]struct {
		from  delivery.State
		step  Step
		known delivery.Outcome
		kind  pace.Kind
		due   time.Time
		to    uuid.UUID
	}{
		"it has not moved":                     {delivery.Queued, Step{}, delivery.Outcome{}, "bulk", time.Time{}, first.ID},
		"it waits for another try":             {delivery.Sending, Step{Wait: new(time.Duration)}, delivery.Outcome{}, "bulk", now, first.ID},
		"elsewhere":                            {delivery.Queued, Step{Gateway: other}, delivery.Outcome{}, "bulk", now, other},
		"elsewhere, but it may have gone":      {delivery.Queued, Step{Gateway: other}, gone, "bulk", time.Time{}, first.ID},
		"elsewhere, a code that may have gone": {delivery.Queued, Step{Gateway: other}, gone, "otp", now, other},
	} {
		var before, m store.Message
		before.Standing = store.Standing{GatewayID: first.ID, State: tt.from, Attempts: 1}
		m.Standing = store.Standing{GatewayID: first.ID, State: delivery.Queued, Attempts: 1}
		m.Kind = tt.kind
		c.next(&before, &m, tt.known, now, tt.step, store.Content{})
		if !m.DueAt.Equal(tt.due) || m.GatewayID != tt.to {
			t.Errorf("%s: due %v through %s, want %v through %s", name, m.DueAt, m.GatewayID, tt.due, tt.to)
		}
	}
}
