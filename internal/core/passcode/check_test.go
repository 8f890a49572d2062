package passcode

import (
	"testing"
	"time"
)

func TestJudge(t *testing.T) {
	t.Parallel()
	open := Standing{EndsAt: began.Add(time.Minute), Tries: 4, TriesMost: 5}
	with := func(change func(*Standing)) Standing { s := open; change(&s); return s }
	for name, tt := range map[string]struct {
		s     Standing
		is    bool
		after time.Duration
		want  Verdict
	}{
		"right":                       {open, true, 0, Right},
		"wrong":                       {open, false, 0, Wrong},
		"at the last moment":          {open, true, time.Minute - time.Nanosecond, Right},
		"at its end":                  {open, true, time.Minute, Ended},
		"right, and used":             {with(func(s *Standing) { s.Used = true }), true, 0, Used},
		"used, and its end is over":   {with(func(s *Standing) { s.Used = true }), true, time.Hour, Used},
		"right, and a newer is there": {with(func(s *Standing) { s.Ended = true }), true, 0, Ended},
		"right, after too many":       {with(func(s *Standing) { s.Tries = 5 }), true, 0, Locked},
		"wrong, after too many":       {with(func(s *Standing) { s.Tries = 9 }), false, 0, Locked},
	} {
		if got := tt.s.Judge(tt.is, began.Add(tt.after)); got != tt.want {
			t.Errorf("%s: %s, want %s", name, got, tt.want)
		}
	}
	if open.Left() != 1 || with(func(s *Standing) { s.Tries = 9 }).Left() != 0 || !open.Open(began) || open.Open(began.Add(time.Hour)) {
		t.Error("what is left is wrong")
	}
}

func TestPausesGrow(t *testing.T) {
	t.Parallel()
	last := time.Duration(0)
	for sends := range 8 {
		pause := PauseAfter(sends)
		if pause < last || sends > 1 && sends <= len(pauses) && pause == last {
			t.Errorf("after %d times it is %v, before it was %v", sends, pause, last)
		}
		last = pause
	}
}
