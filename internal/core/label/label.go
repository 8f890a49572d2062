// Package label reads labels: a few words that an application puts on its messages to tell
// them from those of others, such as shop=eu. They are to tell applications apart, not
// messages: for those there are references.
package label

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"calmpigeon.example/internal/core/fault"
)

// The bounds of labels.
const (
	Most      = 5   // of one message
	SetsMost  = 200 // of a key that are told apart
	valueMost = 40  // characters
)

// Accepted is what is accepted as a label.
const Accepted = "at most 5 labels: a name of up to 20 small letters, digits, - and _, and a value of 1 to 40 characters without commas"

// Set is the labels of a message: name=value, in the order of their names, with commas
// between. Two sets are the same if they are equal; the zero value has none.
type Set string

// Other is the set by which messages are counted whose own cannot be told apart any more.
const Other Set = "labels=other"

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,19}$`)

// New makes a set. What is wrong comes as [fault.Faults], each with the label's name.
func New(labels map[string]string) (Set, error) {
	var faults fault.Faults
	if len(labels) > Most {
		faults.Add("labels", fmt.Sprintf("there are %d", len(labels)), Accepted)
		return "", faults
	}
	var pairs []string
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		value := strings.TrimSpace(labels[name])
		kept := utf8.ValidString(value) && !strings.ContainsFunc(value, func(r rune) bool { return r == ',' || unicode.IsControl(r) })
		switch n := utf8.RuneCountInString(value); {
		case !nameForm.MatchString(name):
			faults.Add("labels", fmt.Sprintf("%q is no name of a label", name), Accepted)
		case n == 0 || n > valueMost || !kept:
			faults.Add("labels."+name, fmt.Sprintf("%q is no value of a label", value), Accepted)
		}
		pairs = append(pairs, name+"="+value)
	}
	if faults != nil {
		return "", faults
	}
	return Set(strings.Join(pairs, ",")), nil
}

// Map is the set as names and values.
func (s Set) Map() map[string]string {
	labels := map[string]string{}
	if s == "" {
		return labels
	}
	for pair := range strings.SplitSeq(string(s), ",") {
		name, value, _ := strings.Cut(pair, "=")
		labels[name] = value
	}
	return labels
}

// With is the set with others beside its own; of one name the other's value counts.
func (s Set) With(others map[string]string) (Set, error) {
	if len(others) == 0 {
		return s, nil
	}
	labels := s.Map()
	maps.Copy(labels, others)
	return New(labels)
}

// Has reports whether a label is in the set: name=value, or a name alone with any value.
func (s Set) Has(wanted string) bool {
	name, value, exact := strings.Cut(wanted, "=")
	got, ok := s.Map()[name]
	return ok && (!exact || got == value)
}
