// Package arrivals tells how long messages take and how many arrive: by gateway, country and kind, over time, and
// what of it is not as usual.
package arrivals

import (
	"cmp"
	"context"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/band"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/latency"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/store"
)

// By is what is held side by side.
type By string

// What can be held side by side.
const (
	Gateway By = "gateway"
	Country By = "country"
	Kind    By = "kind"
)

// Bys are all of them.
var Bys = []By{Gateway, Country, Kind}

// Fared is how messages fared.
type Fared struct {
	At    time.Time         // of the hour or day, where it is one
	Took  latency.Histogram // of those that arrived in it
	Tally delivery.Tally    // of those that were accepted in it
}

// Group is how those fared that have something in common, in all and over time.
type Group struct {
	Gateway uuid.UUID
	Country string
	Kind    string
	Fared
	Course []Fared // in the order of time; an hour or day of which nothing is known is left out
}

// Arrivals tells of arrivals.
type Arrivals struct {
	kit.Kit

	mu      sync.Mutex
	learned time.Time
	history map[place][]band.Hour
}

// place is what bands are learned for.
type place struct {
	gateway uuid.UUID
	country string
}

// Side tells how messages fared, all together and side by side, those with the most messages first. by may be
// empty.
func (a *Arrivals) Side(ctx context.Context, f store.Faring, by By) (all Group, groups []Group, err error) {
	f.ByTime, f.ByCountry, f.ByKind = true, by == Country, by == Kind
	took, err := a.Store.Arrivals(ctx, f)
	if err != nil {
		return all, nil, err
	}
	ended, err := a.Store.Endings(ctx, f)
	if err != nil {
		return all, nil, err
	}
	found := map[store.Along]*fares{}
	whole := newFares()
	of := func(along store.Along) []*fares {
		along.At = time.Time{}
		if by != Gateway {
			along.Gateway = uuid.Nil
		}
		if by == "" {
			return []*fares{whole}
		}
		if found[along] == nil {
			found[along] = newFares()
		}
		return []*fares{whole, found[along]}
	}
	for along, h := range took {
		for _, one := range of(along) {
			one.all.Took.Join(*h)
			one.at(along.At).Took.Join(*h)
		}
	}
	for along, t := range ended {
		for _, one := range of(along) {
			one.all.Tally.Join(*t)
			one.at(along.At).Tally.Join(*t)
		}
	}
	for along, one := range found {
		g := one.group()
		g.Gateway, g.Country, g.Kind = along.Gateway, along.Country, along.Kind
		groups = append(groups, g)
	}
	slices.SortFunc(groups, func(x, y Group) int {
		return cmp.Or(cmp.Compare(y.Tally.Total, x.Tally.Total), cmp.Compare(y.Took.N(), x.Took.N()),
			cmp.Compare(x.Country, y.Country), cmp.Compare(x.Kind, y.Kind), slices.Compare(x.Gateway[:], y.Gateway[:]))
	})
	return whole.group(), groups, nil
}

// fares gathers how messages fared.
type fares struct {
	all  Fared
	each map[time.Time]*Fared
}

func newFares() *fares { return &fares{each: map[time.Time]*Fared{}} }

func (f *fares) at(at time.Time) *Fared {
	if f.each[at] == nil {
		f.each[at] = &Fared{At: at}
	}
	return f.each[at]
}

func (f *fares) group() Group {
	g := Group{Fared: f.all}
	for _, one := range f.each {
		g.Course = append(g.Course, *one)
	}
	slices.SortFunc(g.Course, func(x, y Fared) int { return x.At.Compare(y.At) })
	return g
}

// Unusual is a gateway that is not as usual in a country.
type Unusual struct {
	Gateway uuid.UUID
	Country string
	Leaving []band.Leaving
}

// learnEvery is how often it is learned anew what is usual.
const learnEvery = 10 * time.Minute

// Forget lets what is usual be learned anew at the next look: something was written about hours that are long over.
func (a *Arrivals) Forget() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.history = nil
}

// young is how old the running hour is at most to be judged together with the one before as well: of what began to go
// wrong before its turn it says little by itself as yet, and less where something else goes well just then.
const young = 30 * time.Minute

// Unusual says where the running hour is not as usual, by the rules of [band]: by itself, and, where it says too little
// or is young, together with the one before.
func (a *Arrivals) Unusual(ctx context.Context) ([]Unusual, error) {
	now := a.Now()
	hour := now.UTC().Truncate(time.Hour)
	history, err := a.usual(ctx, now)
	if err != nil {
		return nil, err
	}
	recent, err := a.hours(ctx, hour.Add(-time.Hour), hour.Add(time.Hour))
	if err != nil {
		return nil, err
	}
	var all []Unusual
	for at, hours := range recent {
		var leaving []band.Leaving
		for _, stands := range running(hours, now) {
			for _, l := range band.Judge(history[at], stands) {
				if !slices.ContainsFunc(leaving, func(known band.Leaving) bool { return known.Slow == l.Slow }) {
					leaving = append(leaving, l)
				}
			}
		}
		if leaving != nil {
			all = append(all, Unusual{at.gateway, at.country, leaving})
		}
	}
	slices.SortFunc(all, func(x, y Unusual) int {
		return cmp.Or(slices.Compare(x.Gateway[:], y.Gateway[:]), cmp.Compare(x.Country, y.Country))
	})
	return all, nil
}

// running is how the running hour stands: by itself as far as it says something, and as long as it is young together
// with the one before.
func running(hours []Fared, now time.Time) []band.Hour {
	hour := now.UTC().Truncate(time.Hour)
	this, both := Fared{At: hour}, Fared{At: hour}
	for _, h := range hours {
		both.Took.Join(h.Took)
		both.Tally.Join(h.Tally)
		if h.At.Equal(hour) {
			this = h
		}
	}
	if this.Took.N() < band.Least {
		this.Took = both.Took
	}
	if this.Tally.Gone() < band.Least {
		this.Tally = both.Tally
	}
	if now.Sub(hour) >= young {
		return []band.Hour{said(this)}
	}
	return []band.Hour{said(this), said(both)}
}

// said is what an hour says.
func said(f Fared) band.Hour {
	return band.Hour{At: f.At, Arrived: f.Took.N(), Median: f.Took.Quantile(0.5), Gone: f.Tally.Gone(), Failed: f.Tally.Failed()}
}

// usual is what the last days came to, hour by hour. It is read every few minutes.
func (a *Arrivals) usual(ctx context.Context, now time.Time) (map[place][]band.Hour, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.history != nil && now.Sub(a.learned) < learnEvery {
		return a.history, nil
	}
	hour := now.UTC().Truncate(time.Hour)
	history := map[place][]band.Hour{}
	// A day after the other, so that little is held at a time.
	for from := hour.AddDate(0, 0, -band.Days); from.Before(hour.Add(-time.Hour)); from = from.AddDate(0, 0, 1) {
		until := from.AddDate(0, 0, 1)
		if last := hour.Add(-time.Hour); until.After(last) {
			until = last
		}
		past, err := a.hours(ctx, from, until)
		if err != nil {
			return nil, err
		}
		for at, hours := range past {
			for _, h := range hours {
				history[at] = append(history[at], said(h))
			}
		}
	}
	a.history = history
	a.learned = now
	return a.history, nil
}

// hours are how messages fared by gateway, country and hour.
func (a *Arrivals) hours(ctx context.Context, from, until time.Time) (map[place][]Fared, error) {
	f := store.Faring{Since: from, Until: until, ByTime: true, ByCountry: true}
	took, err := a.Store.Arrivals(ctx, f)
	if err != nil {
		return nil, err
	}
	ended, err := a.Store.Endings(ctx, f)
	if err != nil {
		return nil, err
	}
	found := map[place]*fares{}
	of := func(along store.Along) *Fared {
		at := place{along.Gateway, along.Country}
		if found[at] == nil {
			found[at] = newFares()
		}
		return found[at].at(along.At)
	}
	for along, h := range took {
		of(along).Took = *h
	}
	for along, t := range ended {
		of(along).Tally = *t
	}
	all := make(map[place][]Fared, len(found))
	for at, one := range found {
		all[at] = one.group().Course
	}
	return all, nil
}
