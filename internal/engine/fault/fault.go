// Package fault names what is wrong with what was asked for: the field, what
// was wrong, and what is accepted.
package fault

import (
	"errors"
	"strings"
)

// Fault is what is wrong with one field.
type Fault struct{ Field, Wrong, Accepted string }

// Faults is everything that is wrong with a request.
type Faults []Fault

// New makes the error of a single fault.
func New(field, wrong, accepted string) error { return Faults{{field, wrong, accepted}} }

// Add notes one more.
func (f *Faults) Add(field, wrong, accepted string) { *f = append(*f, Fault{field, wrong, accepted}) }

func (f Faults) Error() string {
	said := make([]string, len(f))
	for i, one := range f {
		said[i] = one.Field + ": " + one.Wrong
	}
	return strings.Join(said, "; ")
}

// Of returns the faults that err stands for, or nil.
func Of(err error) Faults {
	var faults Faults
	errors.As(err, &faults)
	return faults
}

// Plainly is an error's text without the sentinel that it ends with: beside
// the name of a field it says nothing more.
func Plainly(err, sentinel error) string {
	return strings.TrimSuffix(err.Error(), ": "+sentinel.Error())
}
