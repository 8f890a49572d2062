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

	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
)

// lineMost is the longest line of JSON Lines that is read.
const lineMost = 4 << 20

// CSV reads values from a sheet (RFC 4180) whose head names the fields, a row
// for each recipient. What makes reading stop is left in broken.
func CSV(in io.Reader, broken *error) iter.Seq[map[string]any] {
	return func(yield func(map[string]any) bool) {
		rows := csv.NewReader(in)
		rows.ReuseRecord = true
		head, err := rows.Read()
		if err != nil {
			*broken = errors.New("line 1: no head that names the fields")
			return
		}
		head = slices.Clone(head)
		head[0] = strings.TrimPrefix(head[0], "\uFEFF") // as spreadsheets write it
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
