package chase

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/store"
)

// A stray whose gateway did not answer is asked about again soon, and holds up no others. One that had a message and
// lost it is asked about, too.
func TestStraysAreAskedAboutUntilAnswered(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	asked := map[string]int{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ref := r.URL.Query().Get("n")
		mu.Lock()
		asked[ref]++
		first := asked[ref] == 1
		mu.Unlock()
		if ref == "r-2" && first {
			panic(http.ErrAbortHandler) // it cuts the connection
		}
		w.Write([]byte(`{"to": "+447700900123"}`))
	}))
	defer server.Close()
	d := setUp(t, honours)
	address := server.URL
	d.g = rostertest.Gateway(t, d.Roster, strings.Replace(honours, "plain", "asking", 1)+
		"query: {request: {get: /q, query: '{n: .gateway_ref}'}, "+
		"reply: [{when: .status == 200, read: '{to: .body.to, state: \"delivered\"}'}]}\n",
		roster.Settings{Address: &address})
	ground := int64(7)
	strays := make([]store.Stray, 4)
	for i := range strays {
		ask := d.at
		strays[i] = store.Stray{ID: store.NewID(), GatewayID: d.g.ID, GatewayRef: "r-" + string(rune('1'+i)), At: d.at,
			Claim: delivery.Delivered, AskAt: &ask}
	}
	strays[3].AskAt, strays[3].Fate, strays[3].Ground = nil, store.Weakly, &ground
	if err := d.store.AddStrays(t.Context(), strays); err != nil {
		t.Fatal(err)
	}
	round := func(after time.Duration) {
		t.Helper()
		d.clock = d.at.Add(after)
		for more := true; more; {
			var err error
			if more, err = d.askStrays(t.Context(), d.g); err != nil {
				t.Fatal(err)
			}
		}
	}
	told := func() (refs string) {
		t.Helper()
		page, err := d.store.Strays(t.Context(), store.StrayFilter{Gateway: d.g.ID}, uuid.Nil, 10)
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range page {
			if s.Number != "" {
				refs += s.GatewayRef + " "
			}
		}
		return refs
	}
	round(time.Second)
	if got := told(); !strings.Contains(got, "r-1") || !strings.Contains(got, "r-3") || strings.Contains(got, "r-2") {
		t.Fatalf("after the first round %q are told, of %v questions; %t", got, asked, d.g.Dialect.CanAskByRef())
	}
	round(3 * time.Second)
	if asked["r-2"] != 1 {
		t.Errorf("asked %d times at once about the one that was not answered", asked["r-2"])
	}
	if err := d.store.FreeWithdrawn(t.Context(), d.clock, []int64{ground}); err != nil {
		t.Fatal(err)
	}
	round(10 * time.Second)
	if got := told(); strings.Count(got, "r-") != 4 {
		t.Errorf("in the end %q are told, of %v questions", got, asked)
	}
	// What has a number already is not asked about when it loses its message.
	if err := d.store.FateStrays(t.Context(), d.clock, []store.Stray{{ID: strays[0].ID, Fate: store.Weakly, Ground: &ground}}); err != nil {
		t.Fatal(err)
	}
	if err := d.store.FreeWithdrawn(t.Context(), d.clock, []int64{ground}); err != nil {
		t.Fatal(err)
	}
	if round(time.Minute); asked["r-1"] != 1 {
		t.Errorf("asked %d times about one whose number is known", asked["r-1"])
	}
}
