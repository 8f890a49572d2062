package gather

import (
	"context"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
)

func TestGatherMakesSetsAndSparesTheRest(t *testing.T) {
	t.Parallel()

	var mu sync.Mutex
	sets := 0
	var once sync.Once // the first write takes until many are there
	var g *Gather[string, int]
	g = New(Limits{Rows: 50}, nil, func(ctx context.Context, items []string) ([]int, error) {
		once.Do(func() { crowd(g, 150) })
		mu.Lock()
		sets++
		mu.Unlock()
		lengths := make([]int, len(items))
		for i, item := range items {
			lengths[i] = len(item)
			// PostgreSQL refuses what is no number, and the set with it.
			if strings.Trim(item, "1") != "" {
				return nil, &pgconn.PgError{Code: "22P02"}
			}
		}
		return lengths, nil
	})
	ctx, stop := context.WithCancel(context.Background())
	var running, callers sync.WaitGroup
	running.Go(func() { g.Run(ctx) })
	for i := range 200 {
		callers.Go(func() {
			item := strings.Repeat("1", 1+i%8)
			if i == 77 {
				item = "no number"
			}
			n, err := g.Do(context.Background(), item)
			if (err != nil) != (i == 77) || err == nil && n != len(item) {
				t.Errorf("item %d: %d, %v", i, n, err)
			}
		})
	}
	callers.Wait()
	stop()
	running.Wait()
	if sets >= 120 {
		t.Errorf("%d writes for 200 items", sets)
	}
}

// A set is bounded by rows and by bytes, and what is larger than both alone is
// written alone.
func TestSetsAreBoundedByRowsAndBytes(t *testing.T) {
	t.Parallel()
	type item struct{ rows, bytes int }
	var mu sync.Mutex
	var sets [][]item
	var once sync.Once // the first write takes until many are there
	var g *Gather[item, struct{}]
	g = New(
		Limits{Rows: 40, Bytes: 1000},
		func(i item) (int, int) { return i.rows, i.bytes },
		func(_ context.Context, set []item) ([]struct{}, error) {
			once.Do(func() { crowd(g, 100) })
			mu.Lock()
			defer mu.Unlock()
			sets = append(sets, set)
			return make([]struct{}, len(set)), nil
		},
	)
	ctx, stop := context.WithCancel(context.Background())
	var running, callers sync.WaitGroup
	running.Go(func() { g.Run(ctx) })
	for i := range 120 {
		callers.Go(func() {
			one := item{1 + i%15, 10 * (i % 20)}
			if i == 7 {
				one = item{2000, 1 << 20}
			}
			if _, err := g.Do(context.Background(), one); err != nil {
				t.Error(err)
			}
		})
	}
	callers.Wait()
	stop()
	running.Wait()
	written := 0
	for _, set := range sets {
		rows, bytes := 0, 0
		for _, i := range set {
			rows, bytes = rows+i.rows, bytes+i.bytes
		}
		written += len(set)
		if len(set) > 1 && (rows > 40 || bytes > 1000) {
			t.Errorf("a set of %d items has %d rows and %d bytes", len(set), rows, bytes)
		}
	}
	if written != 120 || len(sets) > 100 {
		t.Errorf("%d items in %d sets", written, len(sets))
	}
}

// crowd waits until so many wait to be written.
func crowd[T, R any](g *Gather[T, R], n int) {
	for len(g.calls) < n {
		runtime.Gosched()
	}
}
