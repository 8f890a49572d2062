package gather

import (
	"context"
	"errors"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"

	"calmpigeon.example/internal/engine/guard"
)

func TestGatherMakesSetsAndSparesTheRest(t *testing.T) {
	t.Parallel()

	var mu sync.Mutex
	sets := 0
	var brought atomic.Int64
	var once sync.Once // the first write takes until many are there
	g := New(Limits{Rows: 50}, nil, func(ctx context.Context, items []string) ([]int, error) {
		once.Do(func() { crowd(&brought, 150) })
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
			brought.Add(1)
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

// One item at which writing panics spoils nothing but itself, and those who bring it hear of it.
func TestAPanicSpoilsOneItem(t *testing.T) {
	t.Parallel()
	g := New(Limits{Rows: 50}, nil, func(_ context.Context, items []int) ([]int, error) {
		for _, item := range items {
			if item == 7 {
				panic("no seven")
			}
		}
		return items, nil
	})
	ctx, stop := context.WithCancel(context.Background())
	var running, callers sync.WaitGroup
	running.Go(func() { g.Run(ctx) })
	for i := range 40 {
		callers.Go(func() {
			n, err := g.Do(context.Background(), i)
			if panicked := (*guard.PanicError)(nil); errors.As(err, &panicked) != (i == 7) || err == nil && n != i {
				t.Errorf("%d: %d, %v", i, n, err)
			}
		})
	}
	callers.Wait()
	stop()
	running.Wait()
}

// A set is bounded by rows and by bytes, and what is larger than both alone is
// written alone.
func TestSetsAreBoundedByRowsAndBytes(t *testing.T) {
	t.Parallel()
	type item struct{ rows, bytes int }
	var mu sync.Mutex
	var sets [][]item
	var brought atomic.Int64
	var once sync.Once // the first write takes until many are there
	g := New(
		Limits{Rows: 40, Bytes: 1000},
		func(i item) (int, int) { return i.rows, i.bytes },
		func(_ context.Context, set []item) ([]struct{}, error) {
			once.Do(func() { crowd(&brought, 100) })
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
			brought.Add(1)
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

// Where much comes a second set is written while the first one is; a small one waits, and so does a third.
func TestTwoLargeSetsAreWrittenAtOnce(t *testing.T) {
	t.Parallel()

	began := make(chan int)
	end := make(chan struct{})
	var brought, writing atomic.Int64
	g := New(Limits{Rows: 40, Overlap: 10}, nil, func(_ context.Context, items []int) ([]int, error) {
		if n := writing.Add(1); n > 2 {
			t.Errorf("%d sets are written at once", n)
		}
		defer writing.Add(-1)
		began <- len(items)
		<-end
		return items, nil
	})
	ctx, stop := context.WithCancel(context.Background())
	var running, callers sync.WaitGroup
	running.Go(func() { g.Run(ctx) })
	bring := func(n int) {
		for range n {
			callers.Go(func() {
				brought.Add(1)
				if _, err := g.Do(context.Background(), 0); err != nil {
					t.Error(err)
				}
			})
		}
	}
	bring(1)
	if n := <-began; n != 1 {
		t.Fatalf("%d in the first set", n)
	}
	bring(9)
	crowd(&brought, 10)
	bring(51)
	second := <-began
	if second < 10 {
		t.Fatalf("a set of %d is written while another one is", second)
	}
	crowd(&brought, 61)
	end <- struct{}{}
	end <- struct{}{}
	for written := 1 + second; written < 61; {
		written += <-began
		end <- struct{}{}
	}
	callers.Wait()
	stop()
	running.Wait()
}

// crowd waits until so many callers have come.
func crowd(brought *atomic.Int64, n int64) {
	for brought.Load() < n {
		runtime.Gosched()
	}
}
