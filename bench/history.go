package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/engine/arrivals"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/store"
)

// history holds what is asked of ten million messages against the same asked of
// a hundred thousand.
func history(ctx context.Context, s settings) ([]Figure, error) {
	small, err := asked(ctx, s, 100_000)
	if err != nil {
		return nil, err
	}
	n := s.count(10_000_000)
	large, err := asked(ctx, s, n)
	if err != nil {
		return nil, err
	}
	worst, which := 0.0, ""
	var slowestTally time.Duration
	for name, took := range large {
		ratio := small[name].Seconds() / took.Seconds()
		fmt.Fprintf(os.Stderr, "  %-32s %10v %10v  %.2f\n", name, small[name].Round(time.Microsecond), took.Round(time.Microsecond), ratio)
		if which == "" || ratio < worst {
			worst, which = ratio, name
		}
		if len(name) > 5 && name[:5] == "tally" {
			slowestTally = max(slowestTally, took)
		}
	}
	return []Figure{
		{
			Name:  "history_10m",
			Value: worst,
			Unit:  "of the speed",
			Asked: "0.8",
			Note:  fmt.Sprintf("%d messages against 100,000; the worst is %s", n, which),
		},
		{
			Name:  "tally_10m",
			Value: float64(slowestTally.Microseconds()) / 1000,
			Unit:  "ms",
			Asked: "20 ms at most",
			Note:  "the slowest cut",
		},
	}, nil
}

// asked fills a fresh database and returns how long each question takes.
func asked(ctx context.Context, s settings, n int) (map[string]time.Duration, error) {
	h, err := build(ctx, s)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	if err := h.gateway(ctx, single, newGateway()); err != nil {
		return nil, err
	}
	db, err := store.Open(ctx, h.server.URL, time.Now())
	if err != nil {
		return nil, err
	}
	defer db.Close()
	if err := h.past(ctx, n); err != nil {
		return nil, err
	}
	var gateway, key uuid.UUID
	if err := h.db.QueryRow(ctx, "SELECT g.id, k.id FROM gateways g, keys k").Scan(&gateway, &key); err != nil {
		return nil, err
	}
	faring := &arrivals.Arrivals{Kit: kit.Kit{Store: db, Now: time.Now}}
	side := func(by arrivals.By, days int, daily bool) func() error {
		return func() error {
			at := time.Now().UTC().Truncate(24 * time.Hour)
			_, _, err := faring.Side(ctx, store.Faring{Since: at.AddDate(0, 0, 1-days), Until: at.AddDate(0, 0, 1), Daily: daily}, by)
			return err
		}
	}
	var some []uuid.UUID
	rows, err := h.db.Query(ctx, "SELECT id FROM messages TABLESAMPLE system (1) LIMIT 3000")
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		var id uuid.UUID
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		some = append(some, id)
	}
	now := time.Now()
	find := func(f store.Filter) func() error {
		return func() error {
			_, err := db.Find(ctx, f, uuid.Nil, 50)
			return err
		}
	}
	tally := func(f store.Filter) func() error {
		return func() error {
			_, err := db.Tally(ctx, f)
			return err
		}
	}
	questions := map[string]func() error{
		"a message": func() error {
			_, err := db.Message(ctx, some[rand.IntN(len(some))])
			return err
		},
		"list":                            find(store.Filter{}),
		"list by number":                  find(store.Filter{To: "+447700900123"}),
		"list by reference":               find(store.Filter{Reference: "ref-77"}),
		"list by ref":                     find(store.Filter{GatewayRef: "g-77"}),
		"list delivered":                  find(store.Filter{States: []delivery.State{delivery.Delivered}}),
		"list failed":                     find(store.Filter{States: []delivery.State{delivery.Undeliverable, delivery.Doubtful}}),
		"list contested":                  find(store.Filter{Contested: true}),
		"list by sender":                  find(store.Filter{Sender: "Lanternholm"}),
		"list by kind":                    find(store.Filter{Kind: "otp"}),
		"list by gateway":                 find(store.Filter{Gateway: gateway}),
		"list by country":                 find(store.Filter{Country: "GB"}),
		"list of a day":                   find(store.Filter{Since: now.AddDate(0, 0, -3), Until: now.AddDate(0, 0, -2)}),
		"tally":                           tally(store.Filter{}),
		"tally of a day":                  tally(store.Filter{Since: now.AddDate(0, 0, -1)}),
		"tally by gateway":                tally(store.Filter{Gateway: gateway}),
		"tally by sender":                 tally(store.Filter{Sender: "Lanternholm"}),
		"tally by country":                tally(store.Filter{Country: "GB"}),
		"tally by kind":                   tally(store.Filter{Kind: "otp"}),
		"tally by key":                    tally(store.Filter{Key: key}),
		"tally by template":               tally(store.Filter{Template: "storm"}),
		"tally by state":                  tally(store.Filter{States: []delivery.State{delivery.Undeliverable}}),
		"arrivals of a day":               side(arrivals.Gateway, 1, false),
		"arrivals of a week by country":   side(arrivals.Country, 7, false),
		"arrivals of twenty days by kind": side(arrivals.Kind, 20, true),
		"what is not as usual": func() error {
			_, err := faring.Unusual(ctx)
			return err
		},
		"match 300 receipts": func() error {
			claims := make([]store.Stray, 300)
			for i := range claims {
				claims[i] = store.Stray{ID: store.NewID(), GatewayID: gateway, GatewayRef: fmt.Sprintf("g-%d", rand.IntN(n))}
			}
			_, err := db.Match(ctx, claims, now.AddDate(0, 0, -35))
			return err
		},
	}
	took := map[string]time.Duration{}
	for name, ask := range questions {
		if err := ask(); err != nil { // so that nothing is paid for being the first
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		began, times := time.Now(), 0
		for ; times < 2000 && time.Since(began) < 700*time.Millisecond; times++ {
			if err := ask(); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
		took[name] = time.Since(began) / time.Duration(times)
	}
	return took, nil
}

// past writes n messages of the last twenty days, with what became of them.
func (h *house) past(ctx context.Context, n int) error {
	for _, sql := range []string{
		`INSERT INTO cuts (key_id, sender, country, kind, template)
			SELECT k.id, s, c, kind, t FROM keys k, unnest(ARRAY['Lanternholm', 'LH Boarding']) s, unnest(ARRAY['GB', 'FR', 'DE', 'GR', 'TR',
				'PL', 'IN']) c,
				unnest(ARRAY['otp', 'transactional', 'bulk']) kind, unnest(ARRAY['', 'storm']) t`,
		`CREATE UNLOGGED TABLE past AS SELECT i, ((lpad(to_hex(ms), 12, '0') || '7' || lpad(to_hex(i % 4096), 3,
			'0') || '8' || lpad(to_hex(i), 15, '0'))::uuid) AS id,
				to_timestamp(ms / 1000.0) AS at, c.id AS cut, c.key_id, c.sender, c.country, c.kind, c.template, g.id AS gateway,
				CASE WHEN i % 100 < 94 THEN 'delivered' WHEN i % 100 < 98 THEN 'undeliverable'
					WHEN i % 100 = 98 THEN 'accepted' ELSE 'rejected' END AS state
			FROM (SELECT i, (extract(epoch FROM now()) * 1000)::bigint - ($1 - i) * (20 * 86400000::bigint / $1) AS ms FROM generate_series(1,
				$1::bigint) i) t
				JOIN (SELECT *, row_number() OVER (ORDER BY id) AS r, count(*) OVER () AS many FROM cuts) c ON c.r = t.i % c.many + 1, gateways g`,
		`INSERT INTO messages (id, key_id, to_number, sender, kind, lane, text, encoding, units, segments, reference, valid_until,
			created_at, country, template, begun)
			SELECT id, key_id, '+447700' || lpad((900000 + i % 1000)::text, 6, '0'), sender, kind, 2, 'All Sunday crossings are cancelled.',
				'gsm7', 35, 1,
				'ref-' || i, at + interval '1 day', at, country, template, 'through single' FROM past`,
		`INSERT INTO standings (id, gateway_id, valid_until, changed_at, settled_at, cut_id, attempts, lane, state, rivals)
			SELECT id, gateway, at + interval '1 day', at, at, cut, 1, 2, state, CASE
				WHEN i % 1000 = 0 THEN 'delivered,undeliverable' ELSE '' END FROM past`,
		`INSERT INTO submissions (message_id, attempt, gateway_id, began_at, gateway_ref) SELECT id, 1, gateway, at, 'g-' || i FROM past`,
		`INSERT INTO marks (mark, id) SELECT state, id FROM past WHERE state IN ('undeliverable', 'rejected') UNION ALL SELECT 'contested',
			id FROM past WHERE i % 1000 = 0`,
		`INSERT INTO tallies (grain, began_at, cut_id, gateway_id, state, contested, n)
			SELECT g.grain, date_trunc(g.grain, at, 'UTC'), cut, gateway, state, i % 1000 = 0, count(*) FROM past, (VALUES ('hour'),
				('day')) AS g (grain) GROUP BY 1, 2, 3, 4, 5, 6`,
		`INSERT INTO arrivals (grain, began_at, gateway_id, country, kind, bucket, n)
			SELECT g.grain, date_trunc(g.grain, at, 'UTC'), gateway, country, kind, 20 + i % 16, count(*) FROM past, (VALUES ('hour'),
				('day')) AS g (grain) WHERE state = 'delivered' GROUP BY 1, 2, 3, 4, 5, 6`,
		`DROP TABLE past`,
	} {
		sql = strings.ReplaceAll(sql, "$1", strconv.Itoa(n)) // it makes a table, which takes no parameters
		if _, err := h.db.Exec(ctx, sql); err != nil {
			return fmt.Errorf("%.60s: %w", sql, err)
		}
	}
	return nil
}
