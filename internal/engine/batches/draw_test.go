package batches

import (
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// What is ready stands on a shelf until its feed has gone past it, or it is too old, or nobody
// fills it any more; each batch that has rows has its turn.
func TestShelf(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	g := &roster.Gateway{}
	g.ID = uuid.New()
	filled := func(row int) *filling {
		return &filling{one: store.Batch{ID: uuid.New()}, feed: store.Feed{N: 1, NextRow: row}, g: g, drawn: true}
	}
	rows := func(at time.Time, numbers ...int) (made []ready) {
		for _, n := range numbers {
			r := ready{row: n}
			r.Message.ChangedAt = at
			made = append(made, r)
		}
		return made
	}
	s := newShelf()
	first, second := filled(3), filled(1)
	on := func(w *filling) (numbers []int) {
		if l := s.find(g.ID, w.one.ID, 1); l != nil {
			for _, r := range l.rows {
				numbers = append(numbers, r.row)
			}
		}
		return numbers
	}
	if from, _ := s.from(first, now); from != 3 {
		t.Errorf("it begins at row %d, and its feed stands at 3", from)
	}
	s.add(first, rows(now, 3, 4, 7), 8)
	if from, _ := s.from(first, now); from != 8 {
		t.Errorf("it goes on at row %d, want 8", from)
	}
	s.add(first, rows(now, 8), 9)
	s.forward(g.ID, first.one.ID, 1, 5)
	if got := on(first); !slices.Equal(got, []int{7, 8}) {
		t.Errorf("after row 4: %v", got)
	}
	s.from(second, now)
	if _, ok := s.take(uuid.New(), 0, now); ok {
		t.Error("a gateway is given rows of another")
	}
	for turn := range 3 {
		if l, ok := s.take(g.ID, turn, now); !ok || l.one.ID != first.one.ID {
			t.Error("it is the turn of a batch without rows")
		}
	}
	s.add(second, rows(now, 1), 2)
	took := map[uuid.UUID]int{}
	for turn := range 10 {
		l, _ := s.take(g.ID, turn, now)
		took[l.one.ID]++
	}
	if took[first.one.ID] != 5 || took[second.one.ID] != 5 {
		t.Errorf("turns of two batches: %v", took)
	}
	if from, dropped := s.from(first, now.Add(staleAfter+1)); from != 7 || dropped != 2 || len(on(first)) > 0 {
		t.Errorf("what is stale is made ready from row %d on, %d were dropped, and still there are %v", from, dropped, on(first))
	}
	s.forward(g.ID, second.one.ID, 1, 50) // somebody else was there
	if from, _ := s.from(second, now); from != 50 {
		t.Errorf("its feed stands at 50, and it goes on at %d", from)
	}
	// What cannot be kept holds up no other, for longer each time.
	s.add(second, rows(now, 50), 51)
	s.add(first, rows(now, 8, 9), 10)
	for i, want := range []time.Duration{2, 4, 8} {
		at := now.Add(time.Duration(i) * time.Hour)
		for {
			if l, _ := s.take(g.ID, i, at); l.one.ID == second.one.ID {
				break
			}
			i++
		}
		s.bar(g.ID, at)
		for _, ago := range []time.Duration{0, want*time.Second - 1, want * time.Second} {
			lines, _ := s.counted(g.ID, at.Add(ago))
			if open := ago == want*time.Second; open != (lines == 2) {
				t.Errorf("%v after it failed, %d batches may be drawn", ago, lines)
			}
		}
	}
	s.forward(g.ID, first.one.ID, 1, 10)
	// Of what stands ready no row is missing from the one on that its feed has come to.
	third := filled(4)
	s.from(third, now)
	s.add(third, rows(now, 4, 6), 7)
	s.forward(g.ID, third.one.ID, 1, 6)
	if l := s.find(g.ID, third.one.ID, 1); l.from != 6 {
		t.Errorf("whole from row %d on, want 6", l.from)
	}
	s.keep([]*filling{first}, map[uuid.UUID]int{g.ID: 4})
	if lines, queued := s.counted(g.ID, now); s.find(g.ID, second.one.ID, 1) != nil || lines != 0 || queued != 4 {
		t.Errorf("%d lines with rows, %d batches in the queue", lines, queued)
	}
}
