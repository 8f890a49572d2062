package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/template"
)

// What is set cannot be changed without its being written down: by whom, what
// differs, and no secret. What is written down stays.
func TestChangesAreWrittenDown(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	ctx := Acting(t.Context(), "night shift", nil)
	at := now()
	g := Gateway{
		ID:             NewID(),
		Name:           "quay",
		Address:        "https://one.example",
		SealedSecrets:  []byte("secret-one"),
		SealedCallback: []byte("cb"),
		PerSecond:      5,
		CreatedAt:      at,
	}
	one := Sender{
		ID:            "One",
		Kind:          "alphanumeric",
		Gateways:      []string{},
		Countries:     []string{},
		Registrations: map[string]string{},
		CreatedAt:     at,
	}
	asked := one
	asked.Defaults = []sender.Default{{}}
	put := func(what Sender) func() error {
		return func() error { _, err := s.PutSender(ctx, what, true); return err }
	}
	steps := []struct {
		do   func() error
		want string // what, name, action and what differs, of each
	}{
		{func() error { return s.AddGateway(ctx, g) }, "gateway quay added"},
		{
			func() error { g.PerSecond = 20; err := s.ChangeGateway(ctx, g); g.Version++; return err },
			"gateway quay changed map[per_second:5] map[per_second:20]",
		},
		{func() error { err := s.ChangeGateway(ctx, g); g.Version++; return err }, ""},
		{func() error {
			g.SealedSecrets = []byte("secret-two")
			err := s.ChangeGateway(ctx, g)
			g.Version++
			return err
		},
			"gateway quay changed map[secrets:sealed] map[secrets:sealed]"},
		{func() error { return s.NoteRest(ctx, Health{GatewayID: g.ID, RestSince: &at}) }, ""},
		{put(one), "default One added; sender One added"},
		{put(asked), ""},
		{func() error {
			return s.PutRoutes(
				ctx,
				[]Route{
					{Name: "a", Position: 1, Route: route.Route{}, ChangedAt: at, ChangedBy: "x"},
					{Name: "b", Position: 2, ChangedAt: at, ChangedBy: "x"},
				},
			)
		}, "route a added; route b added"},
		{func() error {
			return s.PutRoutes(
				ctx,
				[]Route{{Name: "b", Position: 1, ChangedAt: at, ChangedBy: "x"}, {Name: "a", Position: 2, ChangedAt: at, ChangedBy: "x"}},
			)
		},
			"route a changed map[position:1] map[position:2]; route b changed map[position:2] map[position:1]"},
		{func() error {
			return s.PutRoutes(ctx, []Route{{Name: "b", Position: 1, ChangedAt: at.Add(time.Hour), ChangedBy: "y"}})
		}, "route a removed"},
		{func() error { return s.PutRules(ctx, []CountryRule{{Country: "GB", ChangedAt: at, ChangedBy: "x"}}) }, "rule GB added"},
		{func() error { return s.DropRule(ctx, "GB") }, "rule GB removed"},
		{func() error { return s.PutPrices(ctx, PriceList{g.ID, g.Name, at, "x"}, nil) }, "prices quay added"},
		{func() error {
			return s.AddKey(ctx, Key{ID: NewID(), Name: "day shift", Handle: "abcdefgh", Hash: []byte("a-hash"), CreatedAt: at})
		}, "key day shift added"},
		{func() error { return s.TouchKeys(ctx, nil, at) }, ""},
		{func() error { return s.RemoveSender(ctx, "One") }, "default One removed; sender One removed"},
		{func() error { g.RemovedAt = &at; return s.ChangeGateway(ctx, g) }, "gateway quay removed"},
	}
	seen := int64(0)
	for i, step := range steps {
		if err := step.do(); err != nil {
			t.Fatalf("%d, %s: %v", i, step.want, err)
		}
		all := must[[]Change](t)(s.FindChanges(t.Context(), ChangeFilter{}, 0, 500))
		var said []string
		for _, c := range all {
			if c.ID <= seen {
				continue
			}
			one := fmt.Sprintf("%s %s %s", c.What, c.Name, c.Action)
			if c.Action == "changed" {
				one += fmt.Sprintf(" %v %v", c.Before, c.After)
			}
			said = append(said, one)
			if c.ByWhom != "night shift" {
				t.Errorf("%s by %q", one, c.ByWhom)
			}
			if whole := fmt.Sprint(c.Before, c.After); strings.Contains(whole, "secret-") || strings.Contains(whole, "a-hash") {
				t.Errorf("%s tells a secret: %s", one, whole)
			}
		}
		slices.Sort(said)
		if got := strings.Join(said, "; "); got != step.want {
			t.Errorf("%d: got %q, want %q", i, got, step.want)
		}
		if len(all) > 0 {
			seen = all[0].ID
		}
	}
	for _, sql := range []string{"UPDATE changes SET by_whom = 'nobody'", "DELETE FROM changes", "TRUNCATE changes"} {
		if err := s.db.Exec(sql).Error; err == nil {
			t.Errorf("%s is done", sql)
		}
	}
}

// Of several who change the same, as they have all read it, one does; the others
// are told what has changed. What others changed elsewhere is no reason.
func TestWhatWasReadBeforeIsNotWritten(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	berth := Template{Name: "berth", Template: &template.Template{Name: "berth"}, CreatedAt: now(), ChangedAt: now()}
	if err := s.PutTemplate(Acting(t.Context(), "other", nil), berth, false); err != nil {
		t.Fatal(err)
	}
	read := must[int64](t)(s.LastChange(t.Context()))
	var done, stale atomic.Int32
	var setting sync.WaitGroup
	for i := range 6 {
		setting.Go(func() {
			by := fmt.Sprintf("key %d", i)
			err := s.PutRoutes(
				Acting(context.Background(), by, &read),
				[]Route{{Name: "r", Position: i + 1, ChangedAt: now(), ChangedBy: by}},
			)
			var told *Stale
			switch {
			case err == nil:
				done.Add(1)
			case errors.As(err, &told) && strings.Contains(err.Error(), "route r was added by key"):
				stale.Add(1)
			default:
				t.Error(err)
			}
		})
	}
	setting.Wait()
	if done.Load() != 1 || stale.Load() != 5 {
		t.Errorf("%d did, %d were told", done.Load(), stale.Load())
	}
	if err := s.RemoveTemplate(Acting(t.Context(), "first", &read), "berth"); err != nil {
		t.Errorf("something else: %v", err)
	}
}
