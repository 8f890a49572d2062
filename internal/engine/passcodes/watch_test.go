package passcodes

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/store"
)

// asked issues passcodes to numbers, a second apart, from an address; each arrives, and is used if that is said.
func (d *counterDesk) asked(address string, arrives, used bool, numbers ...string) (all []Issued) {
	d.t.Helper()
	for _, number := range numbers {
		one, err := d.Issue(d.t.Context(), d.key, Wants{To: number, Purpose: "sign-in", Address: address, Reveal: true}, "")
		if err != nil {
			d.t.Fatalf("%s: %v", number, err)
		}
		if arrives {
			d.becomes(one.ID, delivery.Sending, delivery.Accepted, delivery.Delivered)
		}
		if used {
			d.verdict(one.ID, one.Code)
		}
		all = append(all, one)
		d.forward(time.Second)
	}
	return all
}

// spaced are numbers of a range, or of several, that do not follow each other.
func spaced(format string, n, step int) (all []string) {
	for i := range n {
		all = append(all, fmt.Sprintf(format, (i*step*7)%1000))
	}
	return all
}

// alarms are those that stand, after what is due was judged.
func (d *counterDesk) alarms() []store.PasscodeAlarm {
	d.t.Helper()
	if err := d.Judge(d.t.Context()); err != nil {
		d.t.Fatal(err)
	}
	all, err := d.Store.PasscodeAlarms(d.t.Context(), true, d.Now(), 100)
	if err != nil {
		d.t.Fatal(err)
	}
	return all
}

// stands fails unless just one alarm stands, of a rule about something.
func (d *counterDesk) stands(rule fraud.Rule, by passcode.By, value string) store.PasscodeAlarm {
	d.t.Helper()
	all := d.alarms()
	if len(all) != 1 || all[0].Rule != rule || all[0].By != by || all[0].Value != value {
		d.t.Fatalf("there stand %+v, want %s of %s %s", all, rule, by, value)
	}
	return all[0]
}

// off lets rules judge nothing.
func (d *counterDesk) off(rules ...fraud.Rule) {
	d.t.Helper()
	acts := map[fraud.Rule]fraud.Act{}
	for _, rule := range rules {
		acts[rule] = fraud.Off
	}
	if err := errors.Join(d.Store.SetPasscodeRules(d.t.Context(), acts, d.Now()), d.Roster.Reload(d.t.Context())); err != nil {
		d.t.Fatal(err)
	}
}

func (d *counterDesk) done(a store.PasscodeAlarm, err error) store.PasscodeAlarm {
	d.t.Helper()
	if err != nil {
		d.t.Fatal(err)
	}
	return a
}

// Numbers in sequence slow their range down at once; lifting that lets it go, what was learnt stays, and taking it back
// slows it down again. What was stopped is counted.
func TestASequenceIsSlowedDown(t *testing.T) {
	t.Parallel()
	d := open(t)
	var numbers []string
	for i := range 7 {
		numbers = append(numbers, fmt.Sprintf("+44770090010%d", i))
	}
	d.asked("", false, false, numbers...)
	a := d.stands(fraud.Sequence, passcode.Range, "+447700900xxx")
	if a.Act != fraud.Slow || len(a.Evidence.Sample) != 7 || !strings.Contains(a.Evidence.Say(), "7 numbers one after the other") ||
		!a.UntilAt.Equal(a.RaisedAt.Add(24*time.Hour)) {
		t.Errorf("%+v: %s", a, a.Evidence.Say())
	}
	try := func(number string) error {
		_, err := d.Issue(t.Context(), d.key, Wants{To: number, Purpose: "sign-in"}, "")
		return err
	}
	var alarmed *Alarmed
	if err := try("+447700900107"); !errors.As(err, &alarmed) || alarmed.Full == nil || alarmed.ID != a.ID ||
		!alarmed.Full.Until.After(d.Now()) {
		t.Fatalf("the eighth: %v", err)
	}
	if err := try("+447700901107"); err != nil {
		t.Errorf("another range: %v", err)
	}
	if len(d.alarms()) != 1 {
		t.Error("what stands was raised again")
	}
	d.done(d.Act(t.Context(), a.ID, fraud.Block))
	if err := try("+447700900108"); !errors.As(err, &alarmed) || alarmed.Full != nil {
		t.Errorf("blocked: %v", err)
	}
	if err := d.flushStops(t.Context()); err != nil {
		t.Fatal(err)
	}
	if stops, err := d.Store.AlarmStops(t.Context(), []uuid.UUID{a.ID}); err != nil || len(stops[a.ID]) != 1 || stops[a.ID][0].N != 2 {
		t.Errorf("stopped are %+v, %v", stops, err)
	}
	lifted := d.done(d.Lift(t.Context(), a.ID, "the desk", "a school trip"))
	if lifted.LiftedBy != "the desk" || lifted.Stands(d.Now()) {
		t.Errorf("%+v", lifted)
	}
	d.asked("", false, false, "+447700900107", "+447700900108")
	if all := d.alarms(); len(all) != 0 {
		t.Errorf("what is known to be honest raises %+v", all)
	}
	d.done(d.Restore(t.Context(), a.ID))
	if err := try("+447700900109"); !errors.As(err, &alarmed) {
		t.Errorf("taken back: %v", err)
	}
	if _, err := d.Restore(t.Context(), a.ID); !errors.Is(err, ErrStands) {
		t.Errorf("taken back twice: %v", err)
	}
	d.forward(25 * time.Hour)
	if err := try("+447700900109"); err != nil {
		t.Errorf("a day later: %v", err)
	}
	if _, err := d.Act(t.Context(), a.ID, fraud.Block); !errors.Is(err, ErrNotStanding) {
		t.Errorf("it is over: %v", err)
	}
}

// A range, and an address, whose codes arrive and are not used; and neither where they are used, or may not have arrived.
func TestCodesThatAreNotUsed(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		arrives, used bool
		want          bool
	}{"not used": {true, false, true}, "used": {true, true, false}, "may not have arrived": {false, false, false}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := open(t)
			usual := .85
			d.usual.Store(&usual)
			d.asked("", tt.arrives, tt.used, spaced("+447700900%03d", 12, 5)...)
			if all := d.alarms(); len(all) != 0 {
				t.Fatalf("before it is known: %+v", all)
			}
			d.forward(fraud.Ripe)
			if all := d.alarms(); (len(all) == 1) != tt.want ||
				tt.want && (all[0].Rule != fraud.Untouched || all[0].Value != "+447700900xxx") {
				t.Fatalf("of a range: %+v", all)
			}
			d.forward(2 * time.Hour)
			var numbers []string
			for i := range 10 {
				numbers = append(numbers, fmt.Sprintf("+3363998%d1%02d", i%10, i*7))
			}
			for i, number := range numbers {
				if i%5 == 0 {
					d.forward(time.Minute) // five a minute
				}
				d.asked("192.0.2.7", tt.arrives, tt.used, number)
			}
			d.forward(fraud.Ripe)
			asking := slices.DeleteFunc(d.alarms(), func(a store.PasscodeAlarm) bool { return a.Rule != fraud.Asking })
			if (len(asking) == 1) != tt.want || tt.want && (asking[0].By != passcode.Address || asking[0].Value != "192.0.2.7") {
				t.Fatalf("of an address: %+v", asking)
			}
			s, err := d.Suspicion(t.Context(), "+447700900555", "", "192.0.2.7")
			if err != nil || s.Score >= 90 != tt.want || !tt.want && s.Score > 30 && tt.arrives {
				t.Errorf("its suspicion is %+v, %v", s, err)
			}
			_, err = d.Issue(
				t.Context(),
				d.key,
				Wants{To: "+447700900555", Purpose: "sign-in", Address: "192.0.2.7", SuspicionMost: 85},
				"",
			)
			var suspicious *Suspicious
			if errors.As(err, &suspicious) != tt.want || !tt.want && err != nil {
				t.Errorf("asked for with a suspicion of 85 at most: %v", err)
			}
			d.forward(26 * time.Hour)
			if s, err := d.Suspicion(t.Context(), "+447700900555", "", "192.0.2.7"); err != nil || s.Score > 0 {
				t.Errorf("a day later its suspicion is %+v, %v", s, err)
			}
		})
	}
}

// What was lifted raises another alarm when there is more than twice as much.
func TestWhatWasLiftedIsJudgedByIt(t *testing.T) {
	t.Parallel()
	d := open(t)
	usual := .85
	d.usual.Store(&usual)
	d.off(fraud.Sequence, fraud.Untouched)
	limits := []store.PasscodeLimit{{By: passcode.Address, PerWindow: "minute"}, {By: passcode.Address, PerWindow: "hour"}}
	if err := errors.Join(d.Store.PutPasscodeLimits(t.Context(), limits), d.Roster.Reload(t.Context())); err != nil {
		t.Fatal(err)
	}
	ask := func(stretch, n int, apart time.Duration) {
		for i := range n {
			d.asked("192.0.2.7", true, false, fmt.Sprintf("+336399800%d%d", stretch, i%10)[:12])
			d.forward(apart)
		}
		d.forward(fraud.Ripe)
	}
	ask(1, 9, 2*time.Minute)
	a := d.stands(fraud.Asking, passcode.Address, "192.0.2.7")
	d.done(d.Lift(t.Context(), a.ID, "the desk", ""))
	d.forward(90 * time.Minute)
	ask(2, 9, 2*time.Minute)
	if all := d.alarms(); len(all) != 0 {
		t.Fatalf("as much as was honest: %+v", all)
	}
	d.forward(90 * time.Minute)
	ask(3, 9, 30*time.Second)
	again := d.stands(fraud.Asking, passcode.Address, "192.0.2.7")
	if again.PerHour <= 2*a.PerHour {
		t.Errorf("%f an hour were honest, %f are an alarm", a.PerHour, again.PerHour)
	}
}

// onLog does something when anything is logged.
type onLog struct {
	slog.Handler
	do func()
}

func (l onLog) Enabled(context.Context, slog.Level) bool { return true }

func (l onLog) Handle(context.Context, slog.Record) error {
	l.do()
	return nil
}

// What is asked for while something is judged is not put off until that is judged again.
func TestWhatIsAskedForMeanwhileIsJudged(t *testing.T) {
	t.Parallel()
	d := open(t)
	d.asked("", false, false, spaced("+33639980%03d", 10, 9)...)
	for i := range 7 { // one less than it takes beside ten others
		d.asked("", false, false, fmt.Sprintf("+33639980%03d", 500+i))
	}
	d.forward(fraud.Ripe)
	for i := range 6 {
		d.asked("", false, false, fmt.Sprintf("+447700900%03d", 100+i))
	}
	var once sync.Once
	d.Log = slog.New(onLog{slog.DiscardHandler, func() {
		once.Do(func() { d.asked("", false, false, "+33639980507") })
	}})
	d.stands(fraud.Sequence, passcode.Range, "+447700900xxx")
	if all := d.alarms(); len(all) != 2 || all[0].Value != "+33639980xxx" {
		t.Errorf("the eighth came while the others were judged, and there stand %+v", all)
	}
}

// A country that suddenly rises is told; one that is usual, or in which codes are used, is not.
func TestACountryRises(t *testing.T) {
	t.Parallel()
	d := open(t)
	d.off(fraud.Sequence, fraud.Untouched)
	d.asked("", true, true, spaced("+447700900%03d", 12, 5)...)
	d.forward(4 * 24 * time.Hour)
	judged := func() []store.PasscodeAlarm {
		if err := errors.Join(d.Count(t.Context()), d.JudgeCountries(t.Context())); err != nil {
			t.Fatal(err)
		}
		return slices.DeleteFunc(d.alarms(), func(a store.PasscodeAlarm) bool { return a.Rule != fraud.Rise })
	}
	if all := judged(); len(all) != 0 {
		t.Fatalf("%+v", all)
	}
	var french, british []string
	for i := range 24 {
		french = append(french, fmt.Sprintf("+3363998%d%03d", i%10, i*41))
		british = append(british, fmt.Sprintf("+44770090%d%03d", i%10, i*41))
	}
	d.asked("", true, false, french...)
	d.asked("", true, true, british...)
	d.forward(2 * soon)
	all := judged()
	if len(all) != 1 || all[0].Value != "FR" || all[0].Act != fraud.Alarm || all[0].Evidence.Numbers != 24 {
		t.Fatalf("%+v", all)
	}
	if _, err := d.Issue(t.Context(), d.key, Wants{To: "+33639989123", Purpose: "sign-in"}, ""); err != nil {
		t.Errorf("it is told, and nothing more: %v", err)
	}
	d.done(d.Act(t.Context(), all[0].ID, fraud.Slow))
	n := 0
	var alarmed *Alarmed
	for i := range 80 {
		_, err := d.Issue(t.Context(), d.key, Wants{To: fmt.Sprintf("+3363998%d%03d", i%10, 7+i*11), Purpose: "sign-in"}, "")
		if err != nil && !errors.As(err, &alarmed) {
			t.Fatal(err)
		}
		if err == nil {
			n++
		}
	}
	if most := fraud.Slowed(passcode.Country).Most; n != most || alarmed == nil || alarmed.By != passcode.Country {
		t.Errorf("%d codes went to a country that gets %d: %v", n, most, alarmed)
	}
}

// Nothing is judged whose rule is off, and nothing of it is kept; and what stood because of it is over.
func TestRulesThatAreOff(t *testing.T) {
	t.Parallel()
	d := open(t)
	for i := range 6 {
		d.asked("", false, false, fmt.Sprintf("+33639980%03d", i))
	}
	d.stands(fraud.Sequence, passcode.Range, "+33639980xxx")
	d.off(fraud.Rules...)
	for i := range 8 {
		d.asked("192.0.2.7", true, false, fmt.Sprintf("+44770090010%d", i))
		d.forward(20 * time.Second)
	}
	d.forward(fraud.Ripe)
	if all := d.alarms(); len(all) != 0 {
		t.Errorf("%+v", all)
	}
	if known, err := d.Store.PeekCounters(t.Context(), []store.Counted{{By: passcode.Range, Value: "+447700900xxx"}}); err != nil ||
		len(known) != 1 || len(known[0].Ledger.Asked) != 0 {
		t.Errorf("%+v, %v", known, err)
	}
}

// A route that prefers by conversion goes, country by country, through the gateway whose codes get used.
func TestARouteThatPrefersWhatIsUsed(t *testing.T) {
	t.Parallel()
	d := open(t)
	r := route.Route{Name: "codes", Kinds: []pace.Kind{pace.OTP}, Gateways: []route.Leg{{Gateway: "first"}, {Gateway: "second"}},
		Prefer: route.Conversion}
	if err := d.Roster.PutRoutes(t.Context(), []route.Route{r}, "test", d.Now()); err != nil {
		t.Fatal(err)
	}
	d.off(fraud.Sequence, fraud.Untouched)
	if err := errors.Join(d.Store.PutPasscodeLimits(t.Context(), []store.PasscodeLimit{{By: passcode.Range, PerWindow: "hour"}}),
		d.Roster.Reload(t.Context())); err != nil {
		t.Fatal(err)
	}
	through := func(number string) intake.Plan {
		p, faults, err := d.Intake.Plan(intake.Draft{To: number, Kind: "otp", Text: "123456", Draw: "a"}, smstext.Off, intake.Whole)
		if err != nil || faults != nil {
			t.Fatal(err, faults)
		}
		return p
	}
	if p := through("+447700900123"); p.Gateway.Name != "first" || !strings.Contains(p.Why, "too little is known") {
		t.Errorf("at first through %s: %s", p.Gateway.Name, p.Why)
	}
	for i := range 4 * route.FaredLeast {
		gateway, used := []string{"first", "second"}[i%2], i%2 == 1
		one, err := d.Issue(t.Context(), d.key,
			Wants{To: fmt.Sprintf("+447700900%03d", i), Purpose: "sign-in", Gateway: gateway, Reveal: true}, "")
		if err != nil {
			t.Fatal(err)
		}
		if used {
			d.verdict(one.ID, one.Code)
		}
	}
	d.forward(2 * soon)
	for range 2 { // what was counted is not counted again
		if err := d.Count(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if f := d.Fared("second", "GB"); f.N < 2*route.FaredLeast-.1 || f.N > 2*route.FaredLeast+.1 || f.Used < f.N-.1 {
		t.Errorf("of the second %+v", f)
	}
	if p := through("+447700900999"); p.Gateway.Name != "second" || !strings.Contains(p.Why, "second, where 100 % are") {
		t.Errorf("then through %s: %s", p.Gateway.Name, p.Why)
	}
	if p := through("+33639980123"); p.Gateway.Name != "first" {
		t.Errorf("to another country through %s: %s", p.Gateway.Name, p.Why)
	}
}

// Where a gateway calls, a code is spoken; in the words that are registered with it.
func TestAgainByVoice(t *testing.T) {
	t.Parallel()
	d := open(t)
	p := d.issued("+447700900123")
	d.forward(time.Minute)
	if _, err := d.Again(t.Context(), d.key, p.ID, Resend{Voice: true}); !errors.Is(err, ErrVoice) ||
		!strings.Contains(err.Error(), "no gateway calls") {
		t.Fatalf("without a gateway that calls: %v", err)
	}
	caller := strings.Replace(
		fmt.Sprintf(uncalled, "caller"),
		"submit:",
		"takes: {texts: registered, voice: true, kinds: [otp]}\nsubmit:",
		1,
	)
	rostertest.Gateway(t, d.Roster, caller, roster.Settings{})
	if _, err := d.Again(t.Context(), d.key, p.ID, Resend{Voice: true}); !errors.Is(err, ErrVoice) ||
		!strings.Contains(err.Error(), "caller") {
		t.Fatalf("without words that it speaks: %v", err)
	}
	words, err := template.Read([]byte("name: call\nkind: otp\nlanguage: en\ntexts: {en: 'Your code is {code}.'}\n" +
		"registered: [{country: GB, gateway: caller, id: R-1, wording: 'Your code is {8}.'}]\n"))
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Roster.PutTemplate(t.Context(), words, false, d.Now()); err != nil {
		t.Fatal(err)
	}
	sent, err := d.Again(t.Context(), d.key, p.ID, Resend{Voice: true})
	if err != nil || sent.Gateway != "caller" || sent.Sends != 2 {
		t.Fatalf("%+v, %v", sent, err)
	}
	texts, err := d.Texts(t.Context(), sent.Passcode)
	if err != nil || len(texts) != 2 || texts[0].ID != p.ID || texts[1].ID != sent.MessageID || texts[1].Template != "call" {
		t.Errorf("%+v, %v", texts, err)
	}
	if c := d.verdict(p.ID, p.Code); c.Verdict != passcode.Right {
		t.Errorf("the code that was spoken is %s", c.Verdict)
	}
}

// Who is to be written to is not called, although the gateway that calls was there first.
func TestNobodyIsCalledWhoIsToBeWrittenTo(t *testing.T) {
	t.Parallel()
	gateways, s := rostertest.Roster(t)
	caller := strings.Replace(fmt.Sprintf(uncalled, "caller"), "submit:", "takes: {voice: true}\nsubmit:", 1)
	rostertest.Gateway(t, gateways, caller, roster.Settings{})
	if _, err := gateways.PutSender(t.Context(), store.Sender{ID: "Lanternholm"}, false, time.Now()); err != nil {
		t.Fatal(err)
	}
	in := intake.New(rostertest.Kit(gateways, s), intake.Usual)
	for _, want := range []string{"caller", "writer"} { // alone, it is all there is
		p, faults, err := in.Plan(intake.Draft{To: "+447700900123", Kind: "otp", Text: "123456"}, smstext.Off, intake.Whole)
		if err != nil || faults != nil || p.Gateway.Name != want {
			t.Fatalf("through %v, want %s: %v %v", p.Gateway, want, faults, err)
		}
		if want == "caller" {
			rostertest.Gateway(t, gateways, fmt.Sprintf(uncalled, "writer"), roster.Settings{})
		}
	}
}
