package template

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
)

// lineMost is the longest line of JSON Lines that is read.
const lineMost = 4 << 20

// delimiters are what may stand between the cells of a sheet.
const delimiters = ",;\t|"

// delimiterOf is what stands between the cells of a head: what is there most often,
// outside quotes. A comma, if nothing is.
func delimiterOf(head string) rune {
	best, most, quoted := ',', 0, false
	count := map[rune]int{}
	for _, r := range head {
		switch {
		case r == '"':
			quoted = !quoted
		case !quoted && strings.ContainsRune(delimiters, r):
			if count[r]++; count[r] > most {
				best, most = r, count[r]
			}
		}
	}
	return best
}

// headMost is how much of a sheet is looked at for what stands between its cells.
const headMost = 64 << 10

const byteOrderMark = "\uFEFF"

// CSV reads values from a sheet (RFC 4180, also with semicolons, tabs or bars between
// its cells) whose head names the fields, a row for each recipient. What makes
// reading stop is left in broken.
func CSV(in io.Reader, broken *error) iter.Seq[map[string]any] {
	return func(yield func(map[string]any) bool) {
		ahead := bufio.NewReaderSize(in, headMost)
		if mark, _ := ahead.Peek(len(byteOrderMark)); string(mark) == byteOrderMark { // as spreadsheets write it
			ahead.Discard(len(byteOrderMark))
		}
		begin, _ := ahead.Peek(headMost) // as much as there is
		line, _, _ := strings.Cut(string(begin), "\n")
		rows := csv.NewReader(ahead)
		rows.Comma = delimiterOf(line)
		rows.ReuseRecord = true
		head, err := rows.Read()
		if err != nil {
			*broken = errors.New("line 1: no head that names the fields")
			return
		}
		head = slices.Clone(head)
		for {
			record, err := rows.Read()
			if err == io.EOF {
				return
			}
			if err != nil {
				*broken = err // it names the line
				return
			}
			values := make(map[string]any, len(head))
			for i, name := range head {
				values[strings.TrimSpace(name)] = record[i]
			}
			if !yield(values) {
				return
			}
		}
	}
}

// JSONLines reads values from JSON Lines, an object for each recipient. What
// makes reading stop is left in broken.
func JSONLines(in io.Reader, broken *error) iter.Seq[map[string]any] {
	return func(yield func(map[string]any) bool) {
		lines := bufio.NewScanner(in)
		lines.Buffer(nil, lineMost)
		for n := 1; lines.Scan(); n++ {
			var values map[string]any
			if err := json.Unmarshal(lines.Bytes(), &values); err != nil {
				*broken = fmt.Errorf("line %d: %w", n, err)
				return
			}
			if !yield(values) {
				return
			}
		}
		*broken = lines.Err()
	}
}

// Rows gives values their language: that of a column language, else lang, else
// that of the country of the number in a column to or of a column country, else
// the template's own.
func (t *Template) Rows(values iter.Seq[map[string]any], lang string) iter.Seq[Row] {
	return func(yield func(Row) bool) {
		for v := range values {
			row := Row{Values: v}
			own, _ := v["language"].(string)
			if own == "" {
				own = lang
			}
			country := ""
			if own == "" {
				if r, err := row.recipient(); err == nil {
					country = r.Country
				}
			}
			row.Language = t.For(own, country)
			if !yield(row) {
				return
			}
		}
	}
}

// recipient reads for whom a row is: a column to is the number, and a column
// country where it is dialled, or all that is known if there is no number.
func (r Row) recipient() (phone.Reading, error) {
	to, _ := r.Values["to"].(string)
	country, _ := r.Values["country"].(string)
	if country = strings.ToUpper(country); to == "" && phone.IsCountry(country) {
		return phone.Reading{Country: country}, nil
	}
	return phone.Read(to, country)
}

// sendable reports why nothing can go to a row's recipient. A row without a column to
// is for nobody yet.
func (r Row) sendable(template string) error {
	given, named := r.Values["to"]
	if !named {
		return nil
	}
	if _, err := r.recipient(); err != nil {
		return &Error{
			Template: template,
			Field:    "to",
			Wrong:    fmt.Sprintf("%q: %s", fmt.Sprint(given), fault.Why(err)),
			Accepted: phone.Accepted,
		}
	}
	return nil
}

// Estimate is what a row costs by a price list, by its columns to and country.
// An empty kind is transactional. False if that is unknown.
func (r Row) Estimate(list *price.List, kind pace.Kind, segments int, at time.Time) (price.Money, bool) {
	reading, err := r.recipient()
	if err != nil {
		return price.Money{}, false
	}
	if kind == "" {
		kind = pace.Transactional
	}
	return list.Estimate(reading.Number, reading.Country, kind, segments, at)
}
