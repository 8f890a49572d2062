package smstext

import (
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"calmpigeon.example/internal/core/vary"
)

func TestForms(t *testing.T) {
	for _, tt := range []struct {
		form      Form
		text, hex string
	}{
		{UTF8, "Größe €", "4772C3B6C39F6520E282AC"},
		{Latin1, "Größe", "4772F6DF65"},
		{UTF16BE, "Größe €", "0047007200F600DF0065002020AC"},
		{UTF16BE, "⛴😀", "26F4D83DDE00"},
		{Packed, "hello", "E8329BFD06"},
		{Packed, "hellohello", "E8329BFD4697D9EC37"},
		{Packed, "", ""},
		{Packed, "@", "00"},
		{Packed, "1234567", "31D98C56B3DD1A"}, // a carriage return fills the last seven bits
		{Packed, "€", "9B32"},
	} {
		got, err := EncodeHex(tt.form, tt.text)
		if err != nil || got != tt.hex {
			t.Errorf("EncodeHex(%s, %q) = %s, %v; want %s", tt.form, tt.text, got, err, tt.hex)
		}
		if back, err := DecodeHex(tt.form, strings.ToLower(got)); err != nil || back != tt.text {
			t.Errorf("DecodeHex(%s, %s) = %q, %v; want %q", tt.form, got, back, err, tt.text)
		}
	}
	for form, text := range map[Form]string{Latin1: "€", Packed: "it’s", UTF8: "\xff", UTF16BE: "\xff", "ebcdic": "a"} {
		if got, err := Encode(form, text); !errors.Is(err, ErrForm) {
			t.Errorf("Encode(%s, %q) = %x, %v; want it refused", form, text, got, err)
		}
	}
	for form, data := range map[Form]string{UTF8: "\xff", UTF16BE: "\x00", "ebcdic": "a"} {
		if got, err := Decode(form, []byte(data)); !errors.Is(err, ErrForm) {
			t.Errorf("Decode(%s, %x) = %q, %v; want it refused", form, data, got, err)
		}
	}
	for _, half := range []string{"\xd8\x3d", "\xde\x00", "\xd8\x3d\x00\x61", "\x00\x61\xde\x00"} {
		if got, err := Decode(UTF16BE, []byte(half)); !errors.Is(err, ErrForm) {
			t.Errorf("half a surrogate pair %x is read as %q, %v", half, got, err)
		}
	}
}

// FuzzForms: whatever can be written can be read back, and nothing that comes
// in makes reading panic.
func FuzzForms(f *testing.F) {
	f.Add("Crossing 0740")
	f.Add("12345678\r")
	f.Add("Το πλοίο 😀")
	vary.Of(f, 5000, []string{"Crossing 0740", "12345678\r", "Το πλοίο 😀", "[€] é"}, func(s string) { f.Add(s) })
	f.Fuzz(func(t *testing.T, text string) {
		for _, form := range Forms {
			Decode(form, []byte(text))
			data, err := Encode(form, text)
			if err != nil {
				continue
			}
			want := text
			if n := Alphabet.must(Alphabet{}, text); form == Packed && n > 0 && n%8 == 0 && strings.HasSuffix(text, "\r") {
				want += "\r" // as the standard has it
			}
			if back, err := Decode(form, data); err != nil || back != want {
				t.Fatalf("%s: %q became %x and then %q, %v", form, text, data, back, err)
			}
		}
	})
}

func (a Alphabet) must(text string) int {
	_, n, err := a.Pack(text)
	if err != nil {
		return -1
	}
	return n
}

// Perl's table of the alphabet was typed by others. It maps what it lacks to a
// question mark unless told otherwise; here it is told to give nothing.
func TestAlphabetAgainstPerl(t *testing.T) {
	out, err := exec.Command("perl", "-MEncode", "-e",
		`for my $c (1..0xD7FF, 0xE000..0xFFFF) { printf "%x %s\n", $c, unpack "H*", encode("gsm0338", chr $c, sub { "" }) }`).Output()
	if err != nil {
		t.Skipf("no Perl with Encode here to compare with: %v", err)
	}
	n := 0
	for line := range strings.Lines(string(out)) {
		var r rune
		var code string
		fmt.Sscanf(line, "%x %s", &r, &code)
		got, err := Alphabet{}.septets(string(r))
		if fmt.Sprintf("%x", got) != code && r != escape {
			t.Errorf("U+%04X is %x here (%v) and %s in Perl", r, got, err, code)
		}
		n++
	}
	if n != 0xFFFF-0x800 {
		t.Errorf("Perl said %d lines", n)
	}
}

func TestNationalTables(t *testing.T) {
	for _, tt := range []struct {
		alphabet Alphabet
		r        rune
		codes    string
	}{
		{Alphabet{Single: Turkish}, 'ş', "1b73"}, {Alphabet{Locking: Turkish}, 'ş', "1d"}, {Alphabet{Locking: Turkish}, 'ı', "07"},
		{Alphabet{Locking: Turkish}, '€', "04"}, {Alphabet{Single: Turkish}, '€', "1b65"}, {Alphabet{Single: Spanish}, 'ú', "1b75"},
		{Alphabet{Single: Portuguese}, 'ã', "1b7b"}, {Alphabet{Locking: Portuguese}, 'ã', "7b"}, {Alphabet{Locking: Portuguese}, '∞', "15"},
		{Alphabet{Locking: Portuguese}, 'à', "7f"}, {Alphabet{Locking: Portuguese, Single: Portuguese}, 'â', "1d"},
		{Alphabet{Locking: Portuguese, Single: Portuguese}, 'Σ', "1b18"},
	} {
		if got, err := tt.alphabet.septets(string(tt.r)); err != nil || fmt.Sprintf("%x", got) != tt.codes {
			t.Errorf("%s: %q is %x, %v; want %s", tt.alphabet, tt.r, got, err, tt.codes)
		}
	}
	for a, table := range built {
		seen := map[rune]bool{}
		for code, r := range table.plain {
			if (r == 0xFFFD) != (code == escape) || seen[r] {
				t.Errorf("%s: code %02x is %q", a, code, r)
			}
			seen[r] = true
		}
	}
}
