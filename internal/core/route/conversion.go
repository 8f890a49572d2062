package route

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// Conversion is the word of routes that prefer, country by country, the gateway whose codes get used.
const Conversion = "conversion"

// Fared is how the last codes through a gateway to a country fared: how many there were, as far as they still count, and
// how many of these were used soon.
type Fared struct {
	N, Used float64
	At      time.Time
}

const (
	// faredMost is how many codes count: of more, the last. What is older fades.
	faredMost = 200
	// faredHalf is after how long half of what was known still counts.
	faredHalf = 7 * 24 * time.Hour
	// FaredLeast is of how many codes it has to be known how they fared for a gateway to take the place of another, or
	// to lose its own.
	FaredLeast = 20
	// surely is by how many standard errors a gateway has to be better than one that stands before it.
	surely = 2
	// tried is the share of codes that goes to gateways that are not preferred, so that it is known how they fare, and
	// triedNew the one as long as too little is known of any.
	tried, triedNew = 0.04, 0.1
)

// With is how codes fared, with n more of which some were used.
func (f Fared) With(n, used int64, at time.Time) Fared {
	f = f.as(at)
	if n <= 0 {
		return f
	}
	add, of := float64(n), float64(min(used, n))
	if add > faredMost {
		add, of = faredMost, of/add*faredMost
	}
	if over := f.N + add - faredMost; over > 0 && f.N > 0 {
		keep := (f.N - over) / f.N
		f.N, f.Used = f.N*keep, f.Used*keep
	}
	f.N, f.Used = f.N+add, f.Used+of
	return f
}

// as is what still counts at a moment.
func (f Fared) as(at time.Time) Fared {
	if past := at.Sub(f.At); past > 0 {
		fade := math.Exp2(-past.Hours() / faredHalf.Hours())
		if f.At.IsZero() {
			fade = 0
		}
		f.N, f.Used, f.At = f.N*fade, f.Used*fade, at
	}
	return f
}

// Rate is the share that was used, believed a little less the less is known.
func (f Fared) Rate() float64 { return (f.Used + 1) / (f.N + 2) }

// spread is the variance of that share.
func (f Fared) spread() float64 { return f.Rate() * (1 - f.Rate()) / (f.N + 2) }

// Prefer puts gateways in order by how codes fared, and says why. The first keeps its place unless another is better by
// more than chance explains, when at least [FaredLeast] codes are known of both. One code in twenty-five, one in ten as
// long as less is known of any, is for finding out: it goes to one of the others. draw, in [0, 1), decides which.
func Prefer(order []string, fared func(gateway string) Fared, now time.Time, draw float64) ([]string, string) {
	known := map[string]Fared{}
	share := tried
	for _, g := range order {
		if known[g] = fared(g).as(now); known[g].N < FaredLeast {
			share = triedNew
		}
	}
	best := 0
	for i := 1; i < len(order); i++ {
		a, b := known[order[best]], known[order[i]]
		if a.N >= FaredLeast && b.N >= FaredLeast && b.Rate()-a.Rate() > surely*math.Sqrt(a.spread()+b.spread()) {
			best = i
		}
	}
	order = slices.Clone(order)
	lead := order[best]
	order = append([]string{lead}, slices.Delete(order, best, best+1)...)
	told := make([]string, len(order))
	for i, g := range order {
		told[i] = g + ", of which too little is known"
		if f := known[g]; f.N >= FaredLeast {
			told[i] = fmt.Sprintf("%s, where %.0f %% are", g, 100*f.Used/f.N)
		}
	}
	why := "by codes that are used: " + strings.Join(told, "; then ")
	if len(order) > 1 && draw < share {
		i := 1 + min(int(draw/share*float64(len(order)-1)), len(order)-2)
		one := order[i]
		order = append([]string{one}, slices.Delete(order, i, i+1)...)
		why += "; " + one + " to find out"
	}
	return order, why
}

// Draw is a number in [0, 1) that is always the same for a message.
func Draw(message string) float64 { return draw(message + " conversion") }
