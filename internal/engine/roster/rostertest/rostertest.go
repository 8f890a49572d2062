// Package rostertest sets up what tests of the engine's parts need: a database
// of their own and gateways in use.
package rostertest

import (
	"log/slog"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

// Roster makes a roster over an empty database, which it returns as well.
func Roster(t testing.TB) (*roster.Roster, *store.Store) {
	t.Helper()
	return On(t, pgtest.Database(t))
}

// On makes a roster over a database.
func On(t testing.TB, url string) (*roster.Roster, *store.Store) {
	t.Helper()
	s, err := store.Open(t.Context(), url, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	sealer, err := store.NewSealer([]byte(strings.Repeat("k", 32)))
	if err != nil {
		t.Fatal(err)
	}
	return roster.New(s, sealer), s
}

// Gateway adds a gateway that speaks a dialect, given as its source. setup may
// set more; the address is one at which nobody answers.
func Gateway(t testing.TB, r *roster.Roster, source string, setup roster.Settings) *roster.Gateway {
	t.Helper()
	address := "http://127.0.0.1:1"
	setup.Source = &source
	if setup.Address == nil {
		setup.Address = &address
	}
	g, err := r.AddGateway(t.Context(), "", setup, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return g
}

// Kit is what parts work with, by the clock of the machine and without a word.
func Kit(r *roster.Roster, s *store.Store) kit.Kit {
	return kit.Kit{Store: s, Roster: r, Hub: &watch.Hub{}, Bells: watch.NewBells(), Sheets: sheet.NewOpener(""),
		Log: slog.New(slog.DiscardHandler), Now: func() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }}
}

// Message is one that waits to be sent through a gateway, and is of use for an
// hour from a moment on.
func Message(g *roster.Gateway, at time.Time) store.Message {
	var m store.Message
	m.Content = store.Content{ID: store.NewID(), To: phone.Stored("+447700900123"), Sender: "Lanternholm",
		Kind: pace.Bulk, Lane: pace.Bulk.Lane(), Text: "x", Encoding: "gsm7", Units: 1, Segments: 1, ValidUntil: at.Add(time.Hour), CreatedAt: at}
	m.GatewayID, m.State, m.DueAt, m.ChangedAt = g.ID, delivery.Queued, at, at
	return m
}
