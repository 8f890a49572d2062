// Package route works out which gateways a message can take, and in which
// order.
//
// A route says for which messages it is and through which gateways they go: in
// the order given, or, if the gateways have weights, each as often as its
// weight says. The first route that fits a message is its own; what no route
// fits goes through the oldest gateway that takes it.
package route

import (
	"cmp"
	"errors"
	"hash/fnv"
	"regexp"
	"slices"
	"strings"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
)

// ErrInvalid is wrapped by the errors of [Route.Check].
var ErrInvalid = errors.New("not a route")

// Route says for which messages it is, and through which gateways they go.
// Empty lists stand for all.
type Route struct {
	Name      string      `json:"name"`
	Countries []string    `json:"countries"` // ISO 3166-1 alpha-2
	Prefixes  []string    `json:"prefixes"`  // of numbers, such as +4477
	Kinds     []pace.Kind `json:"kinds"`
	Senders   []string    `json:"senders"`
	Gateways  []Leg       `json:"gateways"`
	// Prefer is conversion where passcodes go, country by country, through the gateway whose codes get used; empty: the
	// gateways stand in their order, or share by weight.
	Prefer string `json:"prefer,omitempty"`
}

// Leg is one gateway of a route. Weights of 0 mean that the order counts.
type Leg struct {
	Gateway string `json:"gateway"`
	Weight  int    `json:"weight,omitempty"`
}

// Case is a message that looks for its route.
type Case struct {
	Number  phone.Number
	Country string
	Kind    pace.Kind
	Sender  string // empty: not chosen yet, which fits only routes for all senders
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// Check reports what is wrong with a route, naming the field and what is
// accepted. Errors wrap [ErrInvalid].
func (r Route) Check() error {
	fail := func(format string, args ...any) error { return fault.Because(ErrInvalid, format, args...) }
	if !nameForm.MatchString(r.Name) {
		return fail("name %q: accepted are 1 to 40 small letters, digits and hyphens", r.Name)
	}
	for _, country := range r.Countries {
		if !phone.IsCountry(country) {
			return fail("countries: %q is no country; accepted are codes in capitals, such as GB", country)
		}
	}
	for _, prefix := range r.Prefixes {
		digits, plus := strings.CutPrefix(prefix, "+")
		if !plus || digits == "" || len(digits) > 15 || strings.Trim(digits, "0123456789") != "" {
			return fail("prefixes: %q: accepted is a plus sign and the first digits of numbers, such as +4477", prefix)
		}
	}
	for _, kind := range r.Kinds {
		if _, err := pace.ParseKind(string(kind)); err != nil {
			return fail("kinds: %q: accepted are otp, transactional, bulk", kind)
		}
	}
	if len(r.Gateways) == 0 {
		return fail("gateways: there is none; at least one is needed")
	}
	weighted := 0
	for i, leg := range r.Gateways {
		if slices.ContainsFunc(r.Gateways[:i], func(l Leg) bool { return l.Gateway == leg.Gateway }) {
			return fail("gateways: %s stands twice", leg.Gateway)
		}
		if leg.Weight < 0 || leg.Weight > 1000 {
			return fail("gateways: weight %d of %s: accepted are 1 to 1000, or none at all", leg.Weight, leg.Gateway)
		}
		if leg.Weight > 0 {
			weighted++
		}
	}
	if weighted > 0 && weighted < len(r.Gateways) {
		return fail("gateways: some have a weight and some have none; give all of them one, or none")
	}
	switch {
	case r.Prefer != "" && r.Prefer != Conversion:
		return fail("prefer %q: accepted is conversion, or nothing", r.Prefer)
	case r.Prefer == Conversion && weighted > 0:
		return fail("prefer: conversion puts gateways in order, and so do weights; give one of them")
	}
	return nil
}

// Fits reports whether the route is for such a message.
func (r Route) Fits(c Case) bool {
	in := func(list []string, word string) bool { return len(list) == 0 || slices.Contains(list, word) }
	if !in(r.Countries, c.Country) || !in(r.Senders, c.Sender) {
		return false
	}
	if len(r.Kinds) > 0 && !slices.Contains(r.Kinds, c.Kind) {
		return false
	}
	return len(r.Prefixes) == 0 || slices.ContainsFunc(r.Prefixes, func(p string) bool { return strings.HasPrefix(c.Number.String(), p) })
}

// Find returns the first route that fits.
func Find(routes []Route, c Case) (Route, bool) {
	i := slices.IndexFunc(routes, func(r Route) bool { return r.Fits(c) })
	if i < 0 {
		return Route{}, false
	}
	return routes[i], true
}

// Weighted reports whether the gateways share the messages by weight.
func (r Route) Weighted() bool { return len(r.Gateways) > 0 && r.Gateways[0].Weight > 0 }

// Order lists the gateways in the order in which a message tries them. By
// weight, the first is drawn for the message, and the others follow by weight;
// the same message always draws the same.
func (r Route) Order(message string) []string {
	legs := slices.Clone(r.Gateways)
	if r.Weighted() {
		slices.SortStableFunc(legs, func(a, b Leg) int { return cmp.Compare(b.Weight, a.Weight) })
		total := 0
		for _, leg := range legs {
			total += leg.Weight
		}
		at := int(draw(message) * float64(total))
		for i, leg := range legs {
			if at -= leg.Weight; at < 0 {
				legs = slices.Insert(slices.Delete(legs, i, i+1), 0, leg)
				break
			}
		}
	}
	names := make([]string, len(legs))
	for i, leg := range legs {
		names[i] = leg.Gateway
	}
	return names
}

// draw makes a number in [0, 1) of a message's id.
func draw(message string) float64 {
	h := fnv.New64a()
	h.Write([]byte(message))
	x := h.Sum64()
	x ^= x >> 33 // the high bits alone are poor for words that differ little
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	return float64(x>>11) / (1 << 53)
}
