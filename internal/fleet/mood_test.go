package fleet

import (
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"
)

// What is asked for happens as often as asked, in its time, and the same way
// under the same seed.
func TestMisbehave(t *testing.T) {
	t.Parallel()
	sequence := func(seed uint64, m Mood) []string {
		f := New(t.Context(), seed, slog.New(slog.DiscardHandler))
		if err := f.Misbehave(m); err != nil {
			t.Fatal(err)
		}
		var said []string
		for range 40 {
			c := f.Gateway("longshore")
			c.mu.Lock()
			said = append(said, c.mood(true))
			c.mu.Unlock()
		}
		return said
	}
	count := func(said []string, how string) (n int) {
		for _, s := range said {
			if s == how {
				n++
			}
		}
		return n
	}
	if n := count(sequence(1, Mood{Gateway: "longshore", How: endFault, Times: 3}), endFault); n != 3 {
		t.Errorf("three times: %d", n)
	}
	half := sequence(1, Mood{How: endSlow, Share: 0.5})
	if n := count(half, endSlow); n < 10 || n > 30 {
		t.Errorf("half of 40: %d", n)
	}
	if !slices.Equal(half, sequence(1, Mood{How: endSlow, Share: 0.5})) {
		t.Error("the same seed gives another sequence")
	}
	if slices.Equal(half, sequence(2, Mood{How: endSlow, Share: 0.5})) {
		t.Error("another seed gives the same sequence")
	}
	if n := count(sequence(1, Mood{Gateway: "sandbank", How: endFault}), endFault); n != 0 {
		t.Errorf("of another gateway: %d", n)
	}
	if n := count(sequence(1, Mood{How: endFault, After: "1h"}), endFault); n != 0 {
		t.Errorf("in an hour: %d now", n)
	}
	ended := &Mood{How: endFault, from: time.Now().Add(-time.Minute), until: time.Now().Add(-time.Second)}
	if ended.active() {
		t.Error("it does not end")
	}
	f := New(t.Context(), 1, slog.New(slog.DiscardHandler))
	for script, want := range map[string]string{
		`[{"how":"dance"}]`:                       "accepted are slow, 500",
		`[{"how":"500","gateway":"nobody"}]`:      "none of this name",
		`[{"how":"500","share":2}]`:               "share is 0 to 1",
		`[{"how":"500","for":"soon"}]`:            "such as 5s",
		`[{"hwo":"500"}]`:                         "unknown field",
		`[{"how":"500"},{"how":"receipt eaten"}]`: "accepted are",
	} {
		if err := f.Script([]byte(script)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", script, err, want)
		}
	}
	for _, c := range f.gateways {
		if len(c.moods) > 0 {
			t.Errorf("%s took up a part of a script that was refused", c.Name)
		}
	}
}
