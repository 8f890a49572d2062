package template

import (
	"errors"
	"iter"

	"calmpigeon.example/internal/core/smstext"
)

// Row is one recipient's values, and the language of its text.
type Row struct {
	Language string
	Values   map[string]any
	Wrong    string // why its values cannot be told apart; empty if they can
}

// Sample is one rendering and what it weighs.
type Sample struct {
	Row    int // of the data, 1 first
	Text   string
	Weight smstext.Weight
}

// Span is what a template weighs over data.
type Span struct {
	Rows int
	// Shortest and Longest are by segments, and by units where those are the
	// same. Typical is the first row of the median number of segments.
	Shortest, Longest, Typical Sample
	Segments                   int64       // of all rows together
	BySegments                 map[int]int // how many rows have so many
	// Faults are the first rows that cannot be rendered or sent, and Failed is
	// how many there are.
	Faults []error
	Failed int
}

// mostFaults is how many faults a span tells of.
const mostFaults = 20

// Weigh renders every row and weighs it, and hands each that can be sent to
// each, which may be nil. Rows are pulled one by one and not kept, so that
// memory does not grow with them.
func (t *Template) Weigh(rows iter.Seq[Row], options smstext.Options, each func(Row, Sample)) Span {
	s := Span{BySegments: map[int]int{}}
	first := map[int]Sample{}
	for row := range rows {
		s.Rows++
		var r Rendering
		err := row.sendable(t.Name)
		if err == nil {
			r, err = t.Render(row.Language, row.Values)
		}
		var w smstext.Weight
		if err == nil {
			text, _ := options.Cure(r.Text, t.Cure)
			r.Text = text
			if w, err = options.Weigh(text); err != nil {
				err = &Error{Template: t.Name, Language: row.Language, Wrong: err.Error(), Accepted: "a text that can be sent"}
			}
		}
		if err != nil {
			var fault *Error
			if errors.As(err, &fault) {
				fault.Row = s.Rows
			}
			if s.Failed++; len(s.Faults) < mostFaults {
				s.Faults = append(s.Faults, err)
			}
			continue
		}
		sample := Sample{s.Rows, r.Text, w}
		if _, known := first[w.Segments]; !known {
			first[w.Segments] = sample
		}
		if s.Shortest.Row == 0 || lighter(w, s.Shortest.Weight) {
			s.Shortest = sample
		}
		if s.Longest.Row == 0 || lighter(s.Longest.Weight, w) {
			s.Longest = sample
		}
		if each != nil {
			each(row, sample)
		}
		s.BySegments[w.Segments]++
		s.Segments += int64(w.Segments)
	}
	half := (s.Rows - s.Failed + 1) / 2
	for n := 1; half > 0; n++ {
		if half -= s.BySegments[n]; half <= 0 {
			s.Typical = first[n]
		}
	}
	return s
}

func lighter(a, b smstext.Weight) bool {
	return a.Segments < b.Segments || a.Segments == b.Segments && a.Units < b.Units
}
