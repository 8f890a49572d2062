package e2e

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"calmpigeon.example/client"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// With two instances and several batches at the same moment no budget is overrun, each is
// used up as far as it goes, and what is held back can go on when there is more.
func TestBudgetsAndASecondPerson(t *testing.T) {
	t.Parallel()
	limits := []string{"--budget-day", "30 EUR", "--approve-rows", "300", "--approve-cost", "25 EUR"}
	h := build(t, quick, func(h *house) { h.flags = limits }).with("longshore")
	other := h.beside()
	list := func(from, n int) []byte {
		var b strings.Builder
		b.WriteString("mobile,name\n")
		for i := range n {
			fmt.Fprintf(&b, "+447700%06d,n%d\n", (from+i)/80*100+(from+i)%80, i)
		}
		return []byte(b.String())
	}
	unpriced := h.batched(list(0, 5), client.BatchWants{Text: "Hello {name}"})
	if _, err := h.Client.LaunchBatch(t.Context(), unpriced.ID, client.Launch{Budget: "1 EUR"}); err == nil ||
		!strings.Contains(err.Error(), "the price is not known") {
		t.Errorf("without prices: %v", err)
	}
	must[client.PriceList](
		t,
	)(
		h.Client.PutPrices(t.Context(), "longshore", client.PricesFile{Source: "country,price,currency\n*,0.10,EUR\n"}, false),
	)
	eventually(t, "the other instance has read the prices", func() bool { // it may be the one that rehearses
		w, err := other.Client.Rehearse(t.Context(), client.Draft{To: "+447700900101", Text: "x"})
		return err == nil && len(w.Recipients) == 1 && w.Recipients[0].Price != nil
	})
	per := 500
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "longshore", client.GatewayChange{PerSecond: &per}))
	second := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "second", BudgetDay: "22 EUR"}))
	if second.BudgetDay != "22.00 EUR" {
		t.Errorf("the key: %+v", second)
	}
	clients := []*client.Client{h.Client, client.New(h.URL, second.Key), client.New(other.URL, second.Key)}

	var ids []string
	for i := range clients {
		one := h.batched(list(1000*i, 200), client.BatchWants{Name: fmt.Sprint(i), Text: "Hello {name}"})
		ids = append(ids, one.ID)
	}
	var all sync.WaitGroup
	for i, c := range clients {
		all.Go(func() {
			l := client.Launch{}
			if i == 0 {
				l.Budget = "5 EUR"
			}
			if _, err := c.LaunchBatch(t.Context(), ids[i], l); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	gone := func(b client.Batch) int64 { return b.Tally.Total - b.Waiting }
	settled := func(id string) client.Batch {
		return h.batchWhen(id, "it stands, or is over", func(b client.Batch) bool {
			return b.FinishedAt != nil || b.State == "held" && b.Tally.States["held"] == b.Waiting && b.Tally.States["queued"] == 0
		})
	}
	first := settled(ids[0])
	if gone(first) != 50 || !strings.Contains(first.Why, "its budget of 5.00 EUR is spent") {
		t.Errorf("a budget of 5 EUR: %d went; %s", gone(first), first.Why)
	}
	first = h.batchWhen(ids[0], "what was let out is sent", func(b client.Batch) bool { return b.Tally.States["queued"] == 0 })
	if first.State != "held" || len(first.Spent) != 1 || first.Spent[0].Amount > "5.00" || first.Spent[0].Amount < "4.00" {
		t.Errorf("of 5 EUR it spends %v: %s", first.Spent, first.Tally.Equation)
	}
	if n := gone(settled(ids[1])) + gone(settled(ids[2])); n != 220 {
		t.Errorf("a key's budget of 22 EUR: %d went", n)
	}
	if _, err := h.Client.BudgetBatch(t.Context(), ids[0], "5 pounds"); err == nil || !strings.Contains(err.Error(), "budget") {
		t.Errorf("no amount: %v", err)
	}
	must[client.Batch](t)(h.Client.BudgetBatch(t.Context(), ids[0], "6 EUR"))
	must[client.Batch](t)(h.Client.ResumeBatch(t.Context(), ids[0]))
	eventually(t, "ten more go", func() bool { first = settled(ids[0]); return gone(first) == 60 })
	must[client.Batch](t)(other.Client.BudgetBatch(t.Context(), ids[0], ""))
	must[client.Batch](t)(h.Client.ResumeBatch(t.Context(), ids[0]))
	eventually(t, "what the day still allows goes", func() bool { first = settled(ids[0]); return gone(first) == 80 })
	eventually(t, "it says whose budget that is", func() bool {
		return strings.Contains(settled(ids[0]).Why, "the day's budget of all batches of 30.00 EUR is spent")
	})
	taken := map[string]bool{}
	for _, e := range h.Fleet.Longshore.Entries() {
		taken[e.Ref] = true
	}
	if len(taken) > 300 || len(taken) < 250 { // some are refused
		t.Errorf("%d were taken, for 30 EUR at 0.10", len(taken))
	}

	// The next day it goes on by itself: as if yesterday had been when it was spent.
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), h.database))
	defer db.Close(t.Context())
	for _, sql := range []string{
		"UPDATE batch_spends SET day = day - 1 WHERE scope <> 'batch'",
		`UPDATE batches SET launch = jsonb_set(launch, '{stopped_on}', to_jsonb(now() - interval '25 hours')) WHERE id = '` + ids[0] + "'",
	} {
		must[pgconn.CommandTag](t)(db.Exec(t.Context(), sql))
	}
	first = h.batchWhen(ids[0], "it goes on by itself", func(b client.Batch) bool { return b.State == "running" && gone(b) == 200 })
	if last := first.Acts[len(first.Acts)-1]; last.Act != "let go on" || last.By != "" {
		t.Errorf("what was done with it: %+v", first.Acts)
	}

	// A large one waits for somebody else; two who let it go at once are one. Nobody is somebody else with a key that they
	// made themselves.
	own := must[client.Key](t)(clients[1].NewKey(t.Context(), client.NewKey{Name: "own"}))
	noted := func(err error, why string) error {
		if err != nil && strings.Contains(err.Error(), why) {
			return fmt.Errorf("a second person is needed: %w", err)
		}
		return fmt.Errorf("not for the reason that %s: %w", why, err)
	}
	for i, l := range [][]byte{list(4000, 301), list(5000, 255)} {
		large := h.batched(l, client.BatchWants{Text: "Hello {name}"})
		large = must[client.Batch](t)(clients[1].LaunchBatch(t.Context(), large.ID, client.Launch{}))
		if large.State != "held" || !strings.Contains(large.Why, "a second person: "+[]string{"301 messages", "25.50 EUR"}[i]) ||
			large.Tally.States["held"] != large.Tally.Total {
			t.Fatalf("%s: %s, %s", large.State, large.Why, large.Tally.Equation)
		}
		for what, do := range map[string]func() (client.Batch, error){
			"with the same key": func() (client.Batch, error) { return clients[2].ApproveBatch(t.Context(), large.ID) },
			"by letting it go":  func() (client.Batch, error) { return h.Client.ResumeBatch(t.Context(), large.ID) },
			"with one that it made, a while ago": func() (client.Batch, error) {
				b, err := client.New(h.URL, own.Key).ApproveBatch(t.Context(), large.ID)
				return b, noted(err, "was made by the key that launched it")
			},
			"with one that is newer than the batch": func() (client.Batch, error) {
				newer := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "newer"}))
				b, err := client.New(h.URL, newer.Key).ApproveBatch(t.Context(), large.ID)
				return b, noted(err, "is newer than the batch")
			},
		} {
			if b, err := do(); err == nil || !strings.Contains(err.Error(), "second person") {
				t.Errorf("%s: %v, %v", what, b.State, err)
			}
		}
		var mu sync.Mutex
		went := 0
		for n := range 6 {
			all.Go(func() {
				if _, err := []*client.Client{h.Client, other.Client}[n%2].ApproveBatch(t.Context(), large.ID); err == nil {
					mu.Lock()
					defer mu.Unlock()
					went++
				} else if !strings.Contains(err.Error(), "nobody has to approve it") {
					t.Error(err)
				}
			})
		}
		all.Wait()
		large = must[client.Batch](t)(h.Client.Batch(t.Context(), large.ID))
		approved := 0
		for _, act := range large.Acts {
			if act.Act == "approved" && act.By == "first" {
				approved++
			}
		}
		if went != 1 || approved != 1 || large.Launch.Approval != "" {
			t.Errorf("%d approvals, of which %d are noted: %+v", went, approved, large.Launch)
		}
	}
}

// A batch that a key launches spends from the budget of the key that made it, too.
func TestABudgetHoldsForWhatAKeyMakes(t *testing.T) {
	t.Parallel()
	h := build(t, quick).with("longshore")
	must[client.PriceList](t)(h.Client.PutPrices(t.Context(), "longshore",
		client.PricesFile{Source: "country,price,currency\n*,0.10,EUR\n"}, false))
	shop := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "shop", BudgetDay: "1 EUR"}))
	till := must[client.Key](t)(client.New(h.URL, shop.Key).NewKey(t.Context(), client.NewKey{Name: "till"}))
	if till.MadeBy == nil || *till.MadeBy != shop.ID {
		t.Errorf("the key: %+v", till)
	}
	list := "mobile,name\n"
	for i := range 30 {
		list += fmt.Sprintf("+4477009001%02d,n%d\n", i, i)
	}
	one := h.batched([]byte(list), client.BatchWants{Text: "Hello {name}"})
	must[client.Batch](t)(client.New(h.URL, till.Key).LaunchBatch(t.Context(), one.ID, client.Launch{}))
	one = h.batchWhen(one.ID, "it is held", func(b client.Batch) bool { return b.State == "held" })
	if waiting := one.Tally.States["held"]; !strings.Contains(one.Why, "the key that made its key of 1.00 EUR is spent") || waiting != 20 {
		t.Errorf("%s; %s", one.Why, one.Tally.Equation)
	}
}
