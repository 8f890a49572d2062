package passcodes

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/store"
)

// Suspected is how suspicious a request is, from 0 to 100, and why.
type Suspected struct {
	Score   int
	Reasons []fraud.Reason
}

// Suspicious is returned for a request that is more suspicious than the caller allows.
type Suspicious struct {
	Suspected
	Most int
}

func (s *Suspicious) Error() string {
	said := make([]string, len(s.Reasons))
	for i, r := range s.Reasons {
		said[i] = r.Say
	}
	return fmt.Sprintf("its suspicion is %d of 100, and %d is allowed: %s", s.Score, s.Most, strings.Join(said, "; "))
}

// blockedPoints is how much it weighs that something is blocked.
const blockedPoints = 100

// Suspicion says how suspicious it would be to ask for a passcode for a number, from the address of an end user. It
// counts for nothing.
func (p *Passcodes) Suspicion(ctx context.Context, to, country, address string) (Suspected, error) {
	var faults fault.Faults
	r, err := phone.Read(to, country)
	if err != nil {
		faults.Add("to", fault.Why(err), "the number that a code would be sent to")
	}
	at := readAddress(address, &faults)
	if faults != nil {
		return Suspected{}, faults
	}
	now, number := p.Now(), r.Number.String()
	request := fraud.Request{Number: fraud.NumberOf(number), Usual: *p.usual.Load()}
	if verdict, why := p.Intake.Policy.Judge(r.Line, r.Country); verdict != sender.Allowed {
		request.NoMobile = why
	}
	book := p.Roster.Book()
	var blocked []fraud.Reason
	var watched []store.Counted
	for _, c := range values(number, r.Country, "", uuid.Nil, at) {
		if b, is := book.Blocked(c.By, c.Value, now); is {
			blocked = append(blocked, fraud.Reason{Points: blockedPoints, Say: (&Blocked{b}).Error()})
		}
		for _, a := range book.Alarms(c.By, c.Value, now) {
			request.Standing = append(request.Standing, fraud.Found{Rule: a.Rule, By: a.By, Value: a.Value})
		}
		if slices.Contains(fraud.Watched, c.By) {
			watched = append(watched, c)
		}
	}
	known, err := p.Store.PeekCounters(ctx, watched)
	if err != nil {
		return Suspected{}, err
	}
	settle, err := p.fates(ctx, known)
	if err != nil {
		return Suspected{}, err
	}
	for i := range known {
		settle(&known[i].Ledger, now)
		request.Subjects = append(request.Subjects, fraud.Subject{By: known[i].By, Value: known[i].Value, Ledger: known[i].Ledger})
	}
	score, reasons := fraud.Suspicion(request, now)
	if blocked != nil {
		score, reasons = blockedPoints, append(blocked, reasons...)
	}
	return Suspected{score, reasons}, nil
}
