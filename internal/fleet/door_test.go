package fleet

import (
	"testing"
	"time"
)

// The busiest second is any span of a second, whatever the order in which arrivals are noted.
func TestBusiestSecond(t *testing.T) {
	t.Parallel()
	var d door
	start := time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC)
	for _, one := range []struct {
		after time.Duration
		n     int
		want  int
	}{
		{0, 2, 2}, {time.Second, 1, 2}, {1999 * time.Millisecond, 1, 2}, {500 * time.Millisecond, 1, 3}, {5 * time.Second, 9, 9},
		{2400 * time.Millisecond, 7, 9}, {2900 * time.Millisecond, 1, 9}, {2000 * time.Millisecond, 1, 10},
	} {
		d.note(start.Add(one.after), one.n)
		if got := d.busiest(); got != one.want {
			t.Errorf("after one at %v: %d, want %d", one.after, got, one.want)
		}
	}
	for i := range 2 * doorMost {
		d.note(start.Add(time.Minute+time.Duration(i)*time.Second), 1)
	}
	if got := d.busiest(); got != 1 || len(d.at) != doorMost {
		t.Errorf("long after: %d of %d", got, len(d.at))
	}
}
