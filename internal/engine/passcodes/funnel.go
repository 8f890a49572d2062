package passcodes

import (
	"cmp"
	"context"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/latency"
	"calmpigeon.example/internal/store"
)

// Bys are by what passcodes are held side by side.
var Bys = []string{"gateway", "country", "purpose", "template", "hour"}

// Fared is how passcodes fared that have something in common: how many were issued and sent again, how many of their
// texts were accepted and delivered, how many passcodes were checked at least once, and right; and how long each took, of
// texts from being sent, else from being issued.
type Fared struct {
	store.Stepped                       // what they have in common
	Issued, Again                       int64
	Accepted, Delivered, Checked, Right Reached
}

// Reached is how many came so far, and how long it took.
type Reached struct {
	N    int64
	Took latency.Histogram
}

func (r *Reached) add(s store.Stepped) {
	r.N += s.N
	r.Took.Add(s.Took, s.N)
}

// Texts is how many texts bore them.
func (f Fared) Texts() int64 { return f.Issued + f.Again }

// Conversion is the share of passcodes that were right; false if none was issued.
func (f Fared) Conversion() (float64, bool) {
	if f.Issued == 0 {
		return 0, false
	}
	return float64(f.Right.N) / float64(f.Issued), true
}

func (f *Fared) add(s store.Stepped) {
	switch s.Step {
	case store.StepIssued:
		f.Issued += s.N
	case store.StepAgain:
		f.Again += s.N
	case store.StepAccepted:
		f.Accepted.add(s)
	case store.StepDelivered:
		f.Delivered.add(s)
	case store.StepChecked:
		f.Checked.add(s)
	case store.StepRight:
		f.Right.add(s)
	}
}

// Funnel tells how passcodes fared, all together and side by side, those of which most were issued first.
func (p *Passcodes) Funnel(ctx context.Context, f store.Funnel) (all Fared, groups []Fared, err error) {
	steps, err := p.Store.PasscodeSteps(ctx, f)
	if err != nil {
		return all, nil, err
	}
	found := map[store.Stepped]*Fared{}
	for _, s := range steps {
		all.add(s)
		if f.By == "" {
			continue
		}
		along := s
		along.Step, along.Took, along.N = "", 0, 0
		if found[along] == nil {
			found[along] = &Fared{Stepped: along}
		}
		found[along].add(s)
	}
	for _, one := range found {
		groups = append(groups, *one)
	}
	slices.SortFunc(groups, func(a, b Fared) int {
		return cmp.Or(
			a.Hour.Compare(b.Hour),
			cmp.Compare(b.Issued, a.Issued),
			cmp.Compare(a.Country, b.Country),
			cmp.Compare(a.Purpose, b.Purpose),
			cmp.Compare(a.Template, b.Template),
			slices.Compare(a.Gateway[:], b.Gateway[:]),
		)
	})
	return all, groups, nil
}

// delivered counts the messages that bore codes to a country and were delivered, since a moment.
func (p *Passcodes) delivered(ctx context.Context, country string, since time.Time) (int64, error) {
	t, err := p.Store.Tally(ctx, store.Filter{Labels: []string{purposeLabel}, Country: country, Since: since})
	return t.ByState[delivery.Delivered], err
}

// textsMost is how many messages can bear a passcode.
const textsMost = 20

// Texts are the messages that bear a passcode, in their order: those to its number for its purpose from its first on,
// until there was a newer one.
func (p *Passcodes) Texts(ctx context.Context, r store.Passcode) ([]store.Message, error) {
	newer, err := p.Store.Passcodes(ctx, r.Number, r.Purpose, store.Floor(r.EndsAt), textsMost)
	if err != nil {
		return nil, err
	}
	until := uuid.Max
	for _, one := range newer {
		if later(one.ID, r.ID) && later(until, one.ID) {
			until = one.ID
		}
	}
	// An id is made a moment before the message is.
	found, err := p.Store.Find(ctx, store.Filter{To: r.Number, Labels: []string{purposeLabel + "=" + r.Purpose},
		Since: r.CreatedAt.Add(-time.Minute), Until: r.EndsAt}, uuid.Nil, textsMost)
	found = slices.DeleteFunc(found, func(m store.Message) bool { return later(r.ID, m.ID) || !later(until, m.ID) })
	slices.Reverse(found)
	return found, err
}

// later reports whether an id comes after another.
func later(a, b uuid.UUID) bool { return slices.Compare(a[:], b[:]) > 0 }
