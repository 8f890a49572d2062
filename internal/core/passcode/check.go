package passcode

import "time"

// Standing is how a passcode stands.
type Standing struct {
	EndsAt    time.Time
	Ended     bool // by hand, or by a newer one
	Used      bool
	Tries     int // wrong ones
	TriesMost int
}

// Verdict is what is said of a code that was typed.
type Verdict string

// The verdicts. All but Right and Wrong say nothing of the code.
const (
	Right  Verdict = "right"
	Wrong  Verdict = "wrong"
	Ended  Verdict = "ended"
	Used   Verdict = "used"
	Locked Verdict = "locked" // too many tries
)

// Judge says what is to be said of a code that is the right one or not. Only the verdicts Right and Wrong change the
// passcode: it is used then, or one more try is gone.
func (s Standing) Judge(is bool, now time.Time) Verdict {
	switch {
	case s.Used:
		return Used
	case s.Ended || !now.Before(s.EndsAt):
		return Ended
	case s.Tries >= s.TriesMost:
		return Locked
	case is:
		return Right
	}
	return Wrong
}

// Open reports whether the passcode can still be used.
func (s Standing) Open(now time.Time) bool { return s.Judge(true, now) == Right }

// Left is how many tries are left.
func (s Standing) Left() int { return max(s.TriesMost-s.Tries, 0) }

const (
	// TriesUsual is how many wrong codes may be typed, and SendsUsual how often a code is sent, the first time
	// counted in.
	TriesUsual = 5
	SendsUsual = 4
	// LifeUsual is how long a code lives, LifeLeast and LifeMost how long it may.
	LifeUsual = 5 * time.Minute
	LifeLeast = 30 * time.Second
	LifeMost  = time.Hour
)

// pauses are how long nobody gets the same code again, after each time that it was sent.
var pauses = []time.Duration{30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute}

// PauseAfter is how long it takes until a code that was sent so often may be sent again.
func PauseAfter(sends int) time.Duration { return pauses[min(max(sends, 1), len(pauses))-1] }
