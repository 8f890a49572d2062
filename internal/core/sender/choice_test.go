package sender

import (
	"errors"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
)

func id(t *testing.T, s string) ID {
	t.Helper()
	parsed, err := Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return parsed
}

func TestChoose(t *testing.T) {
	all := []Entry{
		{ID: id(t, "Lanternholm"), Defaults: []Default{{}}},
		{ID: id(t, "LH Boarding"), Defaults: []Default{{Kind: pace.OTP}}},
		{ID: id(t, "LH Sverige"), Countries: []string{"SE"}, Defaults: []Default{{Country: "SE"}}},
		{ID: id(t, "+447700900000"), Registrations: map[string]string{"US": "C-77"}},
		{
			ID:            id(t, "80123"),
			Gateways:      []string{"monsoon"},
			Countries:     []string{"IN"},
			Defaults:      []Default{{Country: "IN"}},
			Registrations: map[string]string{"IN": "E-1"},
		},
	}
	for _, tt := range []struct {
		named, country, gateway string
		kind                    pace.Kind
		want                    string
		verdict                 Verdict
		why                     string
	}{
		{"", "GB", "", pace.Bulk, "Lanternholm", Allowed, ""},
		{"", "GB", "", pace.OTP, "LH Boarding", Allowed, ""},
		{"", "SE", "", pace.OTP, "LH Sverige", Allowed, ""}, // the country's weighs more
		{"", "US", "", pace.Transactional, "+447700900000", Allowed, ""},
		{"", "IN", "monsoon", pace.Transactional, "80123", Refused, ""}, // for its text, not for its sender
		{"", "ZW", "", pace.Transactional, "Lanternholm", NotKnown, ""},
		{"Lanternholm", "US", "", pace.Transactional, "Lanternholm", Refused, ""},
		{"Lanternholm", "IE", "", pace.Transactional, "Lanternholm", Refused, ""},
		{"LH Sverige", "GB", "", pace.Transactional, "LH Sverige", Allowed, "for SE only"},
		{"80123", "IN", "harbourline", pace.Transactional, "80123", Refused, "goes out through monsoon only"},
		{"Ferries", "GB", "", pace.Transactional, "", "", "not in use here"},
	} {
		rule, ok := Shipped()[tt.country]
		if !ok {
			rule = Unruled(tt.country)
		}
		got, decision, err := Choose(all, rule, tt.named, tt.gateway, Case{Kind: tt.kind, Text: "Crossing 0740"})
		if got.ID.String() != tt.want || decision.Verdict != tt.verdict || (err != nil) != (tt.why != "") ||
			err != nil && (!errors.Is(err, ErrNone) || !strings.Contains(err.Error(), tt.why)) {
			t.Errorf(
				"%q to %s through %q as %s: %s, %+v, %v; want %s, %s, %s",
				tt.named,
				tt.country,
				tt.gateway,
				tt.kind,
				got.ID,
				decision,
				err,
				tt.want,
				tt.verdict,
				tt.why,
			)
		}
	}
	for country, why := range map[string]string{"US": "no registration of +447700900000", "GB": "no default for bulk texts to United Kingdom"} {
		only := []Entry{{ID: id(t, "+447700900000")}}
		if country == "GB" {
			only = []Entry{{ID: id(t, "LH Boarding"), Defaults: []Default{{Kind: pace.OTP}}}}
		}
		if got, _, err := Choose(only, Shipped()[country], "", "", Case{Kind: pace.Bulk}); !errors.Is(err, ErrNone) ||
			!strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v, %v; want it to say %q", country, got, err, why)
		}
	}
}

func TestDecide(t *testing.T) {
	at := func(clock string) time.Time {
		parsed, err := time.Parse(time.RFC3339, clock)
		if err != nil {
			t.Fatal(err)
		}
		return parsed
	}
	registered := Entry{ID: id(t, "LNTRNH"), Registrations: map[string]string{"IN": "E-1", "PH": "P-1"}}
	noon := at("2026-11-17T06:30:00Z")
	tests := map[string]struct {
		country string
		c       Case
		verdict Verdict
		about   string // of the worst finding
		say     string
	}{
		"a registered text": {
			"IN",
			Case{
				Sender:         registered,
				Kind:           pace.Bulk,
				Text:           "Berth 3",
				Wording:        "Berth \x00",
				TextRegistered: true,
				At:             noon,
				TimeZones:      []string{"Asia/Kolkata"},
			},
			Allowed,
			"",
			"",
		},
		"a text that is not": {
			"IN",
			Case{Sender: registered, Kind: pace.Transactional, Text: "Berth 3"},
			Refused,
			"text",
			"registered texts only",
		},
		"a link in a field": {
			"IN",
			Case{Sender: registered, Kind: pace.Transactional, Text: "See https://a.example", Wording: "See \x00", TextRegistered: true},
			Refused,
			"link",
			"fixed wording",
		},
		"a link in the wording": {
			"IN",
			Case{
				Sender:         registered,
				Kind:           pace.Transactional,
				Text:           "See https://a.example",
				Wording:        "See https://a.example",
				TextRegistered: true,
			},
			Allowed,
			"",
			"",
		},
		"a link where none may be": {
			"PH",
			Case{Sender: registered, Kind: pace.Transactional, Text: "See www.a.example"},
			Refused,
			"link",
			"no links",
		},
		"quiet hours": {
			"IN",
			Case{
				Sender:         registered,
				Kind:           pace.Bulk,
				Text:           "x",
				Wording:        "x",
				TextRegistered: true,
				At:             at("2026-11-17T16:00:00Z"),
				TimeZones:      []string{"Asia/Kolkata"},
			},
			Careful,
			"quiet_hours",
			"until 10:00",
		},
		"passcodes are never too loud": {
			"IN",
			Case{
				Sender:         registered,
				Kind:           pace.OTP,
				Text:           "x",
				Wording:        "x",
				TextRegistered: true,
				At:             at("2026-11-17T16:00:00Z"),
				TimeZones:      []string{"Asia/Kolkata"},
			},
			Allowed,
			"",
			"",
		},
		"Sundays in France": {
			"FR",
			Case{Sender: registered, Kind: pace.Bulk, Text: "x STOP", At: at("2026-11-15T12:00:00Z"), TimeZones: []string{"Europe/Paris"}},
			Careful,
			"quiet_hours",
			"the end of the day",
		},
		"no way to stop them": {
			"FR",
			Case{Sender: registered, Kind: pace.Bulk, Text: "x", At: noon, TimeZones: []string{"Europe/Paris"}},
			Careful,
			"opt_out",
			`"STOP" is not in it`,
		},
		"somewhere it is quiet": {
			"US",
			Case{
				Sender:    Entry{ID: id(t, "80123"), Registrations: map[string]string{"US": "x"}},
				Kind:      pace.Bulk,
				Text:      "stop",
				At:        at("2026-11-17T15:30:00Z"),
				TimeZones: []string{"America/New_York", "America/Los_Angeles"},
			},
			Careful,
			"quiet_hours",
			"America/Los_Angeles until 08:00",
		},
		"of which nothing is known": {"ZW", Case{Sender: registered, Kind: pace.Bulk, Text: "x"}, NotKnown, "sender", "not known"},
	}
	for name, tt := range tests {
		t.Run(name, func(t *testing.T) {
			rule, ok := Shipped()[tt.country]
			if !ok {
				rule = Unruled(tt.country)
			}
			got := rule.Decide(tt.c)
			worst := slices.IndexFunc(got.Findings, func(f Finding) bool { return f.Verdict == got.Verdict })
			if got.Verdict != tt.verdict || got.Rule != rule.Name() ||
				tt.about != "" && (got.Findings[worst].About != tt.about || !strings.Contains(got.Findings[worst].Say, tt.say)) {
				t.Errorf("got %+v, want %s of %s: %s", got, tt.verdict, tt.about, tt.say)
			}
		})
	}
}

func TestShippedRules(t *testing.T) {
	if len(Shipped()) < 40 {
		t.Errorf("%d countries have a rule, 40 are promised", len(Shipped()))
	}
	for country, r := range Shipped() {
		if r.Country != country || r.Date == "" || r.Origin == "" || phone.CountryName(country) == country {
			t.Errorf("%s: %+v", country, r)
		}
	}
	var all []Rule
	for _, country := range phone.Countries() {
		if r, ok := Shipped()[country]; ok {
			all = append(all, r)
		}
	}
	written, err := WriteRules(all)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := ReadRules(written); err != nil || !reflect.DeepEqual(again, all) {
		t.Errorf("written and read again: %v", err)
	}
}

func TestReadRulesRefuses(t *testing.T) {
	for source, why := range map[string]string{
		"rules: [{country: UK}]":                                                                           `country "UK"`,
		"rules: [{country: GB, links: yes-please}]":                                                        `GB: links "yes-please"`,
		"rules: [{country: GB}, {country: GB}]":                                                            "twice",
		"rules: [{country: GB, colour: red}]":                                                              "colour",
		"rules: [{country: GB, date: yesterday}]":                                                          `date "yesterday"`,
		"rules: [{country: GB, quiet: [{kinds: [bulk], from: \"9\", to: \"10:00\"}]}]":                     `quiet "9"`,
		"rules: [{country: GB, quiet: [{kinds: [sms], from: \"09:00\", to: \"10:00\"}]}]":                  `quiet.kinds "sms"`,
		"rules: [{country: GB, quiet: [{kinds: [bulk], from: \"09:00\", to: \"10:00\", days: [Sunday]}]}]": `quiet.days "Sunday"`,
	} {
		if _, err := ReadRules([]byte(source)); !errors.Is(err, ErrRule) || !strings.Contains(err.Error(), why) {
			t.Errorf("%s gives %v; want it to say %q", source, err, why)
		}
	}
	if rules, err := ReadRules([]byte("date: 2026-11-01\norigin: us\nrules: [{country: ZW}]")); err != nil || rules[0].Links != Unknown ||
		rules[0].Date != "2026-11-01" ||
		rules[0].Origin != "us" {
		t.Errorf("what is left out: %+v, %v", rules, err)
	}
}

func TestLinks(t *testing.T) {
	for text, want := range map[string][]string{
		"see https://ferry.example/a?b=c now": {"https://ferry.example/a?b=c"}, "www.ferry.example": {"www.ferry.example"}, "ferry.example/x": {"ferry.example/x"},
		"Crossing 07.40 at berth 3.No wait": nil, "e.g. this": nil, "bit.ly/abc": {"bit.ly/abc"}, "HTTP://A.EXAMPLE": {"HTTP://A.EXAMPLE"},
	} {
		if got := Links(text); !slices.Equal(got, want) {
			t.Errorf("Links(%q) = %q, want %q", text, got, want)
		}
	}
}

// Where the quick look finds that there is none, the long one finds none.
func TestWhatMayLinkIsNotOverlooked(t *testing.T) {
	t.Parallel()
	pieces := []string{"a", "www", ".", "com", "http", "://", " ", "x", "\u00a0", "1", "/", "é", "\n", "app", "HTTPS"}
	random := rand.New(rand.NewPCG(1, 2))
	for range 50_000 {
		var text strings.Builder
		for range random.IntN(9) {
			text.WriteString(pieces[random.IntN(len(pieces))])
		}
		if links := link.FindAllString(text.String(), -1); links != nil && !mayLink(text.String()) {
			t.Fatalf("%q has links %q", text.String(), links)
		}
	}
}

func TestQuietUntil(t *testing.T) {
	t.Parallel()
	nights := Rule{Quiet: []Quiet{{Kinds: []pace.Kind{pace.Bulk}, From: "21:00", To: "08:00"}}}
	sundays := Rule{Quiet: []Quiet{{Kinds: []pace.Kind{pace.Bulk}, From: "20:00", To: "08:00", Days: []string{"Sun"}}}}
	always := Rule{
		Quiet: []Quiet{
			{Kinds: []pace.Kind{pace.Bulk}, From: "00:00", To: "12:00"},
			{Kinds: []pace.Kind{pace.Bulk}, From: "12:00", To: "00:00"},
		},
	}
	paris := []string{"Europe/Paris"}
	coasts := []string{"America/New_York", "America/Los_Angeles"}
	for name, tt := range map[string]struct {
		rule     Rule
		kind     pace.Kind
		zones    []string
		at, want string
	}{
		"by day":                       {nights, pace.Bulk, paris, "2026-11-26T12:00:00Z", "2026-11-26T12:00:00Z"},
		"by night":                     {nights, pace.Bulk, paris, "2026-11-26T22:00:00Z", "2026-11-27T07:00:00Z"},
		"after midnight":               {nights, pace.Bulk, paris, "2026-11-27T02:00:00Z", "2026-11-27T07:00:00Z"},
		"of another kind":              {nights, pace.Transactional, paris, "2026-11-26T22:00:00Z", "2026-11-26T22:00:00Z"},
		"of no known place":            {nights, pace.Bulk, nil, "2026-11-26T22:00:00Z", "2026-11-26T22:00:00Z"},
		"over a Sunday":                {sundays, pace.Bulk, paris, "2026-11-28T21:00:00Z", "2026-11-30T07:00:00Z"},
		"on both coasts":               {nights, pace.Bulk, coasts, "2026-11-27T10:00:00Z", "2026-11-27T16:00:00Z"},
		"over the change of clocks":    {nights, pace.Bulk, paris, "2026-10-24T22:00:00Z", "2026-10-25T07:00:00Z"},
		"where it is never over, once": {always, pace.Bulk, []string{"UTC"}, "2026-11-27T10:00:00Z", ""},
	} {
		at, _ := time.Parse(time.RFC3339, tt.at)
		until, _ := tt.rule.QuietUntil(tt.kind, tt.zones, at)
		if got := until.UTC().Format(time.RFC3339); tt.want != "" && got != tt.want {
			t.Errorf("%s: from %s until %s, want %s", name, tt.at, got, tt.want)
		}
		if until.Before(at) {
			t.Errorf("%s: until %s, before %s", name, until, at)
		}
	}
}

// Between two moments that Hours names nothing changes, and it says the same as QuietUntil.
func TestHoursHold(t *testing.T) {
	t.Parallel()
	bulk := []pace.Kind{pace.Bulk}
	for _, r := range []Rule{
		{Quiet: []Quiet{{Kinds: bulk, From: "21:00", To: "08:00"}}},
		{Quiet: []Quiet{{Kinds: bulk, From: "20:00", To: "08:00", Days: []string{"Sun"}}}},
		{Quiet: []Quiet{{Kinds: bulk, From: "12:00", To: "13:30"}, {Kinds: bulk, From: "22:15", To: "06:45"}}},
		{Quiet: []Quiet{{Kinds: []pace.Kind{pace.Transactional}, From: "00:00", To: "23:59"}}},
	} {
		zones := []string{"America/New_York", "America/Los_Angeles"}
		at := time.Date(2026, 10, 23, 0, 7, 0, 0, time.UTC) // over the end of summer time
		for end := at.AddDate(0, 0, 14); at.Before(end); {
			open, until := r.Hours(pace.Bulk, zones, at)
			if until.IsZero() {
				if !open {
					t.Fatalf("%+v: quiet for good at %v", r.Quiet, at)
				}
				break
			}
			if !until.After(at) {
				t.Fatalf("%+v: at %v until %v", r.Quiet, at, until)
			}
			for probe := at; probe.Before(until) && probe.Before(end); probe = probe.Add(11 * time.Minute) {
				if ends, _ := r.QuietUntil(pace.Bulk, zones, probe); open == ends.After(probe) {
					t.Fatalf("%+v: at %v open is %v until %v, and at %v it is not", r.Quiet, at, open, until, probe)
				}
			}
			at = until
		}
	}
}
