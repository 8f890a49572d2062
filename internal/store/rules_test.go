package store

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/template"
)

// What is the default for something is so alone, whoever was before; the very
// first sender is the default for everything.
func TestSendersAndTheirDefaults(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	now := now()
	put := func(id string, mayChange bool, defaults ...sender.Default) error {
		_, err := s.PutSender(
			t.Context(),
			Sender{
				ID:            id,
				Kind:          "alphanumeric",
				Gateways:      []string{},
				Countries:     []string{"GB"},
				Registrations: map[string]string{"IE": "x"},
				CreatedAt:     now,
				Defaults:      defaults,
			},
			mayChange,
		)
		return err
	}
	otp := sender.Default{Kind: "otp"}
	for _, err := range []error{put("One", false, otp), put("Two", false, otp), put("Three", false, sender.Default{Country: "SE"}, otp), put("Two", true, sender.Default{Kind: "bulk"})} {
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := put("One", false); !errors.Is(err, ErrExists) {
		t.Errorf("registered twice: %v", err)
	}
	all, err := s.Senders(t.Context())
	if err != nil || len(all) != 3 {
		t.Fatalf("%+v, %v", all, err)
	}
	want := map[string][]sender.Default{"One": {{}}, "Two": {{Kind: "bulk"}}, "Three": {{Country: "SE"}, otp}}
	for _, one := range all {
		if !slices.Equal(one.Defaults, want[one.ID]) || !slices.Equal(one.Countries, []string{"GB"}) || one.Registrations["IE"] != "x" {
			t.Errorf("%+v, want the defaults %v", one, want[one.ID])
		}
	}
	if err := s.RemoveSender(t.Context(), "One"); err != nil {
		t.Fatal(err)
	}
	if err := s.RemoveSender(t.Context(), "One"); !errors.Is(err, ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
}

func TestRulesTemplatesAndPricesAreReplaced(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	now := now()
	for _, links := range []sender.Access{sender.Open, sender.Closed} {
		if err := s.PutRules(t.Context(), []CountryRule{{Country: "GB", Rule: sender.Rule{Country: "GB", Links: links}, ChangedAt: now, ChangedBy: "first"}}); err != nil {
			t.Fatal(err)
		}
	}
	if rules, err := s.Rules(t.Context()); err != nil || len(rules) != 1 || rules[0].Rule.Links != sender.Closed ||
		rules[0].ChangedBy != "first" {
		t.Errorf("%+v, %v", rules, err)
	}
	if err := s.DropRule(t.Context(), "GB"); err != nil {
		t.Error(err)
	}
	if err := s.DropRule(t.Context(), "GB"); !errors.Is(err, ErrNotFound) {
		t.Errorf("dropped twice: %v", err)
	}

	tmpl, err := template.Read([]byte("name: a\nlanguage: en\ntexts: {en: 'Hi {x}'}\nfields: {x: {most: 3}}"))
	if err != nil {
		t.Fatal(err)
	}
	record := Template{Name: "a", Template: tmpl, CreatedAt: now, ChangedAt: now}
	if err := s.PutTemplate(t.Context(), record, false); err != nil {
		t.Fatal(err)
	}
	if err := s.PutTemplate(t.Context(), record, false); !errors.Is(err, ErrExists) {
		t.Errorf("added twice: %v", err)
	}
	if err := s.PutTemplate(t.Context(), record, true); err != nil {
		t.Error(err)
	}
	if all, err := s.Templates(t.Context(), FromTheStart); err != nil || len(all) != 1 || all[0].Template.Check() != nil ||
		all[0].Template.Fields["x"].Most != 3 {
		t.Errorf("%+v, %v", all, err)
	}

	g := Gateway{ID: NewID(), Name: "g", SealedSecrets: []byte{}, SealedCallback: []byte{}, CreatedAt: now}
	if err := s.AddGateway(t.Context(), g); err != nil {
		t.Fatal(err)
	}
	for _, sheet := range []string{"country,price,currency,from\nGB,0.04,EUR,\nGB,0.05,EUR,2026-07-01\n", "country,price,currency,from\nFR,0.0552,EUR,2026-01-01\n"} {
		entries, err := price.ReadCSV(strings.NewReader(sheet))
		if err != nil {
			t.Fatal(err)
		}
		if err := s.PutPrices(t.Context(), PriceList{g.ID, g.Name, now, "first"}, entries); err != nil {
			t.Fatal(err)
		}
		if stored, err := s.Prices(t.Context(), g.ID); err != nil || !slices.Equal(stored, entries) {
			t.Errorf("stored %+v, %v; want %+v", stored, err, entries)
		}
	}
	if lists, err := s.PriceLists(t.Context()); err != nil || len(lists) != 1 || lists[0].ChangedBy != "first" {
		t.Errorf("%+v, %v", lists, err)
	}
}

// A pace is counted by the database; what went counts from when it went.
func TestPacesOfSenders(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	if _, err := s.PutSender(t.Context(), Sender{ID: "One", Kind: "alphanumeric", Gateways: []string{}, Countries: []string{}, Registrations: map[string]string{}, CreatedAt: time.Now()}, false); err != nil {
		t.Fatal(err)
	}
	ages := func(span time.Duration) []time.Duration {
		t.Helper()
		all, err := s.Ages(t.Context(), map[Paced]time.Duration{{Name: "One"}: span, {Name: "nobody"}: span})
		if _, known := all[Paced{Name: "nobody"}]; err != nil || known {
			t.Fatalf("%v, %v", all, err)
		}
		return all[Paced{Name: "One"}]
	}
	if got := ages(time.Minute); len(got) != 0 {
		t.Errorf("before anything went: %v", got)
	}
	one := Paced{Name: "One"}
	leaving := Leaving{Paced: one, Message: NewID(), Span: time.Minute, Within: time.Hour}
	noted, err := s.NoteLeaving(t.Context(), []Leaving{leaving, leaving, leaving})
	if err != nil || len(noted) != 3 || noted[0].Paced != one {
		t.Fatalf("%v, %v", noted, err)
	}
	if before := ages(time.Nanosecond); len(before) != 3 || before[0] != 0 {
		t.Errorf("three that may arrive at any moment: %v", before)
	}
	// The first has just arrived, though it was noted for the same moment as the second; the last
	// arrived long ago.
	noted[0].Ago, noted[2].Ago = 0, time.Hour
	went := time.Now()
	if err := s.NoteGone(t.Context(), []Noted{noted[0], noted[2]}); err != nil {
		t.Fatal(err)
	}
	if after := ages(time.Minute); len(after) != 2 || after[0] > time.Since(went) || after[0] == 0 || after[1] != 0 {
		t.Errorf("after they arrived: %v", after)
	}
	if got := ages(time.Nanosecond); len(got) != 1 || got[0] != 0 {
		t.Errorf("outside the span, but for the one that may still arrive: %v", got)
	}
	if _, err := s.NoteLeaving(t.Context(), []Leaving{{Paced: one, Span: time.Nanosecond}}); err != nil {
		t.Fatal(err)
	}
	if got := ages(time.Minute); len(got) != 2 {
		t.Errorf("what is older than the span is kept: %v", got)
	}
	if err := s.Defer(t.Context(), map[uuid.UUID]time.Time{NewID(): time.Now()}); err != nil {
		t.Error(err)
	}
}
