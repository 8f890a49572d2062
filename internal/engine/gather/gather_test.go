package gather

import (
	"context"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
)

func TestGatherMakesSetsAndSparesTheRest(t *testing.T) {
	t.Parallel()

	var mu sync.Mutex
	sets := 0
	var brought sync.WaitGroup // the first write takes until everybody is there
	brought.Add(200)
	g := New(Limits{Rows: 50}, nil, func(ctx context.Context, items []string) ([]int, error) {
		brought.Wait()
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
			brought.Done()
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
