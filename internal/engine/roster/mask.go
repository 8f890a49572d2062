package roster

import (
	"cmp"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"maps"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"unicode/utf16"
	"unicode/utf8"
)

// SecretLeast is how many bytes a secret has at least that is masked: of a
// shorter one every other text would be full.
const SecretLeast = 6

// hiddenLeast is that of what is hidden in one exchange, such as a passcode.
const hiddenLeast = 4

// mask replaces the secrets of a gateway, as they were when it was made.
type mask struct {
	secrets  map[string]string
	callback string
	plain    *replacer
	// more is the last that hid more besides: a token is the same for
	// many requests.
	more atomic.Pointer[hiding]
}

// hiding replaces what is hidden besides, too. It is made anew for each passcode, so what is long in it, the secrets, is
// made once.
type hiding struct {
	*replacer
	hidden map[string]string
	first  [256 / 64]uint64 // which bytes a hidden word begins with
	words  []written        // the longest first
}

func newHiding(r *replacer, hidden map[string]string) *hiding {
	h := &hiding{replacer: r, hidden: maps.Clone(hidden)}
	for _, value := range slices.Sorted(maps.Keys(hidden)) {
		addWritten(func(word, name string) {
			if len(word) >= hiddenLeast && !slices.ContainsFunc(h.words, func(w written) bool { return w.word == word }) {
				h.words = append(h.words, written{word, name})
				h.first[word[0]/64] |= 1 << (word[0] % 64)
			}
		}, value, hidden[value], hiddenLeast)
	}
	slices.SortStableFunc(h.words, func(a, b written) int { return cmp.Compare(len(b.word), len(a.word)) })
	return h
}

// Replace replaces secrets and what is hidden in s by their names.
func (h *hiding) Replace(s string) string {
	return replace(s, func(at int) (written, bool) {
		found, is := h.at(s, at)
		if h.first[s[at]/64]&(1<<(s[at]%64)) == 0 {
			return found, is
		}
		for _, w := range h.words {
			if is && len(w.word) <= len(found.word) {
				break
			}
			if strings.HasPrefix(s[at:], w.word) {
				return w, true
			}
		}
		return found, is
	})
}

// Mask replaces every secret of the gateway in s by its name, however it is
// written: plain, percent-encoded, in JSON, XML or HTML, in base64 (also with
// another one, as user:secret) or in hexadecimal.
func (g *Gateway) Mask(s string) string { return g.masked().plain.Replace(s) }

// Masking is [Gateway.Mask] of what is hidden besides, by value and name, too.
func (g *Gateway) Masking(hidden map[string]string) func(string) string {
	m := g.masked()
	if len(hidden) == 0 {
		return m.plain.Replace
	}
	last := m.more.Load()
	if last == nil || !maps.Equal(last.hidden, hidden) {
		last = newHiding(m.plain, hidden)
		m.more.Store(last)
	}
	return last.Replace
}

// masked is the mask of the secrets as they are.
func (g *Gateway) masked() *mask {
	if m := g.mask; m != nil && m.callback == g.Callback && maps.Equal(m.secrets, g.Secrets) {
		return m
	}
	return &mask{secrets: maps.Clone(g.Secrets), callback: g.Callback, plain: newReplacer(g.Secrets, g.Callback)}
}

// replacer replaces words in one pass. Where several begin at the same place the
// longest is taken, so that of one that is part of another nothing is left.
type replacer struct {
	begin [1 << 16 / 64]uint64 // which two bytes a word begins with
	words map[uint16][]written // by these, the longest first
}

// written is a secret in one of the ways in which it may stand in a text.
type written struct{ word, name string }

func newReplacer(secrets map[string]string, callback string) *replacer {
	r := &replacer{words: map[uint16][]written{}}
	add := func(word, name string) {
		if len(word) < hiddenLeast {
			return
		}
		first := uint16(word[0])<<8 | uint16(word[1])
		if !slices.ContainsFunc(r.words[first], func(w written) bool { return w.word == word }) {
			r.words[first] = append(r.words[first], written{word, name})
			r.begin[first/64] |= 1 << (first % 64)
		}
	}
	names := slices.Sorted(maps.Keys(secrets))
	for _, name := range names {
		addWritten(add, secrets[name], name, SecretLeast)
	}
	addWritten(add, callback, "callback", SecretLeast)
	for _, user := range names[:min(len(names), 8)] {
		for _, password := range names {
			if pair := secrets[user] + ":" + secrets[password]; user != password && secrets[user] != "" && secrets[password] != "" {
				addBase64(add, pair, user+":"+password)
			}
		}
	}
	for _, words := range r.words {
		slices.SortStableFunc(words, func(a, b written) int { return cmp.Compare(len(b.word), len(a.word)) })
	}
	return r
}

// marks undoes what is escaped in JSON for the sake of HTML.
var marks = strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&")

func addWritten(add func(word, name string), secret, name string, least int) {
	if len(secret) < least {
		return
	}
	inHex := hex.EncodeToString([]byte(secret))
	for _, word := range []string{secret, inHex, strings.ToUpper(inHex)} {
		add(word, name)
	}
	if strings.ContainsFunc(secret, isMark) { // a passcode has none: nothing in it is ever escaped
		inJSON := jsonOf(secret)
		for _, word := range []string{ // the secret, too, for one that is percent-encoded already
			secret, url.QueryEscape(secret), url.PathEscape(secret), html.EscapeString(secret),
			inJSON, marks.Replace(inJSON), asciiOf(inJSON),
		} {
			add(word, name)
			if strings.Contains(word, "%") {
				add(lowerHex(word), name)
			}
		}
	}
	addBase64(add, secret, name)
}

// isMark reports whether a character is anything but a letter or a digit of ASCII.
func isMark(r rune) bool {
	return (r < '0' || r > '9') && (r < 'A' || r > 'Z') && (r < 'a' || r > 'z')
}

func addBase64(add func(word, name string), secret, name string) {
	whole := base64.StdEncoding.EncodeToString([]byte(secret))
	for _, word := range []string{whole, strings.TrimRight(whole, "=")} {
		add(word, name)
		if strings.ContainsFunc(word, isMark) {
			inURL := base64InURL.Replace(word)
			add(inURL, name)
			add(url.QueryEscape(word), name)
			add(url.QueryEscape(inURL), name)
		}
	}
}

// base64InURL makes the alphabet for addresses (RFC 4648 §5) of the usual one.
var base64InURL = strings.NewReplacer("+", "-", "/", "_")

// jsonOf is how a string is written in JSON, between its quotes.
func jsonOf(s string) string {
	quoted, _ := json.Marshal(s) // a string can always be written
	return string(quoted[1 : len(quoted)-1])
}

// asciiOf writes what is written in JSON as some do: everything beyond ASCII escaped.
func asciiOf(inJSON string) string {
	var out strings.Builder
	for _, unit := range inJSON {
		if unit < utf8.RuneSelf {
			out.WriteRune(unit)
			continue
		}
		for _, half := range utf16.Encode([]rune{unit}) {
			fmt.Fprintf(&out, `\u%04x`, half)
		}
	}
	return out.String()
}

// lowerHex writes percent-encoding with small letters, as some do.
func lowerHex(word string) string {
	b := []byte(word)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			copy(b[i+1:i+3], strings.ToLower(string(b[i+1:i+3])))
		}
	}
	return string(b)
}

// Replace replaces the words in s by their names.
func (r *replacer) Replace(s string) string {
	return replace(s, func(at int) (written, bool) { return r.at(s, at) })
}

// at is the longest word that begins at a place of s; false if none does.
func (r *replacer) at(s string, at int) (written, bool) {
	first := uint16(s[at])<<8 | uint16(s[at+1])
	if r.begin[first/64]&(1<<(first%64)) == 0 {
		return written{}, false
	}
	for _, w := range r.words[first] {
		if strings.HasPrefix(s[at:], w.word) {
			return w, true
		}
	}
	return written{}, false
}

// replace replaces words by their names, in one pass; find finds the one that begins at a place, which is not the last.
func replace(s string, find func(at int) (written, bool)) string {
	var out strings.Builder
	done := 0
	for i := 0; i+1 < len(s); i++ {
		w, is := find(i)
		if !is {
			continue
		}
		out.WriteString(s[done:i])
		out.WriteString("‹" + w.name + "›")
		done = i + len(w.word)
		i = done - 1
	}
	if done == 0 {
		return s
	}
	out.WriteString(s[done:])
	return out.String()
}
