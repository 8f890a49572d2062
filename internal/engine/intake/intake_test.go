package intake

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const plain = "dialect: plain\n" +
	"submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// desk takes messages in that nobody sends.
func desk(t *testing.T) *Intake {
	t.Helper()
	gateways, s := rostertest.Roster(t)
	rostertest.Gateway(t, gateways, plain, roster.Settings{})
	if _, err := gateways.PutSender(t.Context(), store.Sender{ID: "Lanternholm"}, false, time.Now()); err != nil {
		t.Fatal(err)
	}
	in := New(rostertest.Kit(gateways, s), Usual)
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { in.Run(ctx) })
	t.Cleanup(func() {
		stop()
		running.Wait()
	})
	return in
}

// Everything that is wrong with a draft is named at once, and nothing is written.
func TestPlanNamesAllThatIsWrong(t *testing.T) {
	t.Parallel()
	in := desk(t)
	for name, tt := range map[string]struct {
		d      Draft
		fields []string
	}{
		"nothing wrong":           {Draft{To: "+447700900123", Text: "x"}, nil},
		"dialled in its country":  {Draft{To: "07700 900123", Country: "gb", Text: "x"}, nil},
		"without a country":       {Draft{To: "07700 900123", Text: "x"}, []string{"to"}},
		"nothing at all":          {Draft{}, []string{"to", "text"}},
		"a kind that there isn't": {Draft{To: "+447700900123", Text: "x", Kind: "urgent"}, []string{"kind"}},
		"a sender not in use":     {Draft{To: "+447700900123", Text: "x", Sender: "Somebody"}, []string{"sender"}},
		"too long of use":         {Draft{To: "+447700900123", Text: "x", ValidFor: "192h"}, []string{"valid_for"}},
		"no such template":        {Draft{To: "+447700900123", Template: "none"}, []string{"template"}},
		"no such gateway":         {Draft{To: "+447700900123", Text: "x", Gateway: "none"}, []string{"gateway"}},
		"a special-rate number":   {Draft{To: "+449098790000", Text: "x"}, []string{"to"}},
		"all of it":               {Draft{To: "1", Text: "", Kind: "urgent", Gateway: "none"}, []string{"gateway", "kind", "text", "to"}},
	} {
		p, faults, err := in.Plan(tt.d, smstext.Off, Whole)
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		var fields []string
		for _, f := range faults {
			if f.Wrong == "" || f.Accepted == "" {
				t.Errorf("%s: %+v does not say what is wrong and what is accepted", name, f)
			}
			fields = append(fields, f.Field)
		}
		slices.Sort(fields)
		slices.Sort(tt.fields)
		if !slices.Equal(slices.Compact(fields), tt.fields) {
			t.Errorf("%s: wrong are %v, want %v", name, fields, tt.fields)
		}
		if tt.fields == nil && (p.Sender.ID.String() != "Lanternholm" || p.Gateway == nil || p.Weight.Segments != 1) {
			t.Errorf("%s: %+v", name, p)
		}
	}
	if tally, err := in.Store.Tally(t.Context(), store.Filter{}); err != nil || tally.Total != 0 {
		t.Errorf("%d messages were written, %v", tally.Total, err)
	}
}

// However often and at once a request is repeated with its token, there is one
// message; and another request with the same token is refused.
func TestATokenStandsForOneMessage(t *testing.T) {
	t.Parallel()
	in := desk(t)
	key := store.Key{ID: uuid.New(), Cure: string(smstext.Off)}
	draft := Draft{To: "+447700900123", Text: "Berth 3", Reference: "r-1"}
	ids := make([]uuid.UUID, 40)
	first := make([]bool, len(ids))
	var asking sync.WaitGroup
	for i := range ids {
		asking.Go(func() {
			m, _, again, err := in.Accept(t.Context(), key, draft, "token")
			if err != nil {
				t.Error(err)
			}
			ids[i], first[i] = m.ID, !again
		})
	}
	asking.Wait()
	slices.SortFunc(ids, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	if n := len(slices.Compact(ids)); n != 1 {
		t.Errorf("%d messages for one token", n)
	}
	news := 0
	for _, one := range first {
		if one {
			news++
		}
	}
	if news != 1 {
		t.Errorf("%d were told that theirs is new", news)
	}
	other := draft
	other.Text = "Berth 4"
	if _, _, _, err := in.Accept(t.Context(), key, other, "token"); !errors.Is(err, ErrReused) {
		t.Errorf("another request with it: %v", err)
	}
	var faults fault.Faults
	if _, _, _, err := in.Accept(t.Context(), key, draft, strings.Repeat("t", 201)); !errors.As(err, &faults) {
		t.Errorf("a token that is too long: %v", err)
	}
	// What was accepted once is answered as it was then, also when its sender has
	// gone out of use.
	if err := in.Roster.RemoveSender(t.Context(), "Lanternholm"); err != nil {
		t.Fatal(err)
	}
	if m, _, again, err := in.Accept(t.Context(), key, draft, "token"); err != nil || !again || m.ID != ids[0] {
		t.Errorf("repeated once more: %v, %v, %v", m.ID, again, err)
	}
	if tally, err := in.Store.Tally(t.Context(), store.Filter{}); err != nil || tally.ByState[delivery.Queued] != 1 || tally.Total != 1 {
		t.Errorf("%s, %v", tally, err)
	}
}

// One draft that cannot be kept spoils it for no other of its set.
func TestOneThatCannotBeKeptStandsAlone(t *testing.T) {
	t.Parallel()
	in := desk(t)
	var asking sync.WaitGroup
	for i := range 60 {
		asking.Go(func() {
			draft := Draft{To: "+447700900123", Text: fmt.Sprintf("text %d", i), Reference: fmt.Sprint(i)}
			if i == 31 {
				draft.Fields = map[string]any{"name": "\x00"} // jsonb keeps no U+0000
			}
			_, _, _, err := in.Accept(t.Context(), store.Key{ID: uuid.UUID{1}}, draft, "")
			if (err != nil) != (i == 31) {
				t.Errorf("draft %d: %v", i, err)
			}
		})
	}
	asking.Wait()
}
