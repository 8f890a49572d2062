package delivery

import (
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"calmpigeon.example/internal/core/vary"
)

func at(second int) time.Time { return time.Date(2026, 11, 15, 7, 40, second, 0, time.UTC) }

func TestFold(t *testing.T) {
	queued := Evidence{Source: Own, Claim: Queued, Parts: 1}
	sending := Evidence{Source: Own, Claim: Sending, Attempt: 1}
	doubt := Evidence{Source: Own, Claim: Doubtful, Attempt: 1}
	taken := Evidence{Source: Reply, Claim: Accepted, Attempt: 1, GatewayRef: "h-1"}
	refusal := Evidence{Source: Reply, Claim: Rejected, Cause: ContentRefused, Attempt: 2}
	part := func(n int, s State) Evidence {
		return Evidence{Source: Receipt, Claim: s, Attempt: 1, Part: n, Parts: 3}
	}
	weakly := Evidence{Source: Receipt, Claim: Delivered, Attempt: 1, GatewayRef: "s-1", Ground: 1, Weak: true}
	decided := func(s State, over ...State) Evidence {
		return Evidence{Source: Operator, Claim: s, Attempt: 1, Ground: 2, Over: EndingsOf(over...), GatewayAt: at(5)}
	}
	tests := map[string]struct {
		evidence []Evidence
		want     Outcome
	}{
		"nothing known":  {nil, Outcome{}},
		"committed":      {[]Evidence{queued}, Outcome{State: Queued}},
		"handed to HTTP": {[]Evidence{queued, sending}, Outcome{State: Sending, Attempt: 1, Attempts: 1}},
		"no answer": {
			[]Evidence{queued, sending, doubt},
			Outcome{State: Doubtful, Attempt: 1, Attempts: 1, MayHaveGone: true},
		},
		"doubt outlives our wish to go again": {
			[]Evidence{sending, doubt, {Source: Own, Claim: Queued, Attempt: 1}},
			Outcome{State: Queued, Attempt: 1, Attempts: 1, MayHaveGone: true},
		},
		"and a later try that was not taken": {
			[]Evidence{
				sending,
				doubt,
				{Source: Own, Claim: Queued, Attempt: 1},
				{Source: Own, Claim: Sending, Attempt: 2},
				{Source: Reply, Claim: Queued, Cause: Limited, Attempt: 2},
			},
			Outcome{State: Queued, Cause: Limited, Attempt: 2, Attempts: 2, MayHaveGone: true},
		},
		"the gateway's word ends it": {
			[]Evidence{sending, doubt, {Source: Own, Claim: Queued, Attempt: 1}, {Source: Query, Claim: Queued, Attempt: 1}},
			Outcome{State: Queued, Attempt: 1, Attempts: 1, Freed: 1},
		},
		"taken": {
			[]Evidence{queued, sending, taken},
			Outcome{State: Accepted, Attempt: 1, Attempts: 1, GatewayRef: "h-1"},
		},
		"a late reply ends the doubt": {
			[]Evidence{queued, sending, doubt, taken},
			Outcome{State: Accepted, Attempt: 1, Attempts: 1, GatewayRef: "h-1"},
		},
		"a receipt resolves the doubt": {
			[]Evidence{sending, doubt, {Source: Receipt, Claim: Delivered, Attempt: 1}},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1},
		},
		"known not taken": {
			[]Evidence{queued, sending, {Source: Reply, Claim: Queued, Cause: Limited, Attempt: 1}},
			Outcome{State: Queued, Cause: Limited, Attempt: 1, Attempts: 1},
		},
		"second attempt runs": {
			[]Evidence{
				queued,
				sending,
				{Source: Reply, Claim: Queued, Cause: Limited, Attempt: 1},
				{Source: Own, Claim: Sending, Attempt: 2},
			},
			Outcome{State: Sending, Attempt: 2, Attempts: 2},
		},
		"first attempt turns out taken": {
			[]Evidence{sending, doubt, {Source: Own, Claim: Sending, Attempt: 2}, taken},
			Outcome{State: Accepted, Attempt: 1, Attempts: 2, GatewayRef: "h-1"},
		},
		"delivered once, refused once": {
			[]Evidence{{Source: Receipt, Claim: Delivered, Attempt: 1}, {Source: Reply, Claim: Rejected, Attempt: 2}},
			Outcome{State: Delivered, Attempt: 1, Attempts: 2},
		},
		"enroute after delivered": {
			[]Evidence{
				sending,
				{Source: Receipt, Claim: Delivered, Attempt: 1},
				{Source: Receipt, Claim: Enroute, Attempt: 1, GatewayAt: at(9)},
			},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1},
		},
		"we gave up, the handset did not": {
			[]Evidence{{Source: Clock, Claim: Unknown, Attempt: 1}, {Source: Receipt, Claim: Delivered, Attempt: 1}},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1},
		},
		"we gave up, then it moved": {
			[]Evidence{{Source: Clock, Claim: Unknown, Attempt: 1}, {Source: Receipt, Claim: Enroute, Attempt: 1}},
			Outcome{State: Unknown, Attempt: 1, Attempts: 1},
		},
		"two endings are contested": {
			[]Evidence{{Source: Receipt, Claim: Undeliverable, Cause: Absent, Attempt: 1}, {Source: Query, Claim: Delivered, Attempt: 1}},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1, Rivals: []State{Delivered, Undeliverable}},
		},
		"statement before receipt": {
			[]Evidence{{Source: Statement, Claim: Expired, Attempt: 1}, {Source: Receipt, Claim: Rejected, Attempt: 1, GatewayAt: at(5)}},
			Outcome{State: Expired, Attempt: 1, Attempts: 1, Rivals: []State{Expired, Rejected}},
		},
		"later of two equal receipts": {
			[]Evidence{
				{Source: Receipt, Claim: Undeliverable, Cause: Absent, Attempt: 1, GatewayAt: at(1)},
				{Source: Receipt, Claim: Undeliverable, Cause: Barred, Attempt: 1, GatewayAt: at(2)},
			},
			Outcome{State: Undeliverable, Cause: Barred, Attempt: 1, Attempts: 1},
		},
		"two of three segments": {
			[]Evidence{sending, taken, part(1, Delivered), part(3, Delivered)},
			Outcome{State: Enroute, Attempt: 1, Attempts: 1, GatewayRef: "h-1"},
		},
		"all three segments": {
			[]Evidence{sending, taken, part(1, Delivered), part(3, Delivered), part(2, Delivered)},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1, GatewayRef: "h-1"},
		},
		"one segment failed": {
			[]Evidence{part(1, Delivered), part(2, Undeliverable), part(3, Delivered)},
			Outcome{State: Undeliverable, Attempt: 1, Attempts: 1},
		},
		"one segment, two endings": {
			[]Evidence{part(1, Delivered), part(1, Undeliverable), part(2, Delivered), part(3, Delivered)},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1, Rivals: []State{Delivered, Undeliverable}},
		},
		"one segment unknown, the rest arrived": {
			[]Evidence{part(1, Delivered), part(2, Unknown), part(3, Delivered)},
			Outcome{State: Unknown, Attempt: 1, Attempts: 1},
		},
		"a refusal ends no earlier doubt": {
			[]Evidence{sending, doubt, {Source: Own, Claim: Queued, Attempt: 1}, {Source: Own, Claim: Sending, Attempt: 2}, refusal},
			Outcome{State: Doubtful, Attempt: 1, Attempts: 2, MayHaveGone: true, Refused: true},
		},
		"and at the end it is unknown": {
			[]Evidence{sending, doubt, refusal, {Source: Clock, Claim: Unknown, Attempt: 1}},
			Outcome{State: Unknown, Attempt: 1, Attempts: 2, Refused: true},
		},
		"unless the first was refused as well": {
			[]Evidence{sending, doubt, refusal, {Source: Query, Claim: Rejected, Attempt: 1}},
			Outcome{State: Rejected, Cause: ContentRefused, Attempt: 2, Attempts: 2},
		},
		"a note claims nothing": {
			[]Evidence{queued, {Source: Query, Note: "asked; no answer", Attempt: 1}},
			Outcome{State: Queued, Attempts: 1},
		},
		"cancelled between attempts": {
			[]Evidence{
				sending,
				{Source: Reply, Claim: Queued, Cause: GatewayFault, Attempt: 1},
				{Source: Operator, Claim: Cancelled, Attempt: 1},
			},
			Outcome{State: Cancelled, Attempt: 1, Attempts: 1},
		},
		"nothing names it, and it can only be this one": {
			[]Evidence{sending, doubt, weakly},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1, MayHaveGone: true, Weak: true},
		},
		"after we gave up": {
			[]Evidence{sending, doubt, {Source: Clock, Claim: Unknown, Attempt: 1}, weakly},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1, Weak: true},
		},
		"it was withdrawn": {
			[]Evidence{sending, doubt, weakly, {Source: Own, Attempt: 1, Withdraws: 1}},
			Outcome{State: Doubtful, Attempt: 1, Attempts: 1, MayHaveGone: true},
		},
		"something better is known": {
			[]Evidence{sending, doubt, weakly, {Source: Receipt, Claim: Undeliverable, Attempt: 1}},
			Outcome{State: Undeliverable, Attempt: 1, Attempts: 1},
		},
		"the gateway says that it was not taken": {
			[]Evidence{sending, doubt, weakly, {Source: Query, Claim: Queued, Attempt: 1}},
			Outcome{State: Queued, Attempt: 1, Attempts: 1, Freed: 1},
		},
		"weakly refused, and no reason to send again": {
			[]Evidence{sending, doubt, {Source: Receipt, Claim: Rejected, Attempt: 1, Ground: 1, Weak: true}},
			Outcome{State: Rejected, Attempt: 1, Attempts: 1, MayHaveGone: true, Weak: true},
		},
		"decided": {
			[]Evidence{sending, doubt, decided(Delivered)},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1, Decided: true},
		},
		"decided between two endings": {
			[]Evidence{{Source: Receipt, Claim: Undeliverable, Attempt: 1}, {Source: Receipt, Claim: Delivered, Attempt: 1},
				decided(Undeliverable, Delivered, Undeliverable)},
			Outcome{State: Undeliverable, Attempt: 1, Attempts: 1, Decided: true},
		},
		"decided without knowing": {
			[]Evidence{sending, taken, {Source: Receipt, Claim: Delivered, Attempt: 1}, decided(Undeliverable)},
			Outcome{State: Delivered, Attempt: 1, Attempts: 1, GatewayRef: "h-1", Rivals: []State{Delivered, Undeliverable}},
		},
		"decided otherwise later": {
			[]Evidence{sending, doubt, {Source: Operator, Claim: Cancelled, Attempt: 1, Ground: 3, GatewayAt: at(7)}, decided(Delivered)},
			Outcome{State: Cancelled, Attempt: 1, Attempts: 1, Decided: true},
		},
		"taken back": {
			[]Evidence{sending, doubt, decided(Delivered), {Source: Operator, Attempt: 1, Withdraws: 2}},
			Outcome{State: Doubtful, Attempt: 1, Attempts: 1, MayHaveGone: true},
		},
		"to go again by decision": {
			[]Evidence{
				sending,
				doubt,
				{Source: Clock, Claim: Unknown, Attempt: 1},
				decided(Queued),
				{Source: Own, Claim: Sending, Attempt: 2},
			},
			Outcome{State: Sending, Attempt: 2, Attempts: 2},
		},
		"too late": {
			[]Evidence{queued, {Source: Clock, Claim: Expired, Cause: TooLate}},
			Outcome{State: Expired, Cause: TooLate},
		},
	}
	for name, tt := range tests {
		t.Run(name, func(t *testing.T) {
			if got := Fold(tt.evidence); !reflect.DeepEqual(got, tt.want) {
				t.Errorf("Fold(%+v)\n got %+v\nwant %+v", tt.evidence, got, tt.want)
			}
		})
	}
}

// anyEvidence draws evidence from few values, so that ties and contradictions
// are common.
func anyEvidence(r *rand.Rand) Evidence {
	pick := func(n int) int { return r.IntN(n) }
	sources := []Source{Own, Reply, Receipt, Query, Statement, Operator, Clock}
	causes := []Cause{"", Absent, Barred, InvalidNumber}
	e := Evidence{
		Source: sources[pick(len(sources))], Cause: causes[pick(len(causes))], Attempt: pick(4),
		Code: []string{"", "A1", "B7"}[pick(3)], GatewayRef: []string{"", "h-1", "h-2"}[pick(3)],
	}
	if pick(8) > 0 {
		e.Claim = States[pick(len(States))]
	}
	if pick(2) > 0 {
		e.GatewayAt = at(pick(3))
	}
	if pick(3) == 0 {
		e.Charge = Charge{true, int64(pick(4)) * 10_000, []string{"EUR", "GBP", ""}[pick(3)]}
	}
	if pick(3) == 0 {
		e.Parts = 1 + pick(3)
		e.Part = 1 + pick(3)
	}
	switch pick(6) {
	case 0: // it can be withdrawn; what rests on a ground is all of one kind
		e.Ground = Ground(1 + pick(6))
		switch {
		case e.Ground <= 2:
			e.Source, e.Weak = Receipt, true
		case e.Ground <= 4:
			e.Source, e.Part, e.Claim, e.Cause = Operator, 0, []State{Undeliverable, Queued}[e.Ground-3], ""
			e.Over, e.GatewayAt = EndingsOf(Delivered, Rejected), at(int(e.Ground))
		default:
			e.Source = Statement
		}
	case 1:
		if pick(4) == 0 {
			e.Withdraws = Ground(1 + pick(6))
		}
	}
	return e
}

func TestFoldForgetsOrderAndRepetition(t *testing.T) {
	t.Parallel()
	for seed := range uint64(4000) {
		r := rand.New(rand.NewPCG(seed, 7))
		evidence := make([]Evidence, 1+r.IntN(12))
		for i := range evidence {
			evidence[i] = anyEvidence(r)
		}
		want := Fold(evidence)
		for range 8 {
			shuffled := append([]Evidence(nil), evidence...)
			for range r.IntN(5) {
				shuffled = append(shuffled, evidence[r.IntN(len(evidence))])
			}
			r.Shuffle(len(shuffled), func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] })
			if got := Fold(shuffled); !reflect.DeepEqual(got, want) {
				t.Fatalf("seed %d:\n%+v\ngives %+v\n%+v\ngives %+v", seed, evidence, want, shuffled, got)
			}
		}
	}
}

// A digest joined from pieces, in any order and with repetitions, kept and read
// again in between, comes to what all evidence at once comes to.
func TestDigestJoinsToFold(t *testing.T) {
	t.Parallel()
	for seed := range uint64(20000) {
		r := rand.New(rand.NewPCG(seed, 9))
		evidence := make([]Evidence, 1+r.IntN(14))
		for i := range evidence {
			evidence[i] = anyEvidence(r)
		}
		want := plainFold(evidence)
		pieces := make([]Digest, 1+r.IntN(4))
		for _, i := range r.Perm(len(evidence)) {
			for range 1 + r.IntN(2) {
				if d := &pieces[r.IntN(len(pieces))]; r.IntN(2) == 0 {
					d.Add(evidence[i])
				} else {
					d.Note(evidence[i])
				}
			}
			kept := &pieces[r.IntN(len(pieces))]
			b, _ := kept.AppendBinary(nil)
			var again Digest
			if err := again.UnmarshalBinary(b); err != nil || !again.Equal(*kept) {
				t.Fatalf("seed %d: %+v is kept as %x, which reads %+v, %v", seed, kept, b, again, err)
			}
			*kept = again
		}
		var all Digest
		for _, i := range r.Perm(len(pieces)) {
			all.Join(pieces[i])
			if r.IntN(3) == 0 {
				all.Join(pieces[i])
			}
		}
		if got := all.Outcome(); !reflect.DeepEqual(got, want) {
			t.Fatalf("seed %d:\n%+v\ngives %+v, want %+v", seed, evidence, got, want)
		}
		for attempt := range 5 {
			if got, want := all.Charge(attempt), plainCharge(attempt, evidence); got != want {
				t.Fatalf("seed %d:\n%+v\nsubmission %d costs %+v, want %+v", seed, evidence, attempt, got, want)
			}
		}
	}
}

// What repeats word for word is no news, however often; what is new is, until
// very much is known, and then still if it changes something.
func TestDigestTellsNews(t *testing.T) {
	t.Parallel()
	var d Digest
	e := Evidence{Source: Receipt, Claim: Enroute, Attempt: 1, Note: "on its way"}
	if !d.Note(e) || d.Note(e) {
		t.Error("the first time is news, the second is not")
	}
	for n := range 500 {
		e.GatewayAt = at(0).Add(time.Duration(n) * time.Second)
		e.Claim, e.Source = Accepted, Reply
		if news := d.Note(e); n < 40 && !news {
			t.Fatalf("fact %d of many is no news", n)
		}
	}
	weak := Evidence{Source: Reply, Claim: Accepted, Attempt: 1, GatewayAt: at(0)}
	if d.Note(weak) {
		t.Error("of a message of which very much is known, what changes nothing is news")
	}
	if strong := (Evidence{Source: Receipt, Claim: Delivered, Attempt: 1}); !d.Note(strong) || d.Outcome().State != Delivered {
		t.Error("what changes something is no news")
	}
	b, _ := d.AppendBinary(nil)
	if len(b) > 700 {
		t.Errorf("a digest of 500 facts takes %d bytes", len(b))
	}
}

func FuzzDigest(f *testing.F) {
	var d Digest
	d.Note(Evidence{Source: Reply, Claim: Accepted, Attempt: 1, GatewayRef: "h-1", Part: 2, Parts: 3, GatewayAt: at(1)})
	d.Note(Evidence{Source: Receipt, Claim: Delivered, Attempt: 1, Ground: 7, Weak: true, GatewayAt: at(2)})
	d.Note(Evidence{Source: Operator, Claim: Cancelled, Attempt: 1, Ground: 8, Over: EndingsOf(Delivered)})
	d.Note(Evidence{Source: Operator, Attempt: 1, Withdraws: 9})
	d.Note(Evidence{Source: Reply, Attempt: 1, Part: 2, Charge: Charge{true, 30_000, "EUR"}})
	b, _ := d.AppendBinary(nil)
	f.Add(b)
	vary.Of(f, 10_000, []string{string(b)}, func(s string) { f.Add([]byte(s)) })
	f.Fuzz(func(t *testing.T, b []byte) {
		var d Digest
		if d.UnmarshalBinary(b) == nil {
			d.Outcome()
		}
	})
}

// With partial evidence a delivered message may look undelivered, never the
// other way round: more evidence of a delivery cannot take it back.
func TestDeliveredStaysDelivered(t *testing.T) {
	t.Parallel()
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 11))
		evidence := []Evidence{{Source: Receipt, Claim: Delivered, Attempt: 1 + r.IntN(2)}}
		for range 10 {
			more := anyEvidence(r)
			if more.Source == Operator && more.Ground != 0 { // a person may
				continue
			}
			evidence = append(evidence, more)
			if got := Fold(evidence); got.State != Delivered {
				t.Fatalf("seed %d: %+v gives %+v", seed, evidence, got)
			}
		}
	}
}

func TestEveryCauseHasAdvice(t *testing.T) {
	for _, a := range advice {
		if got, err := ParseCause(string(a.Cause)); err != nil || got.Advice() != a || a.Text == "" {
			t.Errorf("cause %q: %v, %+v", a.Cause, err, got.Advice())
		}
	}
	if got := Cause("weather").Advice().Cause; got != Unspecified {
		t.Errorf("advice for a cause outside the list is that of %q", got)
	}
	if _, err := ParseCause("weather"); err == nil {
		t.Error("weather was taken for a cause")
	}
}

func TestTally(t *testing.T) {
	var tally Tally
	if got := tally.String(); got != "0 messages" {
		t.Errorf("empty tally is %q", got)
	}
	tally.Add(Rejected, 4)
	tally.Add(Delivered, 27)
	if got, want := tally.String(), "31 messages = 27 delivered + 4 rejected"; got != want {
		t.Errorf("got %q, want %q", got, want)
	}
	if err := tally.Check(); err != nil {
		t.Error(err)
	}
	tally.Add("mislaid", 1)
	if tally.Check() == nil {
		t.Error("a state outside the list adds up")
	}
}

func BenchmarkFold(b *testing.B) {
	usual := []Evidence{
		{Source: Own, Claim: Queued, Parts: 1}, {Source: Own, Claim: Sending, Attempt: 1},
		{Source: Reply, Claim: Accepted, Attempt: 1, GatewayRef: "h-1"}, {Source: Receipt, Claim: Delivered, Attempt: 1, GatewayAt: at(2)},
	}
	b.ReportAllocs()
	for b.Loop() {
		if Fold(usual).State != Delivered {
			b.Fatal("folded wrongly")
		}
	}
}
