package dispatch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// lesson is what a request teaches about its gateway.
type lesson struct {
	cause delivery.Cause // why nothing of it was taken; empty if the gateway did its work
	note  string
	wait  *time.Duration // for which the gateway asked
	// began is when the request did, and ours that this process stood still since: what it missed is
	// no fault of the gateway.
	began time.Time
	ours  bool
	// at are the messages that it answered so to, which may be what is wrong; none
	// where it had none before it.
	at []store.Message
}

// submission is one request on its way from messages to a result.
type submission struct {
	d    *Dispatch
	g    *roster.Gateway
	pack []store.Message
	now  time.Time
	result
}

// passport is what a request needs that may have to be fetched first.
type passport struct {
	means   dialect.Means
	fetched *store.Exchange
	err     error
}

func (d *Dispatch) passport(ctx context.Context, g *roster.Gateway) (p passport) {
	p.means, p.fetched, p.err = d.Courier.Means(ctx, g)
	return p
}

// submit makes one request with a pack of messages. leave is asked when it is
// ready to go, and waits for its place in time; if it says why not, nothing is sent.
// It returns what came of it and what it teaches about the gateway.
func (d *Dispatch) submit(
	ctx context.Context,
	g *roster.Gateway,
	pack []store.Message,
	pass passport,
	leave func() (leaving courier.Leaving, not string),
) (result, lesson) {
	s := &submission{d: d, g: g, pack: pack, now: d.Now(), result: result{steps: course.Steps{}}}
	if pass.fetched != nil {
		s.exchanges = append(s.exchanges, *pass.fetched)
	}
	if pass.err != nil {
		var why *courier.NoToken
		errors.As(pass.err, &why)
		l := lesson{cause: why.Cause, note: pass.err.Error()}
		if why.RetryAfter > 0 {
			l.wait = &why.RetryAfter
		}
		for _, m := range s.pack {
			s.notTaken(m, delivery.Own, why.Cause, "not sent: "+pass.err.Error(), l.wait, pass.fetched)
		}
		return s.result, l
	}
	request, lesson, ok := s.build(pass.means)
	if !ok {
		return s.result, lesson
	}
	leaving, not := leave()
	if not != "" {
		for _, m := range s.pack {
			s.add(s.own(m, delivery.Queued, "not sent: "+not), nil)
			s.steps[m.ID] = course.Step{Wait: new(time.Duration)}
		}
		return s.result, lesson
	}
	reply, fate, exchange, mask := d.Courier.CarryNoting(ctx, g, "submit", request, leaving)
	s.now = d.Now()
	marks := ""
	for i := range s.pack {
		marks += s.pack[i].Marks
	}
	if marks != "" {
		mask = d.Roster.Hide(&exchange, marks, mask)
	}
	s.exchanges = append(s.exchanges, exchange)
	switch fate {
	case courier.NotSent:
		for _, m := range s.pack {
			s.notTaken(m, delivery.Own, delivery.GatewayFault, "not sent: "+exchange.Error, nil, &exchange)
		}
		lesson.cause, lesson.note = delivery.GatewayFault, exchange.Error
		return s.result, lesson
	case courier.NoAnswer:
		for _, m := range s.pack {
			s.doubt(m, exchange.Error, &exchange)
		}
		lesson.cause, lesson.note = delivery.GatewayFault, exchange.Error
	default:
		lesson = s.understand(g.Dialect.ReadSubmit(reply, s.now).Masked(mask), &exchange)
		if token := pass.means.Secrets["token"]; lesson.cause == delivery.CredentialsRefused && token != "" {
			d.Courier.DropToken(g, token)
			if pass.fetched == nil { // it may have ended early: that is no fault yet, and nothing to go elsewhere for
				lesson.cause, lesson.note, s.moves = "", "", nil
				for id := range s.steps {
					s.steps[id] = course.Step{Wait: new(time.Duration)}
				}
			}
		}
	}
	lesson.at = s.pack
	return s.result, lesson
}

// messages are the pack as a dialect sees it.
func (s *submission) messages() []dialect.Message {
	messages := make([]dialect.Message, len(s.pack))
	url := s.g.ReceiptURL(s.d.PublicURL)
	for i, m := range s.pack {
		messages[i] = dialect.Message{
			ID: m.ID.String(), To: m.To, Country: m.Country, Sender: m.Sender, Text: m.Text, Kind: string(m.Kind), Encoding: m.Encoding,
			Segments: m.Segments, Flash: m.Flash, Template: m.Template, Registration: m.Registration, Fields: m.Fields,
			ReceiptURL: url, ValidFor: int(math.Ceil(m.ValidUntil.Sub(s.now).Seconds())), // 0 would be for ever
		}
	}
	return messages
}

// build makes the request. Messages that cannot be put into one are taken out of
// the pack and end; ok is false if none is left.
func (s *submission) build(means dialect.Means) (r dialect.Request, l lesson, ok bool) {
	all := s.pack
	s.pack = make([]store.Message, 0, len(all))
	for _, m := range all {
		if m.Sealed != nil {
			s.unfit(m, "its text was sealed with another key")
			continue
		}
		if !m.ValidUntil.After(s.now) { // it waited for its place, or for a token
			s.add(s.own(m, delivery.Queued, "not sent: the time in which it is of use is over"), nil)
			s.steps[m.ID] = course.Step{Wait: new(time.Duration)}
			continue
		}
		s.pack = append(s.pack, m)
	}
	if len(s.pack) == 0 {
		return r, l, false
	}
	r, err := s.g.Dialect.SubmitRequest(s.messages(), means)
	if err == nil {
		return r, l, true
	}
	all = s.pack
	s.pack = nil
	for _, m := range all {
		one := submission{d: s.d, g: s.g, pack: []store.Message{m}, now: s.now}
		if _, err := s.g.Dialect.SubmitRequest(one.messages(), means); err != nil {
			s.unfit(m, s.g.Mask(err.Error()))
		} else {
			s.pack = append(s.pack, m)
		}
	}
	if len(s.pack) == 0 {
		return r, l, false
	}
	if r, err = s.g.Dialect.SubmitRequest(s.messages(), means); err != nil {
		for _, m := range s.pack { // each would go alone; together they do not
			s.unfit(m, s.g.Mask(err.Error()))
		}
		return r, l, false
	}
	return r, l, true
}

// add records what is known of one message's submission.
func (s *submission) add(e store.Evidence, exchange *store.Exchange) {
	if exchange != nil {
		e.ExchangeID = &exchange.ID
	}
	s.evidence = append(s.evidence, e)
}

func (s *submission) own(m store.Message, claim delivery.State, note string) store.Evidence {
	return course.Own(m, s.now, claim, m.Attempts+1, note)
}

// doubt: nobody knows whether it was taken.
func (s *submission) doubt(m store.Message, note string, exchange *store.Exchange) {
	s.add(s.own(m, delivery.Doubtful, note), exchange)
}

// unfit: it cannot be put into a request, and trying again would not help.
// Another gateway of its route may be able to carry it.
func (s *submission) unfit(m store.Message, why string) {
	e := s.own(m, delivery.Rejected, "cannot be put into a request: "+why)
	e.Cause = delivery.Unfit
	if other, next := s.d.Roster.Elsewhere(&m, s.now); other != nil && next {
		e.Claim = delivery.Queued
		s.moves = append(s.moves, move{m, other, s.g.Name + " (" + string(delivery.Unfit) + ")", true})
	}
	s.add(e, nil)
}

// notTaken: it is known that the gateway has it not, so it may go again:
// through the next gateway of its route if this one is at fault.
func (s *submission) notTaken(
	m store.Message,
	source delivery.Source,
	cause delivery.Cause,
	note string,
	wait *time.Duration,
	exchange *store.Exchange,
) {
	e := s.own(m, delivery.Queued, note)
	e.Source, e.Cause = source, cause
	s.add(e, exchange)
	s.steps[m.ID] = course.Step{Wait: wait}
	if cause == delivery.Limited {
		return // it asks for time, not for another
	}
	if other, next := s.d.Roster.Elsewhere(&m, s.now); other != nil {
		s.moves = append(s.moves, move{m, other, s.g.Name + " (" + string(cause) + ")", next})
	}
}

// refuse: the gateway refused the request as a whole. What no further try can
// mend ends the message, but only alone is it sure to be meant.
func (s *submission) refuse(reading dialect.Reading, wait *time.Duration, exchange *store.Exchange) lesson {
	if !reading.Cause.Advice().Again && len(s.pack) == 1 {
		e := s.own(s.pack[0], delivery.Rejected, reading.Note)
		e.Source, e.Cause = delivery.Reply, reading.Cause
		s.add(e, exchange)
		return lesson{}
	}
	for _, m := range s.pack {
		s.notTaken(m, delivery.Reply, reading.Cause, reading.Note, wait, exchange)
	}
	if !reading.Cause.Advice().Again {
		return lesson{}
	}
	return lesson{cause: reading.Cause, note: reading.Note, wait: wait}
}

// understand makes evidence of what was read of a reply, for each message of
// its own.
func (s *submission) understand(reading dialect.Reading, exchange *store.Exchange) lesson {
	if reading.Balance != nil {
		s.d.mu.Lock()
		s.d.balances[s.g.ID] = balance{
			dialect.Amount{Micros: reading.Balance.Micros, Currency: cmp.Or(reading.Balance.Currency, s.g.Currency)},
			s.now,
		}
		s.d.mu.Unlock()
	}
	switch reading.Meaning {
	case dialect.NotTaken:
		var wait *time.Duration
		if reading.RetryAfter > 0 {
			wait = &reading.RetryAfter
		}
		return s.refuse(reading, wait, exchange)
	case dialect.Read:
		// One refusal for many may mean any of them: it is a refusal of the
		// request.
		if items := reading.Items; len(items) == 1 && len(s.pack) > 1 && items[0].Nameless() && items[0].State == delivery.Rejected {
			for _, m := range s.pack {
				s.notTaken(m, delivery.Reply, items[0].Cause, cmp.Or(items[0].Note, items[0].Code), nil, exchange)
			}
			return lesson{}
		}
		return s.items(reading.Items, exchange)
	}
	note := "the reply cannot be read: " + cmp.Or(reading.Note, "it says that there is no such message")
	for _, m := range s.pack {
		s.doubt(m, note, exchange)
	}
	return lesson{cause: delivery.GatewayFault, note: note}
}

func (s *submission) items(items []dialect.Item, exchange *store.Exchange) lesson {
	each, over := s.g.Dialect.Divide(items, s.messages())
	var last lesson
	worked := false
	for i, m := range s.pack {
		said := false
		for _, item := range each[i] {
			switch {
			case item.NotTaken != "":
				s.notTaken(m, delivery.Reply, item.NotTaken, cmp.Or(item.Note, item.Code), nil, exchange)
				last = lesson{cause: item.NotTaken, note: item.Note}
				said = true
			case item.State != "":
				e := s.own(m, "", "")
				course.Said(&e, delivery.Reply, item, s.g.Currency)
				s.add(e, exchange)
				said, worked = true, true
			}
		}
		if said {
			continue
		}
		note := "the reply does not speak of this message"
		if len(each[i]) > 0 {
			note = cmp.Or(each[i][0].Note, "the reply claims nothing of this message")
		}
		if len(over) > 0 {
			note += fmt.Sprintf("; %d of its items speak of none that was sent", len(over))
		}
		e := s.own(m, delivery.Doubtful, note)
		if len(each[i]) > 0 { // what it did say is kept
			e.Code, e.GatewayRef = each[i][0].Code, each[i][0].GatewayRef
		}
		s.add(e, exchange)
		if last.cause == "" {
			last = lesson{cause: delivery.GatewayFault, note: note}
		}
	}
	if worked {
		return lesson{}
	}
	return last
}
