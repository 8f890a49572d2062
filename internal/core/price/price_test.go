package price

import (
	"bytes"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/vary"

	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
)

func TestMoney(t *testing.T) {
	for _, tt := range []struct{ amount, currency, want string }{
		{"0.0391", "EUR", "0.0391 EUR"}, {"1", "EUR", "1.00 EUR"}, {"1.5", "GBP", "1.50 GBP"}, {"0", "EUR", "0.00 EUR"},
		{"8", "JPY", "8 JPY"}, {"7.5", "JPY", "7.5 JPY"}, {"0.000001", "USD", "0.000001 USD"}, {"1.234", "KWD", "1.234 KWD"},
		{"9223372036854.775807", "EUR", "9223372036854.775807 EUR"},
	} {
		m, err := ParseMoney(tt.amount, tt.currency)
		if err != nil || m.String() != tt.want {
			t.Errorf("%s %s is %s, %v; want %s", tt.amount, tt.currency, m, err, tt.want)
		}
		if back, err := ParseMoney(m.Amount(), m.Currency()); err != nil || back != m {
			t.Errorf("%s is read back as %s, %v", m, back, err)
		}
	}
	for _, tt := range [][2]string{{"", "EUR"}, {"-1", "EUR"}, {"1,5", "EUR"}, {"1.", "EUR"}, {".5", "EUR"}, {"0.0000001", "EUR"}, {"1", "XQQ"}, {"1", "eur"}, {"1", ""},
		{"9223372036854.775808", "EUR"}, {"99999999999999999999999", "EUR"}, {"1e3", "EUR"}} {
		if m, err := ParseMoney(tt[0], tt[1]); !errors.Is(err, ErrMoney) {
			t.Errorf("%q %q is %s, %v; want it refused", tt[0], tt[1], m, err)
		}
	}
	if _, ok := Of(1<<62, "EUR").Times(3); ok {
		t.Error("a product that is too large is counted")
	}
	if m, ok := Of(39100, "EUR").Times(3); !ok || m.String() != "0.1173 EUR" {
		t.Errorf("three times 0.0391 EUR is %s, %v", m, ok)
	}
}

const sheet = "country,prefix,kind,per,price,currency,from\n" +
	"*,,,segment,0.12,EUR,\n" +
	"GB,,,segment,0.0391,EUR,2026-01-01\n" +
	"GB,,,segment,0.0402,EUR,2026-07-01\n" +
	"GB,,otp,message,0.05,EUR,\n" +
	"GB,447700,,segment,0.03,EUR,2027-01-01\n" +
	"GB,447700900,,segment,0.02,EUR,\n"

func TestFind(t *testing.T) {
	entries, err := ReadCSV(strings.NewReader("\uFEFF" + sheet))
	if err != nil {
		t.Fatal(err)
	}
	list := NewList(entries)
	day := func(s string) time.Time {
		at, err := time.Parse(time.DateOnly, s)
		if err != nil {
			t.Fatal(err)
		}
		return at
	}
	for name, tt := range map[string]struct {
		number, country string
		kind            pace.Kind
		at              string
		segments        int
		want            string
	}{
		"by country":                         {"+447911123456", "GB", pace.Bulk, "2026-03-01", 2, "0.0782 EUR"},
		"the price that has begun":           {"+447911123456", "GB", pace.Bulk, "2026-07-01", 2, "0.0804 EUR"},
		"by kind, a message":                 {"+447911123456", "GB", pace.OTP, "2026-03-01", 2, "0.05 EUR"},
		"by the longest prefix, of any kind": {"+447700900123", "GB", pace.OTP, "2026-03-01", 2, "0.04 EUR"},
		"a prefix that has not begun":        {"+447700800123", "GB", pace.Bulk, "2026-03-01", 1, "0.0391 EUR"},
		"a prefix that has":                  {"+447700800123", "GB", pace.Bulk, "2027-03-01", 1, "0.03 EUR"},
		"anywhere else":                      {"+33639980012", "FR", pace.Bulk, "2026-03-01", 1, "0.12 EUR"},
		"before the first price":             {"+447911123456", "GB", pace.Bulk, "2025-12-31", 1, "0.12 EUR"},
	} {
		n, err := phone.Parse(tt.number)
		if err != nil {
			t.Fatal(err)
		}
		if got, ok := list.Estimate(n, tt.country, tt.kind, tt.segments, day(tt.at)); !ok || got.String() != tt.want {
			t.Errorf("%s: %s, %v; want %s", name, got, ok, tt.want)
		}
	}
	var none *List
	n, _ := phone.Parse("+447911123456")
	for _, l := range []*List{none, NewList(nil), NewList(entries[1:2])} {
		if got, ok := l.Estimate(n, "FR", pace.Bulk, 1, day("2025-01-01")); ok || got != (Money{}) {
			t.Errorf("what nobody knows is %s", got)
		}
	}
	var out bytes.Buffer
	if err := WriteCSV(&out, entries); err != nil {
		t.Fatal(err)
	}
	if again, err := ReadCSV(&out); err != nil || !reflect.DeepEqual(NewList(again), list) {
		t.Errorf("written and read again: %v, %v", again, err)
	}
}

func TestReadCSVRefuses(t *testing.T) {
	head := "country,price,currency,from,per,kind,prefix\n"
	for in, why := range map[string]string{
		"":                               "no head",
		"country,price\n":                "no column currency",
		"country,country\n":              "once each",
		"country,price,curency\n":        `column "curency"`,
		head + "XX,1,EUR,,,,\n":          `line 2: country "XX"`,
		head + "GB,1.5.5,EUR,,,,\n":      `line 2: price "1.5.5"`,
		head + "GB,\"0,5\",EUR,,,,\n":    `price "0,5"`,
		head + "GB,1,EURO,,,,\n":         `currency "EURO"`,
		head + "GB,1,EUR,yesterday,,,\n": `from "yesterday"`,
		head + "GB,1,EUR,,word,,\n":      `per "word"`,
		head + "GB,1,EUR,,,sms,\n":       `kind "sms"`,
		head + "*,1,EUR,,,,44\n":         `prefix "44"`,
		head + "GB,1,EUR,,,,\nFR,1,EUR,,,,\nGB,2,EUR,,,,\n": "line 4: the same country, prefix, kind and from stand on line 2",
		head + "GB,1\n":                       "wrong number of fields",
		head + "XX,1,EUR,,,,\nGB,x,EUR,,,,\n": `line 3: price "x"`,
	} {
		if got, err := ReadCSV(strings.NewReader(in)); !errors.Is(err, ErrList) || !strings.Contains(err.Error(), why) {
			t.Errorf("%q gives %v, %v; want it to say %q", in, got, err, why)
		}
	}
}

func TestEstimate(t *testing.T) {
	var e Estimate
	if e.String() != "nothing to price" {
		t.Errorf("of nothing: %s", &e)
	}
	e.Add(Money{}, false)
	if e.String() != "unknown" {
		t.Errorf("of what is unknown: %s", &e)
	}
	e.Add(Of(39100, "EUR"), true)
	e.Add(Of(39100, "EUR"), true)
	e.Add(Of(8*Micro, "JPY"), true)
	if want := "0.0782 EUR and 8 JPY, and 1 of unknown price"; e.String() != want || e.Priced != 3 || e.Unknown != 1 {
		t.Errorf("got %s, want %s", &e, want)
	}
	e.Add(Of(1<<63-1, "EUR"), true)
	if e.Unknown != 2 {
		t.Errorf("a sum that cannot be counted: %s", &e)
	}
}

// A price list is refused, or it is written so that it is read again.
func FuzzReadCSV(f *testing.F) {
	seeds := []string{"country,prefix,kind,per,price,currency,from\nGB,,,segment,0.0391,EUR,2026-01-01\n*,,,message,0.12,EUR,\n",
		"country;price;currency\nGB;0,0391;EUR\n", "country,price,currency\n\"GB\",1e9,USD\n"}
	vary.Of(f, 3000, seeds, func(s string) { f.Add(s) })
	f.Fuzz(func(t *testing.T, source string) {
		entries, err := ReadCSV(strings.NewReader(source))
		if err != nil {
			return
		}
		NewList(entries)
		var written bytes.Buffer
		if err := WriteCSV(&written, entries); err != nil {
			t.Fatal(err)
		}
		if again, err := ReadCSV(&written); err != nil || len(again) != len(entries) {
			t.Fatalf("%q is read as %v, and written so it is %v, %v", source, entries, again, err)
		}
	})
}
