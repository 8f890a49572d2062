// Package template makes texts from templates: merge fields with defaults, a
// text for each language, limits on what a field may hold, and the wording
// under which a country has registered a text.
//
// In a text, {name} is a field that every row must have, and {name|there} one
// that may be missing; {note|} is then nothing. Braces themselves are written
// {{ and }}.
//
//	name: crossing-moved
//	language: en
//	texts:
//	  en: "Crossing {time} to {port} now leaves from berth {berth}. {note|}"
//	  el: "Το δρομολόγιο {time} για {port} φεύγει από την αποβάθρα {berth}. {note|}"
//	fields:
//	  time:  {as: time}
//	  berth: {only: digits, most: 2}
//	  note:  {only: no_links, most: 40}
package template

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/language"

	"calmpigeon.example/internal/core/document"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/smstext"
)

// Template is a text with fields, in one or more languages.
type Template struct {
	Name  string `yaml:"name"                 json:"name"`
	About string `yaml:"about,omitempty"      json:"about"`
	// Kind and Sender are what messages made of it have unless told otherwise.
	Kind   pace.Kind `yaml:"kind,omitempty"       json:"kind"`
	Sender string    `yaml:"sender,omitempty"     json:"sender"`
	// Cure is how far characters may be replaced to save segments.
	Cure smstext.Level `yaml:"cure,omitempty"       json:"cure"`
	// Language is whose text is taken for recipients of any other, a BCP 47 tag.
	Language string            `yaml:"language"             json:"language"`
	Texts    map[string]string `yaml:"texts"                json:"texts"`
	Fields   map[string]Field  `yaml:"fields,omitempty"     json:"fields"`
	// Registered is where the texts are registered.
	Registered []Registration `yaml:"registered,omitempty" json:"registered"`

	parsed  map[string][]piece
	tags    []language.Tag // of the texts, that of Language first
	names   []string       // of the texts, in the order of tags
	matcher language.Matcher
}

// Field says what may stand in a field.
type Field struct {
	As   As   `yaml:"as,omitempty"   json:"as"`   // how it is written; as it is given, if empty
	Only Only `yaml:"only,omitempty" json:"only"` // anything, if empty
	Most int  `yaml:"most,omitempty" json:"most"` // characters once written; no limit, if 0
}

// As is how a field is written for a language.
type As string

// The ways to write a field.
const (
	AsText   As = "text"
	AsNumber As = "number" // 1234.5
	AsDate   As = "date"   // 2026-11-15, or a time of RFC 3339
	AsTime   As = "time"   // 07:40, or a time of RFC 3339
	AsMoney  As = "money"  // 48.50 EUR
)

// Only is what a field may hold.
type Only string

// What fields may hold.
const (
	Anything Only = "anything"
	NoLinks  Only = "no_links"
	Digits   Only = "digits"
)

// Registration is a text as a country has registered it.
type Registration struct {
	Country string `yaml:"country"           json:"country"`
	Gateway string `yaml:"gateway,omitempty" json:"gateway"` // empty: of every gateway
	ID      string `yaml:"id"                json:"id"`
	// Wording is the registered text; {} stands for what may vary, {30} for up
	// to thirty characters of it.
	Wording string `yaml:"wording"           json:"wording"`

	worded *regexp.Regexp // what a text must be like; made by Check
}

// ErrTemplate is wrapped by the errors of templates.
var ErrTemplate = errors.New("not a template")

// Error is a mistake in a template, or in what is put into it.
type Error struct {
	Template string
	Language string // of the text; empty if it is not about a text
	Field    string // empty if it is not about a field
	Row      int    // of the data, 1 first; 0 if it is not about data
	Wrong    string
	Accepted string
}

func (e *Error) Error() string {
	var b strings.Builder
	fmt.Fprintf(&b, "template %q", e.Template)
	if e.Row > 0 {
		fmt.Fprintf(&b, ", row %d", e.Row)
	}
	if e.Language != "" {
		fmt.Fprintf(&b, ", text %s", e.Language)
	}
	if e.Field != "" {
		fmt.Fprintf(&b, ", field %s", e.Field)
	}
	fmt.Fprintf(&b, ": %s; accepted is %s", e.Wrong, e.Accepted)
	return b.String()
}

// Unwrap makes it an [ErrTemplate].
func (e *Error) Unwrap() error { return ErrTemplate }

// piece is a stretch of a text: letters as they stand, or a field.
type piece struct {
	text     string
	field    string
	fallback string
	optional bool
}

var (
	nameForm  = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,59}$`)
	fieldForm = regexp.MustCompile(`^[\pL_][\pL\pM\pN_ .-]{0,39}$`) // a column may be called anything
)

// Read reads a template from YAML and checks it. Errors wrap [ErrTemplate] and
// name the line, or the text and the field.
func Read(data []byte) (*Template, error) {
	t := &Template{}
	if err := document.Decode(data, t); err != nil {
		return nil, fault.Because(ErrTemplate, "%w", err)
	}
	return t, t.Check()
}

// Write writes a template as [Read] reads it.
func (t *Template) Write() ([]byte, error) { return document.Encode(t) }

// Check makes a template ready for use, or says what is wrong with it.
func (t *Template) Check() error {
	wrong := func(wrong, accepted string) error { return &Error{Template: t.Name, Wrong: wrong, Accepted: accepted} }
	if !nameForm.MatchString(t.Name) {
		return wrong("this is no name", "1 to 60 small letters, digits and hyphens")
	}
	if t.Kind != "" {
		if _, err := pace.ParseKind(string(t.Kind)); err != nil {
			return wrong(fmt.Sprintf("kind %q", t.Kind), "otp, transactional or bulk")
		}
	}
	if t.Sender != "" {
		if _, err := sender.Parse(t.Sender); err != nil {
			return wrong(err.Error(), sender.Accepted)
		}
	}
	var err error
	if t.Cure, err = smstext.ParseLevel(string(t.Cure)); err != nil {
		return wrong(fmt.Sprintf("cure %q", t.Cure), "off, safe or strong")
	}
	if len(t.Texts) == 0 {
		return wrong("there are no texts", "a text for at least one language")
	}
	if _, ok := t.Texts[t.Language]; !ok {
		return wrong(fmt.Sprintf("there is no text for the language %q", t.Language), "as language one of those that have a text")
	}
	t.parsed, t.tags, t.names = map[string][]piece{}, nil, nil
	used := map[string]bool{}
	for tag, text := range t.Texts {
		parsed, err := language.Parse(tag)
		if err != nil {
			return wrong(fmt.Sprintf("%q is not a language", tag), "a tag such as en, pt-BR or el (BCP 47)")
		}
		pieces, fault := parse(text)
		if fault != "" {
			return &Error{
				Template: t.Name,
				Language: tag,
				Wrong:    fault,
				Accepted: "text with fields such as {name} or {name|there}, and {{ and }} for braces",
			}
		}
		for _, p := range pieces {
			used[p.field] = true
		}
		t.parsed[tag] = pieces
		t.names, t.tags = append(t.names, tag), append(t.tags, parsed)
	}
	slices.SortFunc(t.names, func(a, b string) int { return cmp.Or(btoi(b == t.Language)-btoi(a == t.Language), cmp.Compare(a, b)) })
	for i, tag := range t.names {
		t.tags[i] = language.Make(tag)
	}
	t.matcher = language.NewMatcher(t.tags)
	for name, f := range t.Fields {
		wrong := func(wrong, accepted string) error {
			return &Error{Template: t.Name, Field: name, Wrong: wrong, Accepted: accepted}
		}
		switch {
		case !used[name]:
			return wrong("no text has it", "a field that stands in a text")
		case !slices.Contains([]As{"", AsText, AsNumber, AsDate, AsTime, AsMoney}, f.As):
			return wrong(fmt.Sprintf("as %q", f.As), "text, number, date, time or money")
		case !slices.Contains([]Only{"", Anything, NoLinks, Digits}, f.Only):
			return wrong(fmt.Sprintf("only %q", f.Only), "anything, no_links or digits")
		case f.Most < 0 || f.Most > 1000:
			return wrong(fmt.Sprintf("most %d", f.Most), "1 to 1000 characters, or nothing")
		}
	}
	for i, r := range t.Registered {
		switch {
		case !phone.IsCountry(r.Country):
			return wrong(fmt.Sprintf("registered in %q", r.Country), "a country such as IN (ISO 3166-1)")
		case r.ID == "":
			return wrong("registered in "+r.Country+" without an id", "the id under which it is registered")
		case r.Wording == "":
			return wrong("registered in "+r.Country+" without its wording", "the wording as it is registered, with {} for what may vary")
		}
		// Many long gaps make an expression that is too large.
		if t.Registered[i].worded, err = r.pattern(); err != nil {
			return wrong("registered in "+r.Country+" with a wording that cannot be matched", "fewer or shorter gaps such as {30}")
		}
	}
	return nil
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// parse cuts a text into pieces, or says what is wrong with it.
func parse(text string) (pieces []piece, wrong string) {
	var plain strings.Builder
	for i := 0; i < len(text); {
		switch {
		case strings.HasPrefix(text[i:], "{{"), strings.HasPrefix(text[i:], "}}"):
			plain.WriteByte(text[i])
			i += 2
		case text[i] == '}':
			return nil, fmt.Sprintf("a } at character %d closes nothing", utf8.RuneCountInString(text[:i])+1)
		case text[i] == '{':
			end := strings.IndexAny(text[i+1:], "{}")
			if end < 0 || text[i+1+end] == '{' {
				return nil, fmt.Sprintf("the { at character %d is never closed", utf8.RuneCountInString(text[:i])+1)
			}
			inside := text[i+1 : i+1+end]
			name, fallback, optional := strings.Cut(inside, "|")
			name = strings.TrimSpace(name)
			if !fieldForm.MatchString(name) {
				return nil, fmt.Sprintf("%q is no name of a field", name)
			}
			if plain.Len() > 0 {
				pieces = append(pieces, piece{text: plain.String()})
				plain.Reset()
			}
			pieces = append(pieces, piece{field: name, fallback: fallback, optional: optional})
			i += end + 2
		default:
			_, size := utf8.DecodeRuneInString(text[i:])
			plain.WriteString(text[i : i+size])
			i += size
		}
	}
	if plain.Len() > 0 {
		pieces = append(pieces, piece{text: plain.String()})
	}
	return pieces, ""
}

// For chooses the language of a text: the one that is asked for, or the
// nearest to it; without one, what is most spoken in the country; else the
// template's own.
func (t *Template) For(asked, country string) string {
	if len(t.names) == 1 { // there is nothing to choose
		return t.names[0]
	}
	if asked == "" && country != "" {
		if region, err := language.ParseRegion(country); err == nil {
			if tag, err := language.Compose(region); err == nil {
				base, _ := tag.Base()
				asked = base.String() + "-" + country
			}
		}
	}
	tag, err := language.Parse(asked)
	if err != nil {
		return t.Language
	}
	_, i, confidence := t.matcher.Match(tag)
	if confidence == language.No {
		return t.Language
	}
	return t.names[i]
}

// Speaks reports whether there is a text for a language (BCP 47), if only a near
// one.
func (t *Template) Speaks(asked string) bool {
	tag, err := language.Parse(asked)
	if err != nil {
		return false
	}
	_, _, confidence := t.matcher.Match(tag)
	return confidence != language.No
}

// Needs lists the fields that a row must have and those that it may have, in
// the order in which they stand in the texts, the template's own language
// first.
func (t *Template) Needs() (must, may []string) {
	needed := map[string]bool{}
	var order []string
	for _, tag := range t.names {
		for _, p := range t.parsed[tag] {
			if p.field == "" {
				continue
			}
			if _, known := needed[p.field]; !known {
				order = append(order, p.field)
			}
			needed[p.field] = needed[p.field] || !p.optional
		}
	}
	for _, name := range order {
		if needed[name] {
			must = append(must, name)
		} else {
			may = append(may, name)
		}
	}
	return must, may
}

// Example gives an example of each field that every row needs, such as may stand
// there.
func (t *Template) Example() map[string]any {
	must, _ := t.Needs()
	values := map[string]any{}
	for _, name := range must {
		f := t.Fields[name]
		example, ok := exampleOf[f.As]
		if !ok {
			example = exampleOf[AsText]
		}
		if f.Only == Digits {
			example = "123456"
		}
		if f.Most > 0 && (f.As == AsText || f.As == "") {
			example = example[:min(f.Most, len(example))]
		}
		values[name] = example
	}
	return values
}

var exampleOf = map[As]string{AsText: "example", AsNumber: "1234.5", AsDate: "2026-11-15", AsTime: "07:40", AsMoney: "48.50 EUR"}

// Rendering is a text made of a template.
type Rendering struct {
	Text     string
	Language string
	// Wording is the text with nothing in its fields: what is fixed.
	Wording string
}

// Render puts values into the text of a language. Values are strings, or
// numbers and times as JSON has them. Errors are [*Error].
func (t *Template) Render(lang string, values map[string]any) (Rendering, error) {
	pieces, ok := t.parsed[lang]
	if !ok {
		return Rendering{}, &Error{
			Template: t.Name,
			Language: lang,
			Wrong:    "there is no such text",
			Accepted: strings.Join(t.names, ", "),
		}
	}
	var text, wording strings.Builder
	for _, p := range pieces {
		if p.field == "" {
			text.WriteString(p.text)
			wording.WriteString(p.text)
			continue
		}
		wording.WriteByte(0)
		written, err := t.write(lang, p, values)
		if err != nil {
			return Rendering{}, err
		}
		text.WriteString(written)
	}
	return Rendering{text.String(), lang, wording.String()}, nil
}

// write is what stands in the place of a field.
func (t *Template) write(lang string, p piece, values map[string]any) (string, error) {
	f := t.Fields[p.field]
	wrong := func(wrong, accepted string) (string, error) {
		return "", &Error{Template: t.Name, Language: lang, Field: p.field, Wrong: wrong, Accepted: accepted}
	}
	value, err := plain(values[p.field])
	if err != nil {
		return wrong(err.Error(), "a string or a number")
	}
	if value == "" {
		if p.optional {
			return p.fallback, nil
		}
		return wrong("it is missing", "a value in every row, or a default in the template as in {"+p.field+"|…}")
	}
	if f.Only == Digits && strings.Trim(value, "0123456789") != "" {
		return wrong(fmt.Sprintf("%q is not digits only", value), "digits only")
	}
	if links := sender.Links(value); f.Only == NoLinks && len(links) > 0 {
		return wrong(fmt.Sprintf("it holds a link, %s", links[0]), "text without links")
	}
	written, accepted := f.As.write(lang, value)
	if accepted != "" {
		return wrong(fmt.Sprintf("%q cannot be written as %s", value, f.As), accepted)
	}
	if n := utf8.RuneCountInString(written); f.Most > 0 && n > f.Most {
		return wrong(fmt.Sprintf("%q has %d characters, %d too many", written, n, n-f.Most), fmt.Sprintf("at most %d", f.Most))
	}
	return written, nil
}

// RegisteredAt reports whether any of its texts is registered for a country with a gateway.
func (t *Template) RegisteredAt(country, gateway string) bool {
	return slices.ContainsFunc(t.Registered, func(r Registration) bool { return r.Country == country && r.Gateway == gateway })
}

// Registration finds where the text is registered for a country and gateway,
// and checks that it is worded so. Without a registration there is none; a
// text that is worded otherwise gives an [*Error].
func (t *Template) Registration(r Rendering, country, gateway string) (Registration, bool, error) {
	var otherwise *Error
	for _, of := range t.Registered {
		if of.Country != country || of.Gateway != "" && of.Gateway != gateway {
			continue
		}
		if of.worded.MatchString(r.Text) {
			return of, true, nil
		}
		otherwise = &Error{
			Template: t.Name,
			Language: r.Language,
			Wrong:    fmt.Sprintf("the text is not worded as registered in %s under %s", of.Country, of.ID),
			Accepted: of.Wording,
		}
	}
	if otherwise != nil {
		return Registration{}, false, otherwise
	}
	return Registration{}, false, nil
}

var vary = regexp.MustCompile(`\{(\d{0,3})\}`)

// pattern is what a text must be like to be worded as registered. Go's
// expressions take time in proportion to the text, whatever the wording.
func (r Registration) pattern() (*regexp.Regexp, error) {
	var b strings.Builder
	b.WriteString(`(?s)\A`)
	at := 0
	for _, m := range vary.FindAllStringSubmatchIndex(r.Wording, -1) {
		b.WriteString(regexp.QuoteMeta(r.Wording[at:m[0]]))
		most := r.Wording[m[2]:m[3]]
		if most == "" {
			b.WriteString(`.*`)
		} else {
			b.WriteString(`.{0,` + most + `}`)
		}
		at = m[1]
	}
	b.WriteString(regexp.QuoteMeta(r.Wording[at:]) + `\z`)
	return regexp.Compile(b.String())
}
