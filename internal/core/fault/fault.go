// Package fault names what is wrong with what was asked for: the field, what
// was wrong, and what is accepted.
package fault

import (
	"errors"
	"fmt"
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

// Words lists words for people, with commas between.
func Words[T ~string](all []T) string {
	words := make([]string, len(all))
	for i, one := range all {
		words[i] = string(one)
	}
	return strings.Join(words, ", ")
}

// Reason is why something is wrong: an error of a kind that callers tell apart,
// with the reason in words.
type Reason struct {
	Kind error
	why  error
}

// Because makes an error of a kind. The reason is formatted as by [fmt.Errorf].
func Because(kind error, format string, args ...any) error {
	return &Reason{kind, fmt.Errorf(format, args...)}
}

func (r *Reason) Error() string { return r.why.Error() + ": " + r.Kind.Error() }

// Unwrap makes it an error of its kind, and of what it came from.
func (r *Reason) Unwrap() []error { return []error{r.Kind, r.why} }

// Reason is the reason in words, without the kind.
func (r *Reason) Reason() string { return r.why.Error() }

// Why is the reason in words of an error that has one, which beside the name of a
// field says enough.
func Why(err error) string {
	var reasoned interface {
		error
		Reason() string
	}
	if errors.As(err, &reasoned) {
		return reasoned.Reason()
	}
	return err.Error()
}
