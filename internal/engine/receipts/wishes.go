package receipts

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/optout"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// heed puts the numbers of those who write that they do not want to be written to on the
// list of opt-outs, takes those off who want it again, and answers where something has changed
// and the rule of the country says so. It returns the answers.
func (s *settler) heed(ctx context.Context, tx *store.Store, inbound []store.Inbound, now time.Time) ([]store.Message, error) {
	last := map[string]store.Inbound{} // what each number wrote last counts
	numbers := map[string]phone.Reading{}
	for _, m := range inbound {
		if optout.Of(m.Text) == optout.Nothing {
			continue
		}
		number, err := roster.ReadNumber(m.FromNumber, "")
		if err != nil {
			s.r.Log.Warn("somebody asks not to be written to, from a number that cannot be read", "gateway", s.gateway, "inbound", m.ID)
			continue
		}
		last[number.Number.String()], numbers[number.Number.String()] = m, number
	}
	var stops []store.OptOut
	answers := map[string]store.Acceptance{}
	var changed []string // of these, where it was not so before
	for _, number := range slices.Sorted(maps.Keys(last)) {
		m := last[number]
		wish := optout.Of(m.Text)
		answer, answered := s.answer(numbers[number], m, wish)
		if answered {
			answers[number] = answer
		}
		why := fmt.Sprintf("wrote %q to %s", strings.TrimSpace(m.Text), m.ToNumber)
		if wish == optout.Stop {
			stop := store.OptOut{Number: number, Since: m.ReceivedAt, Why: why, ByWhom: recipient}
			if answered {
				stop.Answer = &answer.Message.ID
			}
			stops = append(stops, stop)
			continue
		}
		ended, err := tx.EndOptOuts(ctx, []string{number}, now, why, recipient)
		if err != nil {
			return nil, err
		}
		if ended > 0 {
			changed = append(changed, number)
		}
	}
	added, err := tx.AddOptOuts(ctx, stops)
	if err != nil {
		return nil, err
	}
	var going []store.Acceptance
	var messages []store.Message
	for _, number := range append(changed, added...) {
		if a, ok := answers[number]; ok {
			going, messages = append(going, a), append(messages, a.Message)
		}
	}
	if going == nil {
		return nil, nil
	}
	_, err = tx.Accept(ctx, going)
	return messages, err
}

// answer makes what is answered to a wish, as the rule of the writer's country says: from the
// sender that was written to, through the gateway that brought it; false if nothing is answered.
func (s *settler) answer(number phone.Reading, m store.Inbound, wish optout.Wish) (a store.Acceptance, ok bool) {
	book := s.r.Roster.Book()
	rule, _ := book.Rule(number.Country)
	text := rule.StopAnswer
	if wish == optout.Start {
		text = rule.StartAnswer
	}
	g := s.r.Roster.ByID(s.gateway)
	if text == "" || g == nil {
		return a, false
	}
	d := intake.Draft{To: number.Number.String(), Text: text, Kind: string(pace.Transactional), Gateway: g.Name}
	for _, sender := range book.Senders {
		if strings.TrimLeft(sender.ID, "+") == strings.TrimLeft(strings.TrimSpace(m.ToNumber), "+0") {
			d.Sender = sender.ID
		}
	}
	p, faults, err := s.r.Intake.Plan(d, smstext.Off, intake.Whole)
	if err == nil && len(faults) > 0 { // it may not be able to send what it can take in
		d.Gateway = ""
		p, faults, err = s.r.Intake.Plan(d, smstext.Off, intake.Whole)
	}
	if err == nil && len(faults) > 0 {
		err = faults
	}
	if err != nil {
		s.r.Log.Warn("a wish is heeded, and cannot be answered as the rule of the country says", "country", number.Country, "inbound", m.ID,
			"error", err)
		return a, false
	}
	a.Message = s.r.Intake.Message(p, d)
	a.Begun = fmt.Sprintf(
		"answers %q, as the rule of %s says; %s",
		strings.TrimSpace(m.Text),
		phone.CountryName(number.Country),
		intake.Begun(p),
	)
	return a, true
}

// recipient is who asks for it, on the list.
const recipient = "the recipient"
