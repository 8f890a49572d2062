package e2e

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/client"
)

// A batch says when it will end, whatever holds it back, before it is launched and while it
// goes; nothing changes by asking.
func TestForecastOfABatch(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	list := func(n int) []byte {
		var b strings.Builder
		b.WriteString("mobile,name\n")
		for i := range n {
			fmt.Fprintf(&b, "+4477009%05d,Passenger %d\n", i, i)
		}
		return []byte(b.String())
	}
	const rows = 200
	one := h.batched(list(rows), client.BatchWants{Text: "Hello {name}", Repeats: true})
	in := func(d time.Duration) *time.Time { at := time.Now().Add(d); return &at }
	for name, c := range map[string]struct {
		l     client.Launch
		lasts time.Duration
		left  int64
		waits int
		bound string
	}{
		"as fast as the gateway goes": {lasts: rows * time.Second / 50, bound: "gateway harbourline"},
		"at a pace":                   {l: client.Launch{Pace: "10/s"}, lasts: 20 * time.Second, bound: "pace " + one.ID},
		"evenly":                      {l: client.Launch{Evenly: in(time.Hour)}, lasts: time.Hour, bound: "pace " + one.ID},
		"evenly from later on": {
			l: client.Launch{StartsAt: in(time.Hour), Evenly: in(90 * time.Minute)}, lasts: 30 * time.Minute, bound: "pace " + one.ID,
		},
		"until": {
			l: client.Launch{Pace: "10/s", Until: in(10 * time.Second)}, lasts: 10 * time.Second, left: 100, bound: "pace " + one.ID,
		},
		"after scouts": {l: client.Launch{Scouts: "10"}, lasts: 4 * time.Second, waits: 190, bound: "gateway harbourline"},
		"after scouts alone": {
			l: client.Launch{Scouts: "10", ScoutsAfter: "1m"}, lasts: time.Minute + 3800*time.Millisecond, bound: "gateway harbourline",
		},
	} {
		f := must[client.BatchForecast](t)(h.Client.ForecastBatch(t.Context(), one.ID, c.l))
		if f.StartsAt == nil || len(f.Bounds) == 0 {
			t.Fatalf("%s: %+v", name, f)
		}
		lasts := f.EndsAt.Sub(*f.StartsAt)
		if off := (lasts - c.lasts).Abs(); off > 3*time.Second && off > c.lasts/50 || f.Goes+f.Left != rows ||
			max(f.Left-c.left, c.left-f.Left) > 20 || f.Waiting != c.waits || f.Bounds[0].Kind+" "+f.Bounds[0].Name != c.bound {
			t.Errorf("%s: lasts %v, want %v; %+v", name, lasts, c.lasts, f)
		}
		if last := f.Curve[len(f.Curve)-1]; f.Curve[0].Gone != 0 || last.Gone != f.Goes ||
			!last.At.Equal(f.EndsAt.Truncate(time.Millisecond)) && f.Left == 0 {
			t.Errorf("%s: the curve goes to %+v", name, last)
		}
	}
	for say, l := range map[string]client.Launch{
		"there is a pace, too": {Pace: "10/s", Evenly: in(time.Hour)},
		"is before it starts":  {Evenly: in(-time.Hour)}, "no pace": {Pace: "fast"},
	} {
		var problem *client.Problem
		if _, err := h.Client.ForecastBatch(t.Context(), one.ID, l); !errors.As(err, &problem) || problem.Status != 422 ||
			!strings.Contains(err.Error(), say) {
			t.Errorf("%s: %v", say, err)
		}
	}
	if code, out, said := h.pigeon("", "batch", "forecast", one.ID, "--pace", "10/s"); code != 0 ||
		!strings.Contains(out, "200 messages in 20.0 s") ||
		!strings.Contains(out, "held back by its own pace (100%)") ||
		!strings.Contains(out, "█") {
		t.Errorf("%d\n%s%s", code, out, said)
	}

	// Launched it keeps what was forecast; a rival that waits for its time is in nobody's way, one
	// that goes is.
	one = must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{StartsAt: in(time.Hour), Pace: "40/s"}))
	f := must[client.BatchForecast](t)(h.Client.ForecastBatch(t.Context(), one.ID, client.Launch{}))
	if f.First == nil || one.Launch.Foreseen == nil || !f.First.Equal(*one.Launch.Foreseen) || f.EndsAt.Sub(*f.First).Abs() > time.Second {
		t.Errorf("launched: %+v, %v", f, one.Launch.Foreseen)
	}
	other := h.batched(list(rows+1), client.BatchWants{Text: "Hi {name}", Repeats: true})
	lasts := func() time.Duration {
		f := must[client.BatchForecast](t)(h.Client.ForecastBatch(t.Context(), other.ID, client.Launch{}))
		return f.EndsAt.Sub(*f.StartsAt)
	}
	if took := lasts(); (took - 4*time.Second).Abs() > time.Second {
		t.Errorf("beside one that waits it lasts %v", took)
	}
	rival := h.batched(list(rows+2), client.BatchWants{Text: "Ho {name}", Repeats: true})
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), rival.ID, client.Launch{Pace: "1/h"}))
	must[client.Batch](t)(h.Client.PauseBatch(t.Context(), one.ID))
	f = must[client.BatchForecast](t)(h.Client.ForecastBatch(t.Context(), one.ID, client.Launch{}))
	if !strings.Contains(f.Why, "paused") || f.Goes != rows {
		t.Errorf("paused: %+v", f)
	}
	must[client.Batch](t)(h.Client.CancelBatch(t.Context(), one.ID))
	if _, err := h.Client.ForecastBatch(t.Context(), one.ID, client.Launch{}); err == nil ||
		!strings.Contains(err.Error(), "nothing of it is to go") {
		t.Errorf("withdrawn: %v", err)
	}
	must[client.Batch](t)(h.Client.CancelBatch(t.Context(), rival.ID))
}
