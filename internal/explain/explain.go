// Package explain puts what the core works out into the words of the API. The
// service answers with them, and commands that need no service print them.
package explain

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/text/unicode/runenames"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/template"
)

// Text says what a text costs, who is to blame, and what can be done.
func Text(text string, options smstext.Options) client.Weighing {
	weight, err := options.Weigh(text)
	w := client.Weighing{Text: text, Weight: Weight(weight), Parts: []client.Part{}, Culprits: []client.Culprit{}, Cures: []client.Cure{},
		Replaced: []client.Replacement{}, Tables: []client.ShiftTable{}, Recipients: []client.Recipient{}, Errors: []client.FieldError{}}
	if err != nil {
		w.Problem = err.Error()
	}
	if errors.Is(err, smstext.ErrInvalid) || errors.Is(err, smstext.ErrEmpty) || errors.Is(err, smstext.ErrTooLong) {
		return w // there is nothing to draw, or far too much
	}
	from := 0
	for _, to := range weight.Cuts(text) {
		w.Parts = append(w.Parts, client.Part{From: from, To: to, Units: weight.Measure(text[from:to]), Text: text[from:to]})
		from = to
	}
	if weight.Alphabet == (smstext.Alphabet{}) {
		for _, c := range smstext.Blame(text) {
			w.Culprits = append(w.Culprits, client.Culprit{Text: c.Text, Name: name(c.Text), Why: string(c.Why), At: c.At, Count: len(c.At),
				Cure: c.Cure, Level: string(c.Level), Keep: string(c.Keep)})
		}
	}
	least := weight.Segments
	for _, level := range []smstext.Level{smstext.Safe, smstext.Strong} {
		cured, replaced := options.Cure(text, level)
		after, _ := options.Weigh(cured)
		if after.Segments < least {
			w.Cures = append(
				w.Cures,
				client.Cure{
					Level:    string(level),
					Text:     cured,
					Weight:   Weight(after),
					Saves:    weight.Segments - after.Segments,
					Replaced: Replaced(replaced),
				},
			)
			least = after.Segments
		}
	}
	for _, language := range smstext.Languages {
		with := options
		with.Languages = []smstext.Language{language}
		if shifted, err := with.Weigh(text); err == nil && shifted.Segments < weight.Segments {
			w.Tables = append(w.Tables, client.ShiftTable{Language: string(language), Segments: shifted.Segments})
		}
	}
	return w
}

// Weight is what a text takes.
func Weight(w smstext.Weight) client.Weight {
	weight := client.Weight{Encoding: string(w.Encoding), Units: w.Units, Segments: w.Segments, Room: w.Room()}
	if w.Encoding == smstext.GSM7 {
		weight.Alphabet = w.Alphabet.String()
	}
	return weight
}

// Replaced lists replacements.
func Replaced(all []smstext.Replacement) []client.Replacement {
	list := make([]client.Replacement, len(all))
	for i, r := range all {
		list[i] = client.Replacement{From: r.From, To: r.To, Count: r.Count}
	}
	return list
}

// name is what Unicode calls the characters of a text.
func name(text string) string {
	var names []string
	for _, r := range text {
		names = append(names, fmt.Sprintf("%s U+%04X", strings.ToLower(runenames.Name(r)), r))
	}
	return strings.Join(names, ", ")
}

// Number says what a number is, or why it is none.
func Number(given, country string) client.Number {
	r, err := phone.Read(given, country)
	if err != nil {
		var why *phone.Error
		errors.As(err, &why)
		return client.Number{Given: given, Reason: why.Why, Changes: []string{}, TimeZones: []string{}}
	}
	return Reading(given, r)
}

// Reading says what a number is that was read.
func Reading(given string, r phone.Reading) client.Number {
	d := r.Number.Details()
	n := client.Number{
		Given:   given,
		Valid:   r.Line != phone.Unassigned,
		E164:    r.Number.String(),
		Country: d.Country,
		Name:    d.CountryName,
		Region:  d.Region,
		Line: string(
			d.Line,
		),
		TimeZones: append([]string{}, d.TimeZones...),
		Display:   d.Display,
		Fictional: d.Fictional,
		Changes:   append([]string{}, r.Changes...),
	}
	if !n.Valid {
		n.Reason = "no range in use in " + d.CountryName + " begins so"
	}
	return n
}

// Dialect loads a dialect file and plays its examples. name is what the file is
// called in what is said of it; examples that are not played when ctx ends did
// not pass.
func Dialect(ctx context.Context, name string, source []byte) client.DialectCheck {
	c := client.DialectCheck{Secrets: []string{}, Mistakes: []string{}, Warnings: []string{}, Examples: []client.DialectExample{}}
	d, err := dialect.Load(name, source)
	if err != nil {
		c.Mistakes = strings.Split(err.Error(), "\n")
		return c
	}
	c.Name, c.About, c.Secrets, c.Passed = d.Name, d.About, append(c.Secrets, d.Secrets...), true
	c.Warnings = append(c.Warnings, d.Warnings()...)
	for i, p := range d.Play(ctx) {
		c.Examples = append(
			c.Examples,
			client.DialectExample{
				Example: i + 1,
				Kind:    p.Kind,
				Status:  p.Status,
				Passed:  p.Wrong == "",
				Gives:   p.Got,
				Want:    p.Want,
				Wrong:   p.Wrong,
			},
		)
		c.Passed = c.Passed && p.Wrong == ""
	}
	return c
}

// Amount is a number of millionths without its currency, which may be below
// nothing.
func Amount(micros int64) string {
	if micros < 0 {
		return "-" + Amount(-micros)
	}
	return price.Of(micros, "").Amount()
}

// Money is an amount, nil if it is not known.
func Money(m price.Money, known bool) *client.Money {
	if !known {
		return nil
	}
	return &client.Money{Amount: m.Amount(), Currency: m.Currency()}
}

// Savings prices the cures of a text by an entry of a price list.
func Savings(w *client.Weighing, rate price.Entry) {
	now, ok := rate.Cost(w.Segments)
	for i := range w.Cures {
		if less, counted := rate.Cost(w.Cures[i].Segments); ok && counted {
			w.Cures[i].Price = Money(less, true)
			w.Cures[i].Saved = Money(now.Minus(less), true)
		}
	}
}

// Price is an entry of a price list.
func Price(e price.Entry) client.Price {
	p := client.Price{
		Country:  e.Country,
		Prefix:   e.Prefix,
		Kind:     string(e.Kind),
		Per:      string(e.Per),
		Amount:   e.Rate.Amount(),
		Currency: e.Rate.Currency(),
	}
	if !e.From.IsZero() {
		from := e.From.UTC().Format(time.RFC3339)
		p.From = &from
	}
	return p
}

// Estimate is what a set of messages costs.
func Estimate(e price.Estimate) *client.Estimate {
	sum := &client.Estimate{Sums: []client.Money{}, Priced: e.Priced, Unknown: e.Unknown}
	for _, m := range e.Sums() {
		sum.Sums = append(sum.Sums, *Money(m, true))
	}
	return sum
}

// Span is what a template weighs over data.
func Span(s template.Span) client.TemplateSpan {
	sample := func(s template.Sample) *client.TemplateSample {
		if s.Row == 0 {
			return nil
		}
		return &client.TemplateSample{Row: s.Row, Text: s.Text, Weight: Weight(s.Weight)}
	}
	w := client.TemplateSpan{
		Rows:     s.Rows,
		Failed:   s.Failed,
		Segments: s.Segments,
		Shortest: sample(s.Shortest),
		Typical:  sample(s.Typical),
		Longest:  sample(s.Longest),
		Faults:   []client.TemplateFault{},
	}
	for _, err := range s.Faults {
		var f *template.Error
		if errors.As(err, &f) {
			w.Faults = append(
				w.Faults,
				client.TemplateFault{Row: f.Row, Language: f.Language, Field: f.Field, Wrong: f.Wrong, Accepted: f.Accepted},
			)
		}
	}
	return w
}
