package strays

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/belong"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// settle writes what was found: what can only belong to one message becomes weak evidence about it,
// what does not any more is withdrawn, and the rest is judged again later.
func (s *Strays) settle(
	ctx context.Context, tx *store.Store, g *roster.Gateway, c considered, now time.Time,
) ([]store.Message, error) {
	var evidence []store.Evidence
	var fated []store.Stray
	var freed []int64
	matched := map[uuid.UUID]bool{}
	anonymous := s.Roster.HasNamed(g) // else what bears no number could be about anything
	for i, l := range c.lines {
		if c.verdicts == nil || l.has != nil && l.has.Fate == store.Attached {
			continue
		}
		v := c.verdicts[i]
		if l.has == nil && slices.ContainsFunc(l.strays, func(t store.Stray) bool { return c.lacking(&t) }) {
			v.Claimant = -1
		}
		if v.Claimant >= 0 && l.Number == "" && !anonymous {
			v.Claimant = -1
		}
		var to store.Claimant
		if v.Claimant >= 0 {
			to = c.claimants[v.Claimant]
		}
		same := l.has != nil && v.Claimant >= 0 && *l.has.MessageID == to.MessageID && l.has.Attempt == to.Attempt
		if l.has != nil && !same && !v.Early {
			evidence = append(evidence, course.Withdrawn(*l.has.MessageID, g.ID, l.has.On(), now, delivery.Own,
				"more came that could belong to this message: what named none counts no more"))
			freed = append(freed, *l.has.Ground)
		}
		if v.Claimant < 0 {
			continue
		}
		ground := store.NewID()
		on := int64(store.GroundOf(ground)) // #nosec G115 -- told apart, not counted
		if same {
			on = *l.has.Ground
		}
		for _, t := range l.strays {
			if t.Fate != store.Astray {
				continue
			}
			t.Fate, t.Ground, t.MessageID, t.Attempt = store.Weakly, &on, &to.MessageID, to.Attempt
			t.Why = why(l, v)
			matched[t.ID] = true
			fated = append(fated, t)
			evidence = append(evidence, course.OfStray(t, now))
		}
	}
	if err := tx.FreeWithdrawn(ctx, now.Add(s.Quiet), freed); err != nil {
		return nil, err
	}
	if err := tx.FateStrays(ctx, now, fated); err != nil {
		return nil, err
	}
	if err := tx.JudgedStrays(ctx, s.inVain(c, matched, now)); err != nil {
		return nil, err
	}
	return s.Course.Record(ctx, tx, evidence, nil)
}

// why says why a line can only belong to one message.
func why(l line, v belong.Verdict) string {
	by := "the time"
	switch {
	case l.Number != "" && l.Text != "":
		by = "the number, the text and the time"
	case l.Number != "":
		by = "the number and the time"
	case l.Text != "":
		by = "the text and the time"
	}
	if v.Rivals > 1 {
		return fmt.Sprintf("by %s it could be one of %d messages, and the others have theirs", by, v.Rivals)
	}
	return "by " + by + " it can only be this message"
}

// inVain is what is written of strays that were judged in vain.
func (s *Strays) inVain(c considered, matched map[uuid.UUID]bool, now time.Time) []store.Stray {
	of := map[uuid.UUID]int{}
	for i, l := range c.lines {
		for _, t := range l.strays {
			of[t.ID] = i
		}
	}
	var vain []store.Stray
	for _, t := range c.due {
		if matched[t.ID] {
			continue
		}
		facts := belong.Facts{
			Lacking: c.lacking(&t),
			Crowd:   c.crowd,
			Absent:  t.Answer == store.Ignores,
			Written: t.Number == "" || c.written[t.Number],
			Old:     t.GatewayAt != nil && t.GatewayAt.Add(-c.skew).Before(c.since),
		}
		if c.verdicts != nil {
			facts.Verdict = c.verdicts[of[t.ID]]
		}
		again := now.Add(pace.Backoff{First: s.Quiet, Most: pauseMost}.Wait(t.Judged+1, 0))
		if facts.Early {
			again = now.Add(s.Quiet)
		} else {
			t.Reason, t.Rivals = belong.Why(facts), facts.Rivals
			t.Judged++
		}
		t.JudgeAt = &again
		if t.Fate != store.Astray || now.Sub(t.At) > longest {
			t.JudgeAt = nil
		}
		vain = append(vain, t)
	}
	return vain
}

// said is what a person's reason adds to a note.
func said(by, why string) string { return fmt.Sprintf("by %s: %s", by, cmp.Or(why, "no reason given")) }
