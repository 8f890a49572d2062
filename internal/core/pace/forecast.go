package pace

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// A forecast is worked out over counts, not messages: what is alike flows, as fast as the
// limits above it let it, and what is free of a limit is shared evenly between those who have
// something for it. Between two moments at which anything changes the flows are even, so that
// only such moments are gone through.

// Load are messages that are alike as far as their going is concerned.
type Load struct {
	Of    string    // whose they are: each has the same share of what is free
	Lane  int       // a lower one goes first
	Under []LimitOf // all that limits them
	N     float64
	Opens time.Time // they go from then on
	Until time.Time // what is left then does not go; zero: no such time
	// Hours tells whether they may go at a moment, and until when that holds; the zero time:
	// for good. Nil: at any hour.
	Hours func(at time.Time) (open bool, until time.Time)
}

// LimitOf names what a limit is one of.
type LimitOf struct {
	Kind, Name string
}

// Limit is how fast messages can go. What has no quotas has only a speed.
type Limit struct {
	PerSecond float64
	Quotas    []Quota
}

// Quota is how many messages can go in a span, and how many of them have gone.
type Quota struct {
	N    float64
	Per  time.Duration
	Used float64
}

// Point is how many messages have gone by a moment; between two points they go evenly.
type Point struct {
	At   time.Time `json:"at"`
	Gone float64   `json:"gone"`
}

// Bound is what holds messages back, and the share of them that it holds back.
type Bound struct {
	LimitOf
	Share float64
}

// Forecast is how messages are going to go.
type Forecast struct {
	Starts, Ends time.Time // the first and the last of them; zero if none goes
	Gone, Left   float64   // how many go, and how many do not
	Points       []Point
	Bounds       []Bound // the tightest first
}

const (
	// forecastFor is how far ahead a forecast looks.
	forecastFor = 60 * 24 * time.Hour
	// momentsMost is how many moments are gone through; momentsFine, how many before short
	// quotas are taken for speeds.
	momentsMost, momentsFine = 20_000, 2_000
	// pointsMost is how many points a curve has.
	pointsMost = 240
	// few is less than any message, and atOnce faster than any gateway, a second.
	few, atOnce = 1e-6, 1e9
)

// Foresee works out how the loads of one go, all loads being under limits that are known by
// their names.
func Foresee(of string, loads []Load, limits map[LimitOf]Limit, now time.Time) Forecast {
	s := simulation{of: of, now: now, loads: slices.Clone(loads), limits: map[LimitOf]*limited{}}
	for name, l := range limits {
		is := &limited{Limit: l}
		for _, q := range l.Quotas {
			is.quotas = append(is.quotas, quota{Quota: q, ends: now.Add(q.Per)})
		}
		s.limits[name] = is
	}
	return s.run()
}

// simulation is where a forecast stands at a moment.
type simulation struct {
	of     string
	now    time.Time
	loads  []Load
	limits map[LimitOf]*limited
	out    Forecast
	bound  map[LimitOf]float64
	smooth bool
}

type limited struct {
	Limit
	quotas []quota
	free   float64 // while flows are worked out
}

type quota struct {
	Quota
	ends time.Time // of the span that is being used up
}

// stream are loads that flow together.
type stream struct {
	of    string
	under []LimitOf
	lane  int
	loads []int
	n     float64
	each  float64 // its part of a share
	rate  float64
	held  LimitOf // by which it is not faster
	still bool
}

func (s *simulation) run() Forecast {
	s.bound = map[LimitOf]float64{}
	end := s.now.Add(forecastFor)
	s.out.Points = []Point{{s.now, 0}}
	rate := 0.0
	for moments := 0; s.left() > few && s.now.Before(end) && moments < momentsMost; moments++ {
		s.smooth = moments > momentsFine
		streams, next := s.streams()
		s.flow(streams)
		next = s.turns(streams, next)
		if next.IsZero() || next.After(end) {
			next = end
		}
		own := 0.0
		for _, st := range streams {
			if st.of == s.of {
				own += st.rate
			}
		}
		if math.Abs(own-rate) > 1e-9*max(own, rate) {
			s.point()
			rate = own
		}
		s.advance(streams, next, own)
	}
	s.point()
	for _, l := range s.loads {
		if l.Of == s.of {
			s.out.Left += l.N
		}
	}
	s.out.Points = thin(s.out.Points)
	total := 0.0
	for _, n := range s.bound {
		total += n
	}
	for of, n := range s.bound {
		s.out.Bounds = append(s.out.Bounds, Bound{of, n / total})
	}
	slices.SortFunc(s.out.Bounds, func(a, b Bound) int {
		return cmp.Or(cmp.Compare(b.Share, a.Share), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	})
	return s.out
}

// point notes how many have gone until now.
func (s *simulation) point() {
	last := &s.out.Points[len(s.out.Points)-1]
	if last.At.Equal(s.now) {
		last.Gone = s.out.Gone
		return
	}
	s.out.Points = append(s.out.Points, Point{s.now, s.out.Gone})
}

// left are those of the one that is looked at that are still to go.
func (s *simulation) left() (n float64) {
	for _, l := range s.loads {
		if l.Of == s.of && (l.Until.IsZero() || l.Until.After(s.now)) {
			n += l.N
		}
	}
	return n
}

// streams are what flows now; next is when that changes by the clock.
func (s *simulation) streams() (all []*stream, next time.Time) {
	soon := func(at time.Time) {
		if at.After(s.now) && (next.IsZero() || at.Before(next)) {
			next = at
		}
	}
	for _, l := range s.limits {
		for i := range l.quotas {
			q := &l.quotas[i]
			for !q.ends.After(s.now) {
				q.ends, q.Used = q.ends.Add(q.Per), 0
			}
			if !s.taken(q) && q.Used >= q.N-few {
				soon(q.ends)
			}
		}
	}
	sharing := map[[2]string]int{}
	for i := range s.loads {
		l := &s.loads[i]
		if l.N <= few || !l.Until.IsZero() && !l.Until.After(s.now) {
			continue
		}
		if l.Opens.After(s.now) {
			soon(l.Opens)
			continue
		}
		soon(l.Until)
		if l.Hours != nil {
			open, until := l.Hours(s.now)
			soon(until)
			if !open {
				continue
			}
		}
		at := slices.IndexFunc(all, func(st *stream) bool {
			return st.of == l.Of && st.lane == l.Lane && slices.Equal(st.under, l.Under)
		})
		if at < 0 {
			at = len(all)
			all = append(all, &stream{of: l.Of, under: l.Under, lane: l.Lane})
			sharing[s.shares(l)]++
		}
		all[at].loads, all[at].n = append(all[at].loads, i), all[at].n+l.N
	}
	for _, st := range all {
		st.each = 1 / float64(sharing[s.shares(&s.loads[st.loads[0]])])
	}
	return all, next
}

// shares is what has one share together: all of one that is under the same first limit.
func (s *simulation) shares(l *Load) [2]string {
	if len(l.Under) == 0 {
		return [2]string{l.Of, ""}
	}
	return [2]string{l.Of, l.Under[0].Kind + " " + l.Under[0].Name}
}

// taken reports whether a quota is taken for a speed.
func (s *simulation) taken(q *quota) bool { return s.smooth && q.Per <= time.Hour }

// flow works out how fast the streams are: lane by lane, all rise together until a limit
// is reached; those under it stay, the others rise on.
func (s *simulation) flow(streams []*stream) {
	for _, l := range s.limits {
		l.free = l.PerSecond
		for i := range l.quotas {
			switch q := &l.quotas[i]; {
			case s.taken(q):
				l.free = min(l.free, q.N/q.Per.Seconds())
			case q.Used >= q.N-few:
				l.free = 0
			}
		}
	}
	slices.SortStableFunc(streams, func(a, b *stream) int { return cmp.Compare(a.lane, b.lane) })
	for from := 0; from < len(streams); {
		to := from
		for to < len(streams) && streams[to].lane == streams[from].lane {
			to++
		}
		for s.rise(streams[from:to]) {
		}
		from = to
	}
}

// rise lets the streams that may be faster rise until the next limit; false if none may.
func (s *simulation) rise(streams []*stream) bool {
	sums := map[LimitOf]float64{}
	for _, st := range streams {
		for _, name := range st.under {
			if _, known := s.limits[name]; known && !st.still {
				sums[name] += st.each
			}
		}
	}
	step := math.Inf(1)
	var tightest LimitOf
	for name, sum := range sums {
		if by := s.limits[name].free / sum; by < step ||
			by == step && cmp.Or(cmp.Compare(name.Kind, tightest.Kind), cmp.Compare(name.Name, tightest.Name)) < 0 {
			step, tightest = by, name
		}
	}
	if math.IsInf(step, 1) { // what is under no limit goes at once
		for _, st := range streams {
			if !st.still {
				st.still, st.rate = true, atOnce
			}
		}
		return false
	}
	for _, st := range streams {
		if st.still {
			continue
		}
		st.rate += step * st.each
		for _, name := range st.under {
			if l := s.limits[name]; l != nil {
				l.free = max(l.free-step*st.each, 0)
			}
		}
		if slices.Contains(st.under, tightest) {
			st.still, st.held = true, tightest
		}
	}
	return true
}

// turns is when flows change next: when one of them ends, or a quota is used up.
func (s *simulation) turns(streams []*stream, next time.Time) time.Time {
	in := math.Inf(1)
	use := map[LimitOf]float64{}
	for _, st := range streams {
		if st.rate <= 0 {
			continue
		}
		in = min(in, st.n/st.rate)
		for _, name := range st.under {
			use[name] += st.rate
		}
	}
	for name, rate := range use {
		l := s.limits[name]
		if l == nil {
			continue
		}
		for i := range l.quotas {
			if q := &l.quotas[i]; !s.taken(q) {
				in = min(in, (q.N-q.Used)/rate)
				if at := q.ends; next.IsZero() || at.Before(next) {
					next = at
				}
			}
		}
	}
	if math.IsInf(in, 1) || in > forecastFor.Seconds() {
		return next
	}
	if at := s.now.Add(time.Duration(math.Ceil(in * 1e9))); next.IsZero() || at.Before(next) {
		return at
	}
	return next
}

// advance lets the streams flow until a moment.
func (s *simulation) advance(streams []*stream, next time.Time, own float64) {
	seconds := next.Sub(s.now).Seconds()
	if own > 0 && s.out.Starts.IsZero() {
		s.out.Starts = s.now
	}
	for _, st := range streams {
		went := min(st.rate*seconds, st.n)
		for _, i := range st.loads {
			l := &s.loads[i]
			l.N = max(l.N-went*l.N/st.n, 0)
		}
		if st.of == s.of && went > 0 {
			s.out.Gone += went
			s.bound[st.held] += went
			s.out.Ends = next
		}
		for _, name := range st.under {
			if l := s.limits[name]; l != nil {
				for i := range l.quotas {
					l.quotas[i].Used = min(l.quotas[i].Used+went, l.quotas[i].N)
				}
			}
		}
	}
	s.now = next
}

// thin leaves out points that a line between others shows as well, and then so many that
// the curve stays small.
func thin(points []Point) []Point {
	kept := points[:0:0]
	for i, p := range points {
		if i > 0 && i < len(points)-1 {
			a, b := kept[len(kept)-1], points[i+1]
			share := float64(p.At.Sub(a.At)) / float64(b.At.Sub(a.At))
			if math.Abs(a.Gone+share*(b.Gone-a.Gone)-p.Gone) < 0.5 {
				continue
			}
		}
		kept = append(kept, p)
	}
	for len(kept) > pointsMost {
		last := kept[len(kept)-1]
		for i := 1; 2*i < len(kept); i++ {
			kept[i] = kept[2*i]
		}
		kept = kept[:(len(kept)+1)/2]
		kept[len(kept)-1] = last
	}
	return kept
}
