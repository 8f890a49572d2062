package smstext

import (
	"errors"
	"slices"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"calmpigeon.example/internal/core/fault"
)

// Why is what a character does to the cost of a text.
type Why string

// What characters do.
const (
	Forces  Why = "forces_ucs2" // it is not in the GSM 7-bit alphabet: 70 units a message, not 160
	Doubles Why = "costs_two"   // it needs an escape: two septets
)

// Keep is why a character has no cure.
type Keep string

// Why characters must be kept.
const (
	Letter Keep = "letter" // of a word of a language: another would be another word
	Sign   Keep = "sign"   // an emoji or a sign that nothing stands for
	Link   Keep = "link"   // in a link, which would lead elsewhere
)

// Level is how far a sender lets characters be replaced.
type Level string

// The levels. Safe changes what nobody notices: quotes, dashes, spaces,
// letters that look alike. Strong also changes what shows but means the same:
// (c) for ©, round brackets for square ones. Words are never changed.
const (
	Off    Level = "off"
	Safe   Level = "safe"
	Strong Level = "strong"
)

// ErrLevel is returned for a word that is no level.
var ErrLevel = errors.New("not a level of replacing: off, safe and strong are")

// ParseLevel reads a level; the empty string is off.
func ParseLevel(s string) (Level, error) {
	switch l := Level(s); l {
	case "":
		return Off, nil
	case Off, Safe, Strong:
		return l, nil
	}
	return "", fault.Because(ErrLevel, "%q", s)
}

// Culprit is a character, or a letter with its combining accents, that makes a
// text cost more.
type Culprit struct {
	Text string
	Why  Why
	At   []int // byte offsets, rising
	// Cure is what could stand in its place, at Level and above; empty with a
	// level means that nothing need stand there.
	Cure  string
	Level Level // Off if there is no cure, and then Keep says why
	Keep  Keep
}

// Blame lists the characters that make the text cost more, in the order in
// which they first appear. Where some force UCS2, those; where none does, those
// that cost two septets. Of a text that cannot be sent there are none.
func Blame(text string) []Culprit {
	type kind struct {
		text, cure string
		level      Level
		keep       Keep
	}
	var found []Culprit
	at := map[kind]int{}
	why := Doubles
	each(text, func(s stretch) {
		if s.why == Forces && why == Doubles { // the others cost nothing more then
			why, found = Forces, nil
			clear(at)
		}
		if s.why != why {
			return
		}
		k := kind{text[s.from:s.to], s.cure, s.level, s.keep}
		i, known := at[k]
		if !known {
			i = len(found)
			at[k] = i
			found = append(found, Culprit{Text: k.text, Why: why, Cure: k.cure, Level: k.level, Keep: k.keep})
		}
		found[i].At = append(found[i].At, s.from)
	})
	return found
}

// Replacement is what was put in the place of what, and how often.
type Replacement struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Count int    `json:"count"`
}

// Cure replaces characters up to a level if that saves at least one segment,
// and gives the text as it is if it does not: what saves nothing is not worth
// a change. Of several ways it takes the gentlest that saves most.
func (o Options) Cure(text string, level Level) (string, []Replacement) {
	if level != Safe && level != Strong || o.Encoding == UCS2 {
		return text, nil
	}
	before, err := o.Weigh(text)
	if err != nil && !errors.Is(err, ErrTooLong) && !errors.Is(err, ErrAlphabet) {
		return text, nil
	}
	var all []stretch
	each(text, func(s stretch) {
		if s.level == Safe || s.level == Strong && level == Strong {
			all = append(all, s)
		}
	})
	least := before.Segments
	if errors.Is(err, ErrAlphabet) {
		least = MaxSegments + 1
	}
	cured, done := text, []Replacement(nil)
	for _, take := range []func(stretch) bool{
		func(s stretch) bool { return s.why == Forces && s.level == Safe },
		func(s stretch) bool { return s.why == Forces },
		func(s stretch) bool { return s.level == Safe || s.why == Doubles },
		func(stretch) bool { return true },
	} {
		for _, shorter := range []bool{false, true} {
			with, replaced := replace(text, all, func(s stretch) bool {
				return take(s) && (!shorter || len(utf16.Encode([]rune(s.cure))) < len(utf16.Encode([]rune(text[s.from:s.to]))))
			})
			if len(replaced) == 0 {
				continue
			}
			after, err := o.Weigh(with)
			if !errors.Is(err, ErrAlphabet) && !errors.Is(err, ErrEmpty) && after.Segments < least {
				least, cured, done = after.Segments, with, replaced
			}
		}
	}
	return cured, done
}

// replace puts the cures of those that are taken into the text.
func replace(text string, all []stretch, take func(stretch) bool) (string, []Replacement) {
	var b strings.Builder
	var done []Replacement
	at := 0
	for _, s := range all {
		if !take(s) {
			continue
		}
		from := text[s.from:s.to]
		b.WriteString(text[at:s.from])
		b.WriteString(s.cure)
		at = s.to
		i := slices.IndexFunc(done, func(r Replacement) bool { return r.From == from && r.To == s.cure })
		if i < 0 {
			i = len(done)
			done = append(done, Replacement{From: from, To: s.cure})
		}
		done[i].Count++
	}
	b.WriteString(text[at:])
	return b.String(), done
}

// stretch is a character, with the combining accents on it, that costs more.
type stretch struct {
	from, to int
	why      Why
	cure     string
	level    Level
	keep     Keep
}

// each finds every stretch of a text that costs more.
func each(text string, found func(stretch)) {
	var word struct { // that stands around the character
		end         int
		link, mixed bool
	}
	previous := rune(-1)
	for i := 0; i < len(text); {
		if i >= word.end {
			end := i + strings.IndexFunc(text[i:], unicode.IsSpace)
			if end < i {
				end = len(text)
			}
			if end == i { // a space is a word of its own
				_, size := utf8.DecodeRuneInString(text[i:])
				end += size
			}
			word.end, word.link, word.mixed = end, isLink(text[i:end]), isMixed(text[i:end])
		}
		r, size := utf8.DecodeRuneInString(text[i:])
		end := i + size
		for end < len(text) { // accents that stand on it
			accent, size := utf8.DecodeRuneInString(text[end:])
			if !unicode.Is(unicode.Mn, accent) || accent >= 0xFE00 && accent <= 0xFE0F {
				break
			}
			end += size
		}
		s := stretch{from: i, to: end}
		cost := defaults.septets(r)
		if end > i+size {
			cost = 0
		}
		if cost != 1 {
			s.why = Forces
			if cost == 2 {
				s.why = Doubles
			}
			next, _ := utf8.DecodeRuneInString(text[end:])
			s.judge(text[i:end], r, previous, next, word.link, word.mixed)
			found(s)
		}
		previous = r
		i = end
	}
}

// plainly reports whether a character is of the alphabet, or something that is stands
// for it: whatever is replaced, its neighbours are judged as before.
func plainly(r rune, mixed bool) bool {
	_, isSafe := safe[r]
	_, isStrong := strong[r]
	_, looks := lookAlike[r]
	return defaults.septets(r) > 0 || isSafe || isStrong || looks && mixed || styled(r)
}

// judge finds the cure of a stretch, or why there is none.
func (s *stretch) judge(text string, r, previous, next rune, link, mixed bool) {
	if link {
		s.level, s.keep = Off, Link
		return
	}
	if len(text) > utf8.RuneLen(r) {
		if composed := norm.NFC.String(text); composed != text && utf8.RuneCountInString(composed) == 1 {
			s.cure, s.level = composed, Safe
			return
		}
	} else if cure, ok := safe[r]; ok {
		s.cure, s.level = cure, Safe
		return
	} else if cure, ok := strong[r]; ok {
		s.cure, s.level = cure, Strong
		return
	} else if latin, ok := lookAlike[r]; ok && mixed {
		s.cure, s.level = string(latin), Safe
		return
	} else if unseen(r) {
		// Between letters of a script that joins them, or in an emoji, they mean
		// something; in Latin text they come from copying.
		if (previous < 0 || plainly(previous, mixed)) && (next == utf8.RuneError || plainly(next, mixed)) {
			s.level = Safe
			return
		}
	} else if plain := norm.NFKC.String(text); plain != text && encodable(plain) && styled(r) {
		s.cure, s.level = plain, Strong
		return
	}
	s.level, s.keep = Off, Sign
	if unicode.IsLetter(r) || unicode.Is(unicode.M, r) {
		s.keep = Letter
	}
}

func encodable(s string) bool {
	c := defaults.count(s)
	return c.strange < 0 && c.bad < 0
}

// unseen are characters without a shape: zero-width spaces and joiners, marks
// of direction, the soft hyphen, the byte order mark.
func unseen(r rune) bool {
	return r >= 0x200B && r <= 0x200F || r >= 0x2060 && r <= 0x2064 || r >= 0x202A && r <= 0x202E || r >= 0x2066 && r <= 0x2069 ||
		r == 0xFEFF || r == 0x00AD
}

// styled are letters and digits in a dress: full-width, mathematical, ligatures.
func styled(r rune) bool {
	return r >= 0xFF01 && r <= 0xFF5E || r >= 0x1D400 && r <= 0x1D7FF || r >= 0xFB00 && r <= 0xFB06 || r >= 0x2460 && r <= 0x24EA
}

// isLink reports whether a word is, or holds, an address of the web or of mail.
func isLink(word string) bool {
	return strings.Contains(word, "://") || strings.HasPrefix(strings.ToLower(word), "www.")
}

// isMixed reports whether a word is Latin but for letters that look Latin and
// are not, as in a word typed with the wrong keyboard for one letter.
func isMixed(word string) bool {
	latin, alike := false, false
	for _, r := range word {
		if !unicode.IsLetter(r) {
			continue
		}
		if _, ok := lookAlike[r]; ok {
			alike = true
		} else if unicode.Is(unicode.Latin, r) {
			latin = true
		} else {
			return false
		}
	}
	return latin && alike
}

// safe are characters whose replacement nobody notices.
var safe = func() map[rune]string {
	m := map[rune]string{
		'…':      "...",
		'‗':      "_",
		'ﬁ':      "fi",
		'ﬂ':      "fl",
		'ﬀ':      "ff",
		'ﬃ':      "ffi",
		'ﬄ':      "ffl",
		'\u2028': "\n",
		'\u2029': "\n",
		'\u0085': "\n",
		'\v':     "\n",
	}
	for to, from := range map[string]string{
		"'": "‘’‚‛′ʼʹ`´", `"`: "“”„‟″", "-": "‐‑‒–—―−﹘﹣",
		" ": "\t\u00a0\u1680\u2000\u2001\u2002\u2003\u2004\u2005\u2006\u2007\u2008\u2009\u200a\u202f\u205f\u3000",
	} {
		for _, r := range from {
			m[r] = to
		}
	}
	return m
}()

// strong are characters whose replacement shows and means the same.
var strong = map[rune]string{
	'«': `"`, '»': `"`, '‹': "'", '›': "'", '•': "-", '▪': "-", '‣': "-", '◦': "-", '©': "(c)", '®': "(R)", '™': "(TM)", '№': "No.",
	'×': "x", '÷': "/", '½': "1/2", '¼': "1/4", '¾': "3/4", '→': "->", '←': "<-", '⇒': "=>", '≤': "<=", '≥': ">=",
	'[': "(", ']': ")", '{': "(", '}': ")", '|': "/",
}

// lookAlike are Cyrillic and Greek letters with the shape of a Latin one.
var lookAlike = func() map[rune]rune {
	m := map[rune]rune{}
	pair := func(from, to string) {
		latin := []rune(to)
		for i, r := range []rune(from) {
			m[r] = latin[i]
		}
	}
	pair("АВЕКМНОРСТУХЅІЈаеорсухѕіјһԁԛԝ", "ABEKMHOPCTYXSIJaeopcyxsijhdqw")
	pair("ΑΒΕΖΗΙΚΜΝΟΡΤΥΧονϲ", "ABEZHIKMNOPTYXovc")
	return m
}()
