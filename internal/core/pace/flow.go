package pace

import "time"

// Flow spreads events evenly over time, so that in every short while there is
// room for one that is more urgent: where all that is allowed in a second goes
// at its beginning, whoever comes then waits for the next. What was not used
// for a moment may be made up for: two events, or a tenth of a second's. It is not safe
// for concurrent use.
type Flow struct {
	perSecond float64
	most      float64 // that may be made up for
	portion   float64 // that goes at once
	credit    float64
	at        time.Time
}

// NewFlow spreads so many events over a span; a limit of 0 or less lets all
// through. Where up to together of them are one, they go in portions: as many
// at once, though no more than a quarter of what a second allows.
func NewFlow(limit, together int, span time.Duration) *Flow {
	perSecond := float64(limit) / span.Seconds()
	portion := max(1, float64(min(together, limit/4)))
	return &Flow{perSecond: perSecond, most: max(2, perSecond/10, portion+1), portion: portion, credit: portion}
}

// Free is how many events may happen at now, at most want.
func (f *Flow) Free(now time.Time, want int) int {
	if f.perSecond <= 0 {
		return want
	}
	if f.advance(now); f.credit < f.portion {
		return 0
	}
	return min(want, int(f.credit))
}

// Take records n events. Urgent ones may overdraw: the others make up for it.
func (f *Flow) Take(now time.Time, n int) {
	if f.perSecond > 0 {
		f.advance(now)
		f.credit = max(f.credit-float64(n), -f.perSecond)
	}
}

// Wait is how long after now the next event may happen; 0 if at once.
func (f *Flow) Wait(now time.Time) time.Duration {
	if f.perSecond <= 0 {
		return 0
	}
	f.advance(now)
	if f.credit >= f.portion {
		return 0
	}
	return time.Duration((f.portion - f.credit) / f.perSecond * float64(time.Second))
}

func (f *Flow) advance(now time.Time) {
	if !f.at.IsZero() && now.After(f.at) {
		f.credit = min(f.most, f.credit+now.Sub(f.at).Seconds()*f.perSecond)
	}
	if now.After(f.at) {
		f.at = now
	}
}
