package sheet

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/language"
	"golang.org/x/text/unicode/norm"

	"calmpigeon.example/internal/core/phone"
)

// Role is what a column is for. What has none is a field to be merged; so is every
// other, too.
type Role string

// Roles of columns.
const (
	To        Role = "to"        // the number
	Country   Role = "country"   // where it is dialled
	Language  Role = "language"  // of the text
	Name      Role = "name"      // of the recipient
	Reference Role = "reference" // the sender's own
	At        Role = "at"        // local time at which it goes
	Text      Role = "text"      // of this row alone
)

// String says it in words.
func (c Column) String() string { return fmt.Sprintf("%s in %q", roleWords[c.Role], c.Head) }

var roleWords = map[Role]string{To: "numbers", Country: "countries", Language: "languages", Name: "names", Reference: "references",
	At: "times", Text: "texts", "": "a field"}

// Roles are all of them, in the order in which they are looked for.
var Roles = []Role{To, Country, Language, At, Text, Reference, Name}

// Column is a column, and what was recognised of it.
type Column struct {
	Head  string
	Role  Role   // empty: a field alone
	Field string // by which a text may name it
	Why   string // it has its role, for people
}

// share is how many of the cells that are filled have to be of a kind.
const share = 0.6

// Recognise says what columns are for, by their names in the languages that sheets are
// written in, and by what stands in the first rows. Numbers without a country code are
// such in country, which may be empty. There is one column of each role at most.
func Recognise(head []string, first [][]string, country string) []Column {
	columns := make([]Column, len(head))
	fields := map[string]bool{}
	for i, name := range head {
		columns[i] = Column{Head: name, Field: fieldOf(name, i, fields)}
	}
	for _, role := range Roles {
		best, most, why := -1, 0.0, ""
		for i := range columns {
			if columns[i].Role != "" {
				continue
			}
			score, because := 0.0, ""
			called, word := calls(head[i], role)
			held := holds(cellsOf(first, i), role, country)
			switch {
			case held < 0: // what stands there is not of the kind
			case called == whole:
				score, because = 2+held, fmt.Sprintf("it is called %q", head[i])
			case called == part:
				score, because = 1+held, fmt.Sprintf("%q is in its name", word)
			case held >= share && byContent[role] && !calledOtherwise(head[i]):
				score, because = held, fmt.Sprintf("%d%% of its first cells are such", int(100*held))
			}
			if score > most {
				best, most, why = i, score, because
			}
		}
		if best >= 0 {
			columns[best].Role, columns[best].Why = role, why
		}
	}
	return columns
}

// byContent are the roles that what stands in a column is enough for.
var byContent = map[Role]bool{To: true, Country: true, Language: true, At: true}

// calledOtherwise reports whether a name is that of some role: what stands in the column
// makes it no other.
func calledOtherwise(name string) bool {
	return slices.ContainsFunc(Roles, func(role Role) bool {
		called, _ := calls(name, role)
		return called == whole
	})
}

func cellsOf(rows [][]string, at int) []string {
	var cells []string
	for _, row := range rows {
		if at < len(row) && strings.TrimSpace(row[at]) != "" {
			cells = append(cells, strings.TrimSpace(row[at]))
		}
	}
	return cells
}

// holds is the share of cells that are what a role is about; less than 0 if they
// cannot be, 0 if that cannot be told.
func holds(cells []string, role Role, country string) float64 {
	if len(cells) == 0 {
		return 0
	}
	is := map[Role]func(string) bool{
		To:       func(c string) bool { return isNumber(c, country) },
		Country:  isCountry,
		Language: isLanguage,
		At:       isTime,
	}[role]
	if is == nil {
		return 0
	}
	n := 0
	for _, c := range cells {
		if is(c) {
			n++
		}
	}
	if n == 0 {
		return -1
	}
	return float64(n) / float64(len(cells))
}

// isNumber reports whether a cell is a telephone number, or what a sheet made of one.
func isNumber(cell, country string) bool {
	if _, err := phone.Read(cell, country); err == nil {
		return true
	}
	n := digits(cell)
	return n >= 7 && n <= 17 && strings.ContainsAny(cell[:1], "+0('123456789")
}

func isCountry(cell string) bool {
	return phone.IsCountry(cell) || phone.IsCountry(strings.ToUpper(cell)) && cell == strings.ToLower(cell) ||
		phone.CountryNamed(cell) != ""
}

func isLanguage(cell string) bool {
	if len(cell) != 2 && (len(cell) != 5 || cell[2] != '-' && cell[2] != '_') || cell[:2] != strings.ToLower(cell[:2]) {
		return false
	}
	_, err := language.Parse(cell)
	return err == nil
}

var layouts = []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02",
	"02.01.2006 15:04", "02.01.2006", "2.1.2006 15:04", "02/01/2006 15:04", "02/01/2006", "15:04"}

// ParseTime reads a local time as sheets have it: ISO 8601, day before month with dots
// or slashes, a time of day alone, or the days since 1899-12-30 as which a workbook
// holds it.
func ParseTime(cell string) (time.Time, bool) {
	cell = strings.TrimSpace(cell)
	if len(cell) > 40 {
		return time.Time{}, false
	}
	for _, layout := range layouts {
		if t, err := time.Parse(layout, cell); err == nil {
			return t, true
		}
	}
	days, err := strconv.ParseFloat(cell, 64)
	if err != nil || days < 36_526 || days > 73_050 || !strings.Contains(cell, ".") { // of 2000 to 2099, with a time of day
		return time.Time{}, false
	}
	at := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC).Add(time.Duration(days * 24 * float64(time.Hour)))
	return at.Round(time.Second), true
}

func isTime(cell string) bool {
	_, ok := ParseTime(cell)
	return ok
}

// fit of a name with a role.
type likeness int

const (
	none likeness = iota
	part
	whole
)

// calls reports whether a name stands for a role: as a whole, or with a word of it.
func calls(name string, role Role) (likeness, string) {
	folded := fold(name)
	if slices.Contains(words[role], folded) {
		return whole, name
	}
	for _, word := range strings.FieldsFunc(folded, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsMark(r) }) {
		if len([]rune(word)) > 2 && slices.Contains(words[role], word) {
			return part, word
		}
	}
	return none, ""
}

// fold makes a name comparable: small letters without accents, single spaces in the
// place of what joins words.
func fold(name string) string {
	var out strings.Builder
	for _, r := range norm.NFD.String(strings.ToLower(name)) {
		switch {
		case unicode.Is(unicode.Mn, r) && r < 0x0600: // accents; marks of other scripts are letters
		case unicode.IsLetter(r), unicode.IsMark(r), unicode.IsDigit(r):
			out.WriteRune(r)
		case r == '\'' || r == '.':
		default:
			out.WriteRune(' ')
		}
	}
	return strings.Join(strings.Fields(out.String()), " ")
}

// fieldOf is the name by which a text may call a column: letters, digits and
// underscores of ASCII.
func fieldOf(head string, at int, taken map[string]bool) string {
	var out strings.Builder
	for _, r := range strings.ReplaceAll(fold(head), " ", "_") {
		if r < unicode.MaxASCII {
			out.WriteRune(r)
		}
	}
	name := strings.Trim(out.String(), "_")
	if name == "" || name[0] >= '0' && name[0] <= '9' {
		name = strings.Trim(fmt.Sprintf("column_%d_%s", at+1, name), "_")
	}
	if len(name) > 40 {
		name = strings.TrimRight(name[:40], "_")
	}
	for n := 2; taken[name]; n++ {
		suffix := fmt.Sprintf("_%d", n)
		name = strings.TrimSuffix(name, fmt.Sprintf("_%d", n-1))
		name = name[:min(len(name), 40-len(suffix))] + suffix
	}
	taken[name] = true
	return name
}
