package e2e

import (
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"calmpigeon.example/client"
)

// Whatever is changed about a list or its options: most people do not get the same text twice within a day, unless somebody
// says so.
func TestNobodyGetsTheSameTextTwiceByASideDoor(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	const n = 20
	list := func(from, n int, more ...string) []byte {
		var b strings.Builder
		b.WriteString("mobile,name\n")
		for i := range n {
			fmt.Fprintf(&b, "+447700900%03d,Ada %d\n", from+i, from+i)
		}
		b.WriteString(strings.Join(more, ""))
		return []byte(b.String())
	}
	const text = "Dear {name}, the crossing is cancelled."
	dialled := []byte(strings.ReplaceAll(string(list(100, n)), "+44", "0"))
	renamed := []byte(strings.Replace(string(list(100, n)), "name", "who", 1))
	launch := func(list []byte, w client.BatchWants) (client.Batch, error) {
		one := h.batched(list, w)
		return h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{})
	}
	first := must[client.Batch](t)(launch(list(100, n), client.BatchWants{Name: "storm", Text: text, Kind: "bulk"}))
	for name, tt := range map[string]struct {
		list  []byte
		wants client.BatchWants
		again int // people who would get it again, if it is refused
		of    int
	}{
		"without the kind":                     {list(100, n), client.BatchWants{Text: text}, n, n},
		"as another kind":                      {list(100, n), client.BatchWants{Text: text, Kind: "transactional"}, n, n},
		"with a row that is left out":          {list(100, n, "nobody,Eve\n"), client.BatchWants{Text: text}, n, n},
		"with one row more":                    {list(100, n+1), client.BatchWants{Text: text}, n, n + 1},
		"with characters cured that are not":   {list(100, n), client.BatchWants{Text: text, Cure: "safe"}, n, n},
		"with numbers as they are dialled":     {dialled, client.BatchWants{Text: text, Country: "GB"}, n, n},
		"with columns of other names":          {renamed, client.BatchWants{Text: strings.Replace(text, "name", "who", 1)}, n, n},
		"half of them and as many others":      {list(100+n/2, n), client.BatchWants{Text: text}, n / 2, n},
		"less than half of them":               {list(100+n/2+1, n), client.BatchWants{Text: text}, 0, n},
		"another text":                         {list(100, n), client.BatchWants{Text: text + " Sorry."}, 0, n},
		"the same list with a text of its own": {list(100, n), client.BatchWants{Text: text + " {name}"}, 0, n},
	} {
		t.Run(name, func(t *testing.T) {
			one := h.batched(tt.list, tt.wants)
			soon := time.Now().Add(time.Minute)
			_, err := h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{StartsAt: &soon})
			says := fmt.Sprintf("%d of %d people would get the same text again that batch storm", tt.again, tt.of)
			if (err == nil) != (tt.again == 0) || err != nil && !strings.Contains(err.Error(), says) {
				t.Errorf("got %v, want %s", err, says)
			}
			if err == nil { // so that it is in nobody's way
				must[client.Batch](t)(h.Client.CancelBatch(t.Context(), one.ID))
			}
		})
	}
	h.batchWhen(first.ID, "it is done", finished)

	// People who never got it may get it.
	slow := h.batched(list(300, n), client.BatchWants{Name: "slow", Text: text})
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), slow.ID, client.Launch{Pace: "1/h"}))
	if _, err := launch(list(300, n), client.BatchWants{Text: text}); err == nil || !strings.Contains(err.Error(), "20 of 20") {
		t.Errorf("while it waits: %v", err)
	}
	must[client.Batch](t)(h.Client.CancelBatch(t.Context(), slow.ID))
	h.batchWhen(slow.ID, "it is cancelled", finished)
	if _, err := launch(list(300, n), client.BatchWants{Text: text}); err != nil {
		t.Errorf("after it was cancelled: %v", err)
	}

	// Of several that are launched at the same time one goes.
	var together []client.Batch
	for i := range 5 {
		together = append(together, h.batched(list(500, n), client.BatchWants{Name: fmt.Sprint("at once ", i), Text: text}))
	}
	var went atomic.Int32
	var all sync.WaitGroup
	for _, one := range together {
		all.Go(func() {
			_, err := h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{})
			switch {
			case err == nil:
				went.Add(1)
			case !strings.Contains(err.Error(), "20 of 20 people"):
				t.Error(err)
			}
		})
	}
	all.Wait()
	if went.Load() != 1 {
		t.Errorf("%d of those that were launched at the same time went", went.Load())
	}
}
