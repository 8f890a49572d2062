package statement

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/vary"
)

func codes(code string) (delivery.State, delivery.Cause, bool) {
	switch code {
	case "3":
		return delivery.Delivered, "", true
	case "4":
		return delivery.Undeliverable, delivery.Absent, true
	}
	return "", "", false
}

func rows(s string) (head []string, first [][]string) {
	for i, line := range strings.Split(strings.TrimSpace(s), "\n") {
		cells := strings.Split(strings.TrimSpace(line), ";")
		if i == 0 {
			head = cells
			continue
		}
		first = append(first, cells)
	}
	return head, first
}

func TestPropose(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		file string
		want Mapping
	}{
		"as a dialect writes it": {`Id;Reference;Recipient;Sent;Parts;Status;Price EUR
			wx-1;m-1;+447700900123;2026-11-15T07:40:02Z;2;3;0.0660`,
			Mapping{Currency: "EUR", Columns: map[Role]string{ID: "Id", Reference: "Reference", Number: "Recipient", At: "Sent", Segments: "Parts",
				Status: "Status", Charge: "Price EUR"}}},
		"a bill in German": {`Datum;Absender;Rufnummer;Anzahl;Betrag;Währung;Zustand
			15.11.2026 08:40:02;Lanternholm;447700900123;2;0,066;EUR;delivered`,
			Mapping{Comma: true, Columns: map[Role]string{At: "Datum", Sender: "Absender", Number: "Rufnummer", Segments: "Anzahl", Charge: "Betrag",
				Currency: "Währung", Status: "Zustand"}}},
		"months first": {`MsgID;To;Date;Cost
			a;12025550117;11/15/2026 8:40 AM;0.05
			b;12025550117;11/16/2026 8:40 AM;0.05`,
			Mapping{MonthFirst: true, Columns: map[Role]string{ID: "MsgID", Number: "To", At: "Date", Charge: "Cost"}}},
		"no names that say anything": {`a;b
			447700900123;2026-11-15 07:40:02`,
			Mapping{Columns: map[Role]string{Number: "a", At: "b"}}},
		"a name that what stands there belies": {`To;Status
			Lanternholm;3`,
			Mapping{Columns: map[Role]string{Status: "Status"}}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			head, first := rows(tt.file)
			if got := Propose(head, first, codes); !reflect.DeepEqual(got, tt.want) {
				t.Errorf("got  %+v\nwant %+v", got, tt.want)
			}
		})
	}
}

func TestRead(t *testing.T) {
	t.Parallel()
	head := []string{"id", "ref", "to", "from", "at", "state", "parts", "price", "ccy"}
	m := Mapping{
		Zone: "Europe/Athens",
		Columns: map[Role]string{ID: "id", Reference: "ref", Number: "to", Sender: "from", At: "at", Status: "state",
			Segments: "parts", Charge: "price", Currency: "ccy"},
	}
	r, err := NewReader(head, m, codes)
	if err != nil {
		t.Fatal(err)
	}
	micros := func(n int64) *int64 { return &n }
	at := time.Date(2026, 11, 15, 7, 40, 2, 0, time.UTC)
	for name, tt := range map[string]struct {
		cells []string
		want  Line
		wrong string
	}{
		"all of it": {[]string{"wx-1", "m-1", "+447700900123", "LH", "2026-11-15 09:40:02", "3", "2", "0.066", "eur"},
			Line{GatewayRef: "wx-1", Reference: "m-1", Number: "+447700900123", Sender: "LH", At: at, Code: "3",
				State: delivery.Delivered, Segments: 2,
				Charge: micros(66_000), Currency: "EUR"}, ""},
		"a code with a cause": {[]string{"wx-1", "", "", "", "", "4"},
			Line{GatewayRef: "wx-1", Code: "4", State: delivery.Undeliverable, Cause: delivery.Absent}, ""},
		"a word": {[]string{"wx-1", "", "", "", "", "DELIVRD"},
			Line{GatewayRef: "wx-1", Code: "DELIVRD", State: delivery.Delivered}, ""},
		"a zone of its own":   {[]string{"wx-1", "", "", "", "2026-11-15T07:40:02Z"}, Line{GatewayRef: "wx-1", At: at}, ""},
		"a code nobody knows": {[]string{"wx-1", "", "", "", "", "99"}, Line{GatewayRef: "wx-1", Code: "99"}, `status "99"`},
		"no time":             {[]string{"wx-1", "", "", "", "yesterday"}, Line{GatewayRef: "wx-1"}, `at "yesterday"`},
		"too many segments":   {[]string{"wx-1", "", "", "", "", "", "256"}, Line{GatewayRef: "wx-1", Segments: 255}, `segments "256"`},
		"no money":            {[]string{"wx-1", "", "", "", "", "", "", "free"}, Line{GatewayRef: "wx-1"}, `charge "free"`},
		"of no message":       {[]string{"", "", "+447700900123"}, Line{Number: "+447700900123"}, "nothing says"},
		"fewer cells":         {[]string{"wx-1"}, Line{GatewayRef: "wx-1"}, ""},
	} {
		got := r.Read(tt.cells)
		wrong := got.Wrong
		got.Wrong = ""
		if !reflect.DeepEqual(got, tt.want) || (wrong == "") != (tt.wrong == "") || !strings.HasPrefix(wrong, tt.wrong) {
			t.Errorf("%s: got %+v, wrong %q\nwant %+v, %q", name, got, wrong, tt.want, tt.wrong)
		}
	}
	for name, m := range map[string]Mapping{
		"no such column": {Columns: map[Role]string{ID: "key"}}, "no such role": {Columns: map[Role]string{"colour": "id", ID: "id"}},
		"no such zone":       {Zone: "Atlantis", Columns: map[Role]string{ID: "id"}},
		"no such currency":   {Currency: "XYZ", Columns: map[Role]string{ID: "id"}},
		"nothing that names": {Columns: map[Role]string{Number: "to"}},
	} {
		if _, err := NewReader(head, m, codes); err == nil {
			t.Errorf("%s: it is taken", name)
		}
	}
}

func TestAmountsAndTimes(t *testing.T) {
	t.Parallel()
	for given, want := range map[string][2]int64{ // with a point, with a comma; -1: it cannot be read
		"0.066": {66_000, 66_000_000}, "0,066": {66_000_000, 66_000}, "1,234.50": {1_234_500_000, -1}, "1.234,50": {-1, 1_234_500_000},
		"€ 0.05": {50_000, -1}, "0.05 EUR": {50_000, -1}, "1 234.5": {1_234_500_000, -1}, "-0.01": {-10_000, -1}, "--1": {-1, -1},
		"": {-1, -1}, "free": {-1, -1}, "1.2.3": {-1, -1}, "9e9": {-1, -1}, "0.0000001": {0, -1},
		"5": {5_000_000, 5_000_000}, ".5": {500_000, -1},
	} {
		for i, comma := range []bool{false, true} {
			got, ok := ParseAmount(given, comma)
			if !ok {
				got = -1
			}
			if got != want[i] {
				t.Errorf("%q, comma %v: %d, want %d", given, comma, got, want[i])
			}
		}
	}
	athens, err := time.LoadLocation("Europe/Athens")
	if err != nil {
		t.Fatal(err)
	}
	want := time.Date(2026, 11, 5, 7, 40, 2, 0, time.UTC)
	for _, given := range []string{"2026-11-05T07:40:02Z", "2026-11-05 09:40:02", "05.11.2026 09:40:02", "5/11/2026 09:40:02", "1793864402",
		"1793864402000", "20261105094002", "2026-11-05 07:40:02 +0000"} {
		if got, ok := ParseTime(given, athens, false); !ok || !got.Equal(want) {
			t.Errorf("%q is %v, %v", given, got, ok)
		}
	}
	if got, ok := ParseTime("11/5/2026 9:40:02 AM", athens, true); !ok || !got.Equal(want) {
		t.Errorf("months first it is %v, %v", got, ok)
	}
	for _, given := range []string{"", "soon", "0001-01-01T00:00:00Z", "99", strings.Repeat("9", 60)} {
		if got, ok := ParseTime(given, time.UTC, false); ok {
			t.Errorf("%q is %v", given, got)
		}
	}
}

// Nothing that may stand in a file makes it fall over.
func FuzzStatement(f *testing.F) {
	seeds := []string{"wx-1;m-1;+447700900123;2026-11-15T07:40:02Z;2;3;0,0660", "a;;447700900123;15.11.2026 08:40;1;DELIVRD;1.234,50 €"}
	vary.Of(f, 2000, seeds, func(s string) { f.Add(s) })
	f.Fuzz(func(t *testing.T, s string) {
		cells := strings.Split(s, ";")
		head := make([]string, len(cells))
		for i := range head {
			head[i] = string(rune('a' + i%26))
		}
		m := Propose(head, [][]string{cells}, codes)
		if r, err := NewReader(head, m, codes); err == nil {
			if l := r.Read(cells); l.Wrong == "" && l.GatewayRef == "" && l.Reference == "" && l.Number == "" {
				t.Errorf("%q is of no message: %+v", s, l)
			}
		}
	})
}
