package passcodes

import (
	"cmp"
	"context"
	"slices"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/latency"
	"calmpigeon.example/internal/store"
	"github.com/google/uuid"
)

// Bys are by what passcodes are held side by side.
var Bys = []string{"gateway", "country", "purpose", "template", "hour"}

// Fared is how passcodes fared that have something in common: how many were issued, sent again, checked at least once,
// and right; how long it took until they were; and what became of the messages that bore them.
type Fared struct {
	store.Stepped                 // what they have in common
	Issued, Again, Checked, Right int64
	Until                         latency.Histogram // they were right, from being issued
	Messages                      delivery.Tally
}

// Conversion is the share of passcodes that were right; false if none was issued.
func (f Fared) Conversion() (float64, bool) {
	if f.Issued == 0 {
		return 0, false
	}
	return float64(f.Right) / float64(f.Issued), true
}

func (f *Fared) add(s store.Stepped) {
	switch s.Step {
	case store.StepIssued:
		f.Issued += s.N
	case store.StepAgain:
		f.Again += s.N
	case store.StepChecked:
		f.Checked += s.N
	case store.StepRight:
		f.Right += s.N
		f.Until.Add(s.Took, s.N)
	}
}

// groupsMost is of how many groups it is told what became of their messages.
const groupsMost = 100

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
	if all.Messages, err = p.messages(ctx, f); err != nil || f.By == "hour" {
		return all, groups, err
	}
	for i := range groups[:min(len(groups), groupsMost)] {
		of, g := f, &groups[i]
		switch f.By {
		case "gateway":
			of.Gateway = g.Gateway
		case "country":
			of.Country = g.Country
		case "purpose":
			of.Purpose = g.Purpose
		case "template":
			if of.Template = g.Template; g.Template == "" { // they cannot be asked for by themselves
				continue
			}
		}
		if g.Messages, err = p.messages(ctx, of); err != nil {
			break
		}
	}
	return all, groups, err
}

// messages counts the messages that bore the codes.
func (p *Passcodes) messages(ctx context.Context, f store.Funnel) (delivery.Tally, error) {
	wanted := purposeLabel
	if f.Purpose != "" {
		wanted += "=" + f.Purpose
	}
	return p.Store.Tally(ctx, store.Filter{Labels: []string{wanted}, Gateway: f.Gateway, Country: f.Country, Template: f.Template,
		Since: f.Since, Until: f.Until})
}

// textsMost is how many messages can bear a passcode.
const textsMost = 20

// Texts are the messages that bear a passcode, in their order: those to its number for its purpose, until there was a
// newer one.
func (p *Passcodes) Texts(ctx context.Context, r store.Passcode) ([]store.Message, error) {
	until := r.EndsAt
	newer, err := p.Store.Passcodes(ctx, r.Number, r.Purpose, store.Floor(until), textsMost)
	if err != nil {
		return nil, err
	}
	for _, one := range newer {
		if one.CreatedAt.After(r.CreatedAt) && one.CreatedAt.Before(until) {
			until = one.CreatedAt
		}
	}
	found, err := p.Store.Find(ctx, store.Filter{To: r.Number, Labels: []string{purposeLabel + "=" + r.Purpose}, Since: r.CreatedAt, Until: until},
		uuid.Nil, textsMost)
	slices.Reverse(found)
	return found, err
}
