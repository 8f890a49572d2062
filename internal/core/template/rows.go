package template

import (
	"fmt"
	"iter"
	"strings"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sheet"
)

// Rows are the rows of a list: their values by the names of its columns, as they stand
// and as a text may call them, and to, country and language by what columns are
// for. A row's language is that of its column, else lang, else that of the country of
// its number, else the template's own. What makes reading stop is left in broken.
func (t *Template) Rows(list *sheet.List, columns []sheet.Column, lang string, broken *error) iter.Seq[Row] {
	return func(yield func(Row) bool) {
		for one, err := range list.Rows() {
			if err != nil {
				*broken = err
				return
			}
			row := Row{Wrong: one.Wrong}
			if row.Wrong == "" {
				row.Values = t.valuesOf(one, columns)
				row.Language = t.languageOf(row, lang)
			}
			if !yield(row) {
				return
			}
		}
	}
}

// OfCell is what a text is given of a cell of a list: what people see in it, but for what is written as the language
// of the text has it: that is given as the workbook holds it.
func (as As) OfCell(shown string, held sheet.Held) string {
	switch as {
	case AsNumber, AsMoney:
		amount, currency, ok := held.Amount()
		if ok && as == AsMoney && currency != "" {
			return amount + " " + currency
		}
		if ok && as == AsNumber {
			return amount
		}
	case AsDate, AsTime:
		if _, ok := held.Time(); ok {
			return held.Value
		}
	}
	return shown
}

func (t *Template) valuesOf(row sheet.Row, columns []sheet.Column) map[string]any {
	values := make(map[string]any, 2*len(columns))
	for i, c := range columns {
		values[c.Field] = t.Fields[c.Field].As.OfCell(row.Cells[i], row.HeldAt(i))
	}
	for i, c := range columns { // as they stand goes before as they may be called
		values[c.Head] = t.Fields[c.Head].As.OfCell(row.Cells[i], row.HeldAt(i))
	}
	for i, c := range columns {
		switch c.Role {
		case sheet.To, sheet.Country, sheet.Language:
			values[string(c.Role)] = row.Cells[i]
		}
	}
	return values
}

func (t *Template) languageOf(row Row, lang string) string {
	own, _ := row.Values["language"].(string)
	if own == "" {
		own = lang
	}
	country := ""
	if own == "" {
		if r, err := row.recipient(); err == nil {
			country = r.Country
		}
	}
	return t.For(own, country)
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
	if r.Wrong != "" {
		return &Error{Template: template, Wrong: r.Wrong, Accepted: "a cell for each column"}
	}
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
