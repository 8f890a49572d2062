package route

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
)

func TestFirstRouteThatFits(t *testing.T) {
	routes := []Route{
		{Name: "codes", Kinds: []pace.Kind{pace.OTP}, Gateways: []Leg{{Gateway: "a"}}},
		{Name: "manx", Countries: []string{"GB"}, Prefixes: []string{"+4477009001", "+4477009002"}, Gateways: []Leg{{Gateway: "b"}}},
		{Name: "desk", Senders: []string{"+447700900000"}, Gateways: []Leg{{Gateway: "c"}}},
		{Name: "britain", Countries: []string{"GB", "IE"}, Gateways: []Leg{{Gateway: "d"}}},
	}
	for name, tt := range map[string]struct {
		to, country string
		kind        pace.Kind
		sender      string
		want        string
	}{
		"by kind, before all others":     {"+447700900123", "GB", pace.OTP, "Lanternholm", "codes"},
		"by prefix":                      {"+447700900123", "GB", pace.Bulk, "Lanternholm", "manx"},
		"another prefix of the country":  {"+447700900923", "GB", pace.Bulk, "Lanternholm", "britain"},
		"by sender":                      {"+447700900923", "GB", pace.Bulk, "+447700900000", "desk"},
		"by sender, which is not chosen": {"+12025550143", "US", pace.Bulk, "", ""},
		"none fits":                      {"+12025550143", "US", pace.Bulk, "Lanternholm", ""},
	} {
		r, ok := Find(routes, Case{phone.Stored(tt.to), tt.country, tt.kind, tt.sender})
		if r.Name != tt.want || ok != (tt.want != "") {
			t.Errorf("%s: %q, want %q", name, r.Name, tt.want)
		}
	}
}

func TestOrder(t *testing.T) {
	ordered := Route{Gateways: []Leg{{"c", 0}, {"a", 0}, {"b", 0}}}
	if got := ordered.Order("m-1"); !slices.Equal(got, []string{"c", "a", "b"}) {
		t.Errorf("as given: %v", got)
	}
	weighted := Route{Gateways: []Leg{{"a", 1}, {"b", 3}, {"c", 6}}}
	first := map[string]int{}
	const n = 20_000
	for i := range n {
		id := fmt.Sprintf("0199-%d", i)
		order := weighted.Order(id)
		if !slices.Equal(order, weighted.Order(id)) {
			t.Fatalf("message %s draws differently the second time", id)
		}
		first[order[0]]++
		rest := slices.DeleteFunc([]string{"c", "b", "a"}, func(g string) bool { return g == order[0] })
		if !slices.Equal(order[1:], rest) {
			t.Fatalf("after %s come %v, want %v", order[0], order[1:], rest)
		}
	}
	for gateway, share := range map[string]float64{"a": .1, "b": .3, "c": .6} {
		if got := float64(first[gateway]) / n; got < share-.02 || got > share+.02 {
			t.Errorf("%s comes first in %.3f of all, want about %.1f", gateway, got, share)
		}
	}
}

func TestCheckNamesTheField(t *testing.T) {
	good := Route{
		Name:      "uk",
		Countries: []string{"GB"},
		Prefixes:  []string{"+44"},
		Kinds:     []pace.Kind{pace.OTP},
		Gateways:  []Leg{{"a", 1}, {"b", 2}},
	}
	if err := good.Check(); err != nil {
		t.Fatal(err)
	}
	for want, change := range map[string]func(*Route){
		"name":                   func(r *Route) { r.Name = "U K" },
		"countries":              func(r *Route) { r.Countries = []string{"UK"} },
		"prefixes":               func(r *Route) { r.Prefixes = []string{"44"} },
		"kinds":                  func(r *Route) { r.Kinds = []pace.Kind{"urgent"} },
		"gateways: there is no":  func(r *Route) { r.Gateways = nil },
		"gateways: a stands":     func(r *Route) { r.Gateways = []Leg{{"a", 0}, {"a", 0}} },
		"gateways: weight -1":    func(r *Route) { r.Gateways = []Leg{{"a", -1}} },
		"prefer \"speed\"":       func(r *Route) { r.Prefer = "speed" },
		"prefer: conversion":     func(r *Route) { r.Prefer = Conversion },
		"gateways: some have a ": func(r *Route) { r.Gateways = []Leg{{"a", 1}, {"b", 0}} },
	} {
		r := good
		change(&r)
		if err := r.Check(); !errors.Is(err, ErrInvalid) || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%+v: %v, want it to begin with %q", r, err, want)
		}
	}
}
