package smstext

import (
	"errors"
	"slices"
	"unicode/utf8"

	"calmpigeon.example/internal/core/fault"
)

// basic is the GSM 7-bit default alphabet in the order of its codes
// (TS 23.038 §6.2.1). Position 0x1B, the escape, is no character of a text.
const basic = "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞ\x1bÆæßÉ" +
	" !\"#¤%&'()*+,-./0123456789:;<=>?" +
	"¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§" +
	"¿abcdefghijklmnopqrstuvwxyzäöñüà"

// turkish and portuguese are the locking shift tables, which take the place of
// the default alphabet (TS 23.038 §A.3.1 and §A.3.3). Spanish has none.
const (
	turkish = "@£$¥€éùıòÇ\nĞğ\rÅåΔ_ΦΓΛΩΠΨΣΘΞ\x1bŞşßÉ" +
		" !\"#¤%&'()*+,-./0123456789:;<=>?" +
		"İABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§" +
		"çabcdefghijklmnopqrstuvwxyzäöñüà"
	portuguese = "@£$¥êéúíóç\nÔô\rÁáΔ_ªÇÀ∞^\\€Ó|\x1bÂâÊÉ" +
		" !\"#º%&'()*+,-./0123456789:;<=>?" +
		"ÍABCDEFGHIJKLMNOPQRSTUVWXYZÃÕÚÜ§" +
		"~abcdefghijklmnopqrstuvwxyzãõ`üà"
)

// extended are the characters reached by an escape (TS 23.038 §6.2.1.1).
// Every single shift table has them in the same places.
var extended = map[byte]rune{0x0A: '\f', 0x14: '^', 0x28: '{', 0x29: '}', 0x2F: '\\', 0x3C: '[', 0x3D: '~', 0x3E: ']', 0x40: '|', 0x65: '€'}

// single are the characters that the single shift tables add to the extension
// table (TS 23.038 §A.2.1 to §A.2.3).
var single = map[Language]map[byte]rune{
	Turkish: {0x47: 'Ğ', 0x49: 'İ', 0x53: 'Ş', 0x63: 'ç', 0x67: 'ğ', 0x69: 'ı', 0x73: 'ş'},
	Spanish: {0x09: 'ç', 0x41: 'Á', 0x49: 'Í', 0x4F: 'Ó', 0x55: 'Ú', 0x61: 'á', 0x69: 'í', 0x6F: 'ó', 0x75: 'ú'},
	Portuguese: {0x05: 'ê', 0x09: 'ç', 0x0B: 'Ô', 0x0C: 'ô', 0x0E: 'Á', 0x0F: 'á', 0x12: 'Φ', 0x13: 'Γ', 0x15: 'Ω', 0x16: 'Π',
		0x17: 'Ψ', 0x18: 'Σ', 0x19: 'Θ', 0x1F: 'Ê', 0x41: 'À', 0x49: 'Í', 0x4F: 'Ó', 0x55: 'Ú', 0x5B: 'Ã', 0x5C: 'Õ', 0x61: 'Â',
		0x69: 'í', 0x6F: 'ó', 0x75: 'ú', 0x7B: 'ã', 0x7C: 'õ', 0x7F: 'â'},
}

// Language is a language with tables of its own in TS 23.038 Annex A, by its
// BCP 47 tag.
type Language string

// The languages whose tables are known here.
const (
	Turkish    Language = "tr"
	Spanish    Language = "es"
	Portuguese Language = "pt"
)

// Languages lists the languages whose tables are known here.
var Languages = []Language{Turkish, Spanish, Portuguese}

// ErrLanguage is returned for a language without tables here.
var ErrLanguage = errors.New("there are no shift tables for this language: tr, es and pt have some")

// ParseLanguage reads the BCP 47 tag of a language with tables; the empty
// string is none.
func ParseLanguage(s string) (Language, error) {
	if l := Language(s); s == "" || slices.Contains(Languages, l) {
		return l, nil
	}
	return "", fault.Because(ErrLanguage, "%q", s)
}

// Alphabet is a GSM 7-bit alphabet: the default one, or one with national
// tables in place of the alphabet (locking) or of its extension (single). Its
// zero value is the default alphabet. Both tables are of the same language, as
// nobody writes in two.
type Alphabet struct{ Locking, Single Language }

// tables is how many national tables an alphabet names in the header.
func (a Alphabet) tables() (n int) {
	if a.Locking != "" {
		n++
	}
	if a.Single != "" {
		n++
	}
	return n
}

// String names the alphabet for people.
func (a Alphabet) String() string {
	names := map[Language]string{Turkish: "Turkish", Spanish: "Spanish", Portuguese: "Portuguese"}
	switch {
	case a.Locking != "" && a.Single != "":
		return names[a.Single] + " locking and single shift tables"
	case a.Locking != "":
		return names[a.Locking] + " locking shift table"
	case a.Single != "":
		return names[a.Single] + " single shift table"
	}
	return "default alphabet"
}

// top is above the highest character of any table, the infinity sign.
const top = 0x2220

// table is an alphabet ready for use.
type table struct {
	// cost holds the septets of every character: 0 (not in it), 1 or 2.
	cost [top]uint8
	// code holds its code, with the escape in the high byte where it has one.
	code [top]uint16
	// plain and shifted give the characters back.
	plain, shifted [128]rune
}

const escape = 0x1B

func (a Alphabet) build() *table {
	t := &table{}
	for i := range t.plain {
		t.plain[i], t.shifted[i] = utf8.RuneError, utf8.RuneError
	}
	put := func(shifted map[byte]rune) {
		for code, r := range shifted {
			t.shifted[code], t.code[r], t.cost[r] = r, escape<<8|uint16(code), 2
		}
	}
	put(extended)
	put(single[a.Single])
	code := 0
	for _, r := range map[Language]string{"": basic, Turkish: turkish, Portuguese: portuguese}[a.Locking] {
		if code != escape {
			t.plain[code], t.code[r], t.cost[r] = r, uint16(code), 1
		}
		code++
	}
	return t
}

// defaults is the default alphabet. It is apart from the others so that
// weighing common texts looks nothing up.
var defaults = Alphabet{}.build()

// national are the alphabets with tables, in the order in which they are
// preferred: what asks least of the handset first.
var national = func() map[Language][]Alphabet {
	of := map[Language][]Alphabet{}
	for _, l := range Languages {
		of[l] = append(of[l], Alphabet{Single: l})
		if l != Spanish {
			of[l] = append(of[l], Alphabet{Locking: l}, Alphabet{Locking: l, Single: l})
		}
	}
	return of
}()

var built = func() map[Alphabet]*table {
	all := map[Alphabet]*table{{}: defaults}
	for _, alphabets := range national {
		for _, a := range alphabets {
			all[a] = a.build()
		}
	}
	return all
}()

func (a Alphabet) table() *table {
	if a == (Alphabet{}) {
		return defaults
	}
	return built[a]
}

// septets is what a character takes; 0 if it is not in the alphabet.
func (t *table) septets(r rune) int {
	if uint32(r) < top {
		return int(t.cost[r])
	}
	return 0
}

// InGSM7 reports whether the character stands in the GSM 7-bit default
// alphabet itself, without an escape (TS 23.038 §6.2.1).
func InGSM7(r rune) bool { return defaults.septets(r) == 1 }
