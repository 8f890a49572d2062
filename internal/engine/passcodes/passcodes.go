// Package passcodes sends one-time passwords, checks them, and sends them again.
//
// A passcode is a message, and a record of its own under the id of its first message. Requests that come at the same time
// are written as one set: what was sent of late is locked and read in one round trip, limits are held against it in
// memory, and what is admitted is written with the messages, in the same transaction.
package passcodes

import (
	"bytes"
	"cmp"
	"context"
	"crypto/hmac"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/engine/gather"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Wants is what passcode is asked for. Empty fields take their defaults.
type Wants struct {
	To, Country string // as for messages
	Purpose     string
	Template    string // with the fields code and minutes; empty: a text that ships
	Language    string
	Fields      map[string]any
	Sender      string
	Gateway     string
	Of          string // digits or letters
	Length      int
	Life        string // a span
	Tries       int
	Address     string // of the end user
	Reference   string
	Domain      string // that the code is bound to
	AppHash     string // of the app that is meant
	Labels      map[string]string
	Reveal      bool // the code is answered; only to keys for practice
	// SuspicionMost is how suspicious it may be, at most; 0: it is not asked.
	SuspicionMost int
}

// Issued is a passcode that was sent.
type Issued struct {
	store.Passcode
	Code      string     // only where it is revealed
	Suspected *Suspected // where it was asked
	Warnings  []intake.Warning
	Again     bool // the same request was made before
}

// Blocked is returned for what gets no passcodes.
type Blocked struct{ store.PasscodeBlock }

func (b *Blocked) Error() string {
	until := "for good"
	if b.UntilAt != nil {
		until = "until " + b.UntilAt.UTC().Format(time.RFC3339)
	}
	return fmt.Sprintf("the %s %s is blocked %s: %s", b.By, b.Value, until, cmp.Or(b.Why, "no reason was given"))
}

// Errors of passcodes that cannot be sent again.
var (
	ErrReveal    = errors.New("codes are shown to keys for practice only")
	ErrOver      = errors.New("it is over")
	ErrOften     = errors.New("it was sent as often as it may be")
	ErrDelivered = errors.New("it was delivered")
	ErrVoice     = errors.New("it cannot be spoken in a call")
)

// TooSoon is returned for a passcode that is to be sent again before its pause is over.
type TooSoon struct{ At time.Time }

func (e *TooSoon) Error() string { return "not before " + e.At.UTC().Format(time.RFC3339) }

// Passcodes sends and checks passcodes.
type Passcodes struct {
	kit.Kit
	Intake *intake.Intake
	Random io.Reader

	issue *gather.Gather[issuing, result]

	issuedAt atomic.Int64                              // when the last was, in seconds of the machine's clock
	usual    atomic.Pointer[float64]                   // share of numbers that use their code
	fared    atomic.Pointer[map[[2]string]route.Fared] // by gateway and country
	stopping sync.Mutex
	stops    map[stop]store.AlarmStop // not written yet
	hurry    chan struct{}            // there is something to judge at once
	decoys   decoys
}

// New makes one that sends once it runs.
func New(k kit.Kit, in *intake.Intake, random io.Reader) *Passcodes {
	p := &Passcodes{Kit: k, Intake: in, Random: random, stops: map[stop]store.AlarmStop{}, hurry: make(chan struct{}, 1)}
	usual := fraud.UsedAssumed
	p.usual.Store(&usual)
	p.fared.Store(&map[[2]string]route.Fared{})
	in.Fared = p.Fared
	p.issue = gather.New(gather.Limits{Rows: 500, Linger: 2 * time.Millisecond}, nil, p.write)
	return p
}

// Run sends what is asked for, and watches it, until ctx ends.
func (p *Passcodes) Run(ctx context.Context) {
	var parts sync.WaitGroup
	parts.Go(func() { p.watch(ctx) })
	p.issue.Run(ctx)
	parts.Wait()
}

// issuing is a passcode that is about to be sent.
type issuing struct {
	acceptance store.Acceptance
	record     store.Passcode
	subjects   []store.Counted
}

// result is what became of it: it was sent, a limit is reached, or the same was sent before.
type result struct {
	full  *passcode.Full
	prior *store.Idempotency
}

// kept is what it takes to send a code again.
type kept struct {
	Code  string       `json:"code"`
	Draft intake.Draft `json:"draft"`
}

const (
	purposeMost = 40
	// purposeLabel is the label by which the messages of passcodes are told apart: it says what they are for.
	purposeLabel = "passcode"
)

// read checks what is asked for, and makes a draft of it that has no text yet.
func (p *Passcodes) read(w Wants) (d intake.Draft, f passcode.Form, life time.Duration, at netip.Addr, faults fault.Faults) {
	f, err := passcode.ParseForm(w.Of, w.Length)
	if err != nil {
		faults.Add(
			"code",
			fault.Why(err),
			fmt.Sprintf("digits or letters, and a length of %d to %d", passcode.LengthLeast, passcode.LengthMost),
		)
	}
	life = passcode.LifeUsual
	if w.Life != "" {
		if life, err = span.Parse(w.Life); err != nil || life < passcode.LifeLeast || life > passcode.LifeMost {
			faults.Add(
				"life",
				fmt.Sprintf("%q is out of range", w.Life),
				span.Format(passcode.LifeLeast)+" to "+span.Format(passcode.LifeMost),
			)
		}
	}
	if n := utf8.RuneCountInString(w.Purpose); n == 0 || n > purposeMost || store.Keepable(w.Purpose) != w.Purpose {
		faults.Add(
			"purpose",
			"it is missing, too long, or cannot be kept",
			fmt.Sprintf("a word such as sign-in, of at most %d characters", purposeMost),
		)
	}
	if w.Tries < 0 || w.Tries > 20 {
		faults.Add("tries", fmt.Sprintf("%d is out of range", w.Tries), "1 to 20 wrong codes, or 0 for five")
	}
	at = readAddress(w.Address, &faults)
	if w.SuspicionMost < 0 || w.SuspicionMost > 100 {
		faults.Add("suspicion_most", fmt.Sprintf("%d is out of range", w.SuspicionMost), "1 to 100, or 0 where it is not asked")
	}
	if w.Domain != "" && w.AppHash != "" {
		faults.Add("domain", "a text has one last line", "domain or app_hash, not both")
	}
	if w.Domain != "" && !passcode.Domain(w.Domain) {
		faults.Add(
			"domain",
			fmt.Sprintf("%q is no name of a host", w.Domain),
			"a name in small letters, such as pass.lanternholm.example",
		)
	}
	if w.AppHash != "" && !passcode.AppHash(w.AppHash) {
		faults.Add("app_hash", fmt.Sprintf("%q is no hash of an app", w.AppHash), "eleven characters of base64")
	}
	if _, given := w.Labels[purposeLabel]; given {
		faults.Add("labels."+purposeLabel, "it is given by us", "another name")
	}
	for _, name := range []string{"code", "minutes"} {
		if _, given := w.Fields[name]; given {
			faults.Add("fields."+name, "it is given by us", "another name")
		}
	}
	d = intake.Draft{
		To:        w.To,
		Country:   w.Country,
		Kind:      "otp",
		Sender:    w.Sender,
		Gateway:   w.Gateway,
		Template:  w.Template,
		Language:  w.Language,
		Reference: w.Reference,
		Labels:    map[string]string{purposeLabel: w.Purpose},
		ValidFor:  span.Format(life),
	}
	maps.Copy(d.Labels, w.Labels)
	return d, f, life, at, faults
}

// readAddress reads that of an end user; none if it is not given.
func readAddress(given string, faults *fault.Faults) netip.Addr {
	if given == "" {
		return netip.Addr{}
	}
	at, err := netip.ParseAddr(given)
	if err != nil {
		faults.Add("address", fmt.Sprintf("%q is no IP address", given), "that of the end user, such as 192.0.2.7 or 2001:db8::7")
	}
	return at.Unmap().WithZone("")
}

// say gives a draft its text. A template is rendered here, so that a last line can stand below it.
func (p *Passcodes) say(
	d *intake.Draft,
	w Wants,
	code string,
	life time.Duration,
	country string,
	faults *fault.Faults,
) (language string) {
	last := func(text string) string {
		switch {
		case w.Domain != "":
			return passcode.Bound(text, w.Domain, code)
		case w.AppHash != "":
			return passcode.ForApp(text, w.AppHash)
		}
		return text
	}
	if w.Template == "" {
		text, language := passcode.Text(w.Language, code, life)
		d.Text, d.Language = last(text), ""
		return language
	}
	t, ok := p.Roster.Book().Template(w.Template)
	if !ok { // the plan says so
		return w.Language
	}
	d.Fields = given(t.Template, w.Fields, code, life)
	if w.Domain == "" && w.AppHash == "" {
		return w.Language
	}
	language = t.Template.For(w.Language, country)
	rendered, err := t.Template.Render(language, d.Fields)
	if err != nil { // the plan says it better
		return language
	}
	if t.Template.Sender != "" && d.Sender == "" {
		d.Sender = t.Template.Sender
	}
	d.Template, d.Fields, d.Language, d.Text = "", nil, "", last(rendered.Text)
	return language
}

// given are the fields of a template, with those that come from us.
func given(t *template.Template, fields map[string]any, code string, life time.Duration) map[string]any {
	all := map[string]any{}
	maps.Copy(all, fields)
	all["code"] = code
	if must, may := t.Needs(); slices.Contains(append(must, may...), "minutes") {
		all["minutes"] = passcode.Minutes(life)
	}
	return all
}

// Issue draws a code and sends it.
func (p *Passcodes) Issue(ctx context.Context, key store.Key, w Wants, token string) (Issued, error) {
	if w.Reveal && !key.Practice {
		return Issued{}, ErrReveal
	}
	// A repeated request gets the answer of the first one, whatever would be said of it today.
	if token != "" {
		prior, err := p.Store.Token(ctx, key.ID, token)
		if err == nil {
			return p.repeat(ctx, w, prior)
		}
		if !errors.Is(err, store.ErrNotFound) {
			return Issued{}, err
		}
	}
	d, form, life, at, faults := p.read(w)
	code, err := passcode.Draw(p.Random, form)
	if err != nil && faults == nil {
		return Issued{}, err
	}
	country := ""
	if r, err := phone.Read(w.To, w.Country); err == nil {
		country = r.Country
	}
	language := p.say(&d, w, code, life, country, &faults)
	d.KeyID, d.KeyLabels = key.ID, key.Labels
	plan, more, err := p.Intake.PlanAsSet(ctx, d, smstext.Level(key.Cure), intake.Whole)
	if err != nil {
		return Issued{}, err
	}
	for _, f := range more {
		if f.Field == "valid_for" { // it is the life
			continue
		}
		faults = append(faults, f)
	}
	if len(faults) == 0 && !strings.Contains(plan.Text, code) {
		faults.Add("template", "the code does not stand in what it comes to", "a template with the field {code}")
	}
	if allowed := key.PasscodeCountries; len(allowed) > 0 && plan.Country != "" && !slices.Contains(allowed, plan.Country) {
		faults.Add("to", "this key sends no passcodes to "+phone.CountryName(plan.Country), "numbers of "+strings.Join(allowed, ", "))
	}
	if len(faults) > 0 {
		return Issued{}, faults
	}
	now := p.Now()
	if b := p.blocked(plan, at, now); b != nil {
		return Issued{}, b
	}
	var suspected *Suspected
	if w.SuspicionMost > 0 {
		s, err := p.Suspicion(ctx, plan.Number.Number.String(), "", w.Address)
		if err != nil {
			return Issued{}, err
		}
		if s.Score > w.SuspicionMost {
			return Issued{}, &Suspicious{s, w.SuspicionMost}
		}
		suspected = &s
	}
	m := p.Intake.Message(plan, d)
	m.KeyID = key.ID
	record, err := p.record(m, w, d, form, code, life, at)
	if err != nil {
		return Issued{}, err
	}
	record.Language = language
	sealed, err := p.Roster.Seal(&m.Content)
	if err != nil {
		return Issued{}, err
	}
	one := issuing{store.Acceptance{Message: m, Begun: intake.Begun(plan), Sealed: sealed}, record, p.subjects(record)}
	if token != "" {
		one.acceptance.Token = &store.Idempotency{
			KeyID:       key.ID,
			Token:       token,
			Fingerprint: p.Roster.Fingerprint(w.fingerprint()),
			MessageID:   m.ID,
			CreatedAt:   m.CreatedAt,
		}
	}
	p.issuedAt.Store(time.Now().Unix())
	r, err := p.issue.Do(ctx, one)
	switch {
	case err != nil:
		return Issued{}, fmt.Errorf("sending a passcode: %w", err)
	case r.full != nil:
		return Issued{}, p.slowed(record, r.full, plan)
	case r.prior != nil:
		return p.repeat(ctx, w, *r.prior)
	}
	p.announce(m)
	issued := Issued{Passcode: record, Warnings: plan.Warnings, Suspected: suspected}
	if w.Reveal {
		issued.Code = code
	}
	return issued, nil
}

func (p *Passcodes) announce(m store.Message) {
	p.Hub.Changed(m.ID)
	if m.State == delivery.Queued {
		p.Bells.Ring(m.GatewayID, true)
	}
}

// fingerprint tells requests apart that come with the same token. It names what is given, so
// that a field that is added later changes nothing for requests that do not have it.
func (w Wants) fingerprint() []byte {
	var b bytes.Buffer
	b.WriteString("passcode")
	name := func(field string, value any, given bool) {
		if given {
			written, _ := json.Marshal(value) // there is nothing in it that cannot be written; maps are in the order of their keys
			fmt.Fprintf(&b, "\n%s %s", field, written)
		}
	}
	for _, f := range []struct{ name, value string }{
		{"to", w.To}, {"country", w.Country}, {"purpose", w.Purpose}, {"template", w.Template}, {"language", w.Language}, {"sender", w.Sender},
		{"gateway", w.Gateway}, {"of", w.Of}, {"life", w.Life}, {"address", w.Address}, {"reference", w.Reference}, {"domain", w.Domain},
		{"app_hash", w.AppHash},
	} {
		name(f.name, f.value, f.value != "")
	}
	name("fields", w.Fields, len(w.Fields) > 0)
	name("labels", w.Labels, len(w.Labels) > 0)
	name("length", w.Length, w.Length != 0)
	name("tries", w.Tries, w.Tries != 0)
	name("suspicion_most", w.SuspicionMost, w.SuspicionMost != 0)
	name("reveal", w.Reveal, w.Reveal)
	return b.Bytes()
}

// fingerprintBefore is what the version before made of the same request. Tokens are kept for
// two days.
func (w Wants) fingerprintBefore() []byte {
	plain, _ := json.Marshal(w)
	return append([]byte("passcode "), plain...)
}

// repeat gives the passcode that a token stands for, if it stands for the same request.
func (p *Passcodes) repeat(ctx context.Context, w Wants, prior store.Idempotency) (Issued, error) {
	if !hmac.Equal(prior.Fingerprint, p.Roster.Fingerprint(w.fingerprint())) &&
		!hmac.Equal(prior.Fingerprint, p.Roster.Fingerprint(w.fingerprintBefore())) {
		return Issued{}, intake.ErrReused
	}
	record, err := p.Store.Passcode(ctx, prior.MessageID)
	return Issued{Passcode: record, Again: true}, err
}

// record is what is kept of a passcode.
func (p *Passcodes) record(
	m store.Message,
	w Wants,
	d intake.Draft,
	form passcode.Form,
	code string,
	life time.Duration,
	at netip.Addr,
) (store.Passcode, error) {
	plain, err := json.Marshal(kept{code, d})
	if err != nil {
		return store.Passcode{}, fmt.Errorf("keeping a passcode: %w", err)
	}
	id := m.ID.String()
	return store.Passcode{ID: m.ID, KeyID: m.KeyID, Number: m.To.String(), Country: m.Country, Purpose: w.Purpose, Form: form,
		Hash: p.Roster.CodeHash(id, code), Sealed: p.Roster.SealFor(id, plain), CreatedAt: m.CreatedAt, EndsAt: m.CreatedAt.Add(life),
		TriesMost: cmp.Or(w.Tries, passcode.TriesUsual), Sends: 1, SendsMost: passcode.SendsUsual,
		AgainAt: m.CreatedAt.Add(
			passcode.PauseAfter(1),
		), MessageID: m.ID, Gateway: m.GatewayID, Address: at, Reference: w.Reference, Template: w.Template}, nil
}

// blocked is the block, or the alarm, because of which a passcode is not sent; nil if there is none.
func (p *Passcodes) blocked(plan intake.Plan, at netip.Addr, now time.Time) error {
	book := p.Roster.Book()
	for _, c := range values(plan.Number.Number.String(), plan.Country, "", uuid.Nil, at) {
		if b, is := book.Blocked(c.By, c.Value, now); is {
			return &Blocked{b}
		}
		if a, is := book.Stopping(fraud.Block, c.By, c.Value, now); is {
			p.noteStop(a.ID, plan.Price, plan.Priced)
			return &Alarmed{a, nil}
		}
	}
	return nil
}

// slowed is why a limit is reached: that an alarm stands, where it is a limit of that.
func (p *Passcodes) slowed(r store.Passcode, full *passcode.Full, plan intake.Plan) error {
	if full.Limit != fraud.Slowed(full.By) {
		return full
	}
	for _, c := range values(r.Number, r.Country, r.Purpose, r.KeyID, r.Address) {
		if a, is := p.Roster.Book().Stopping(fraud.Slow, c.By, c.Value, p.Now()); is && c.By == full.By {
			p.noteStop(a.ID, plan.Price, plan.Priced)
			return &Alarmed{a, full}
		}
	}
	return full
}

// values are the things that a passcode is counted by.
func values(number, country, purpose string, key uuid.UUID, at netip.Addr) []store.Counted {
	all := []store.Counted{{By: passcode.Number, Value: number}, {By: passcode.Range, Value: passcode.RangeOf(number)},
		{
			By:    passcode.Stretch,
			Value: passcode.StretchOf(number),
		}, {By: passcode.Country, Value: country}, {By: passcode.Purpose, Value: purpose}, {By: passcode.Key, Value: key.String()}}
	if at.IsValid() {
		all = append(all, store.Counted{By: passcode.Address, Value: passcode.AddressOf(at)},
			store.Counted{By: passcode.Network, Value: passcode.NetworkOf(at).String()})
		if site := passcode.SiteOf(at); site.IsValid() {
			all = append(all, store.Counted{By: passcode.Site, Value: site.String()})
		}
	}
	return all
}

// subjects are those of them for which a limit holds, or which are watched.
func (p *Passcodes) subjects(r store.Passcode) []store.Counted {
	book, now := p.Roster.Book(), p.Now()
	return slices.DeleteFunc(
		values(r.Number, r.Country, r.Purpose, r.KeyID, r.Address),
		func(c store.Counted) bool { return !watched(book, c.By) && len(limits(book, c, now)) == 0 },
	)
}

// watched reports whether a rule judges who asks by, or lies in, such a thing.
func watched(book *roster.Book, by passcode.By) bool {
	on := func(r fraud.Rule) bool { return book.Acts[r] != fraud.Off }
	switch by {
	case passcode.Range:
		return on(fraud.Sequence) || on(fraud.Untouched)
	case passcode.Stretch:
		return on(fraud.Untouched)
	case passcode.Address, passcode.Network:
		return on(fraud.Asking)
	}
	return false
}

// limits are those that hold for one of something.
func limits(book *roster.Book, c store.Counted, now time.Time) []passcode.Limit {
	all := book.Limits[c.By]
	if _, is := book.Stopping(fraud.Slow, c.By, c.Value, now); is {
		all = append(slices.Clone(all), fraud.Slowed(c.By))
	}
	return all
}

// write sends a set, as far as limits leave room for it.
func (p *Passcodes) write(ctx context.Context, set []issuing) ([]result, error) {
	acceptances := make([]store.Acceptance, len(set))
	for i, one := range set {
		acceptances[i] = one.acceptance
	}
	if err := p.Store.PrepareToAccept(ctx, acceptances); err != nil {
		return nil, err
	}
	now := p.Now()
	var results []result
	hurry := false
	err := p.Store.Transact(ctx, func(tx *store.Store) error {
		results = make([]result, len(set))
		prior, err := tx.ClaimTokens(ctx, acceptances)
		if err != nil {
			return err
		}
		var fresh []issuing // those that were not sent before
		var places []int
		for i, one := range set {
			if results[i].prior = prior[i]; prior[i] == nil {
				fresh, places = append(fresh, one), append(places, i)
			}
		}
		counters, err := p.hold(ctx, tx, fresh, now)
		if err != nil {
			return err
		}
		var goes []store.Acceptance
		var released []*store.Idempotency
		var records []store.Passcode
		var steps []store.Stepped
		refused := map[uuid.UUID]*passcode.Full{}
		for j, one := range fresh {
			full, err := counters.admit(one.subjects, now)
			if err != nil {
				return err
			}
			if full != nil {
				results[places[j]].full, refused[one.record.ID] = full, full
				if one.acceptance.Token != nil {
					released = append(released, one.acceptance.Token)
				}
				continue
			}
			if err := counters.ask(one, now); err != nil {
				return err
			}
			goes, records = append(goes, one.acceptance), append(records, one.record)
			steps = append(steps, store.SteppedOf(&one.record, one.acceptance.Message.GatewayID, store.StepIssued, 0))
		}
		for i := range results { // the same request, of which the first is refused
			if r := &results[i]; r.prior != nil && refused[r.prior.MessageID] != nil {
				r.full, r.prior = refused[r.prior.MessageID], nil
			}
		}
		hurry = slices.ContainsFunc(counters.held, func(c store.Counted) bool { return !c.JudgeAt.IsZero() && !c.JudgeAt.After(now) })
		return errors.Join(tx.ReleaseTokens(ctx, released), tx.AcceptClaimed(ctx, goes), tx.AddPasscodes(ctx, records),
			tx.PutCounters(ctx, counters.held, now), tx.CountSteps(ctx, steps))
	})
	if hurry && err == nil {
		select {
		case p.hurry <- struct{}{}:
		default:
		}
	}
	return results, err
}

// counters are those that a set needs, locked.
type counters struct {
	held []store.Counted
	at   map[[2]string]int
	book *roster.Book
}

// missing is the place of a counter that is not held.
const missing = -1

func (p *Passcodes) hold(ctx context.Context, tx *store.Store, set []issuing, now time.Time) (*counters, error) {
	c := &counters{at: map[[2]string]int{}, book: p.Roster.Book()}
	var needed []store.Counted
	for _, one := range set {
		for _, s := range one.subjects {
			k := [2]string{string(s.By), s.Value}
			if _, known := c.at[k]; !known {
				c.at[k] = missing
				needed = append(needed, s)
			}
		}
	}
	var err error
	if c.held, err = tx.HoldCounters(ctx, needed, now); err != nil {
		return nil, err
	}
	for i, h := range c.held {
		c.at[[2]string{string(h.By), h.Value}] = i
	}
	return c, nil
}

func (c *counters) admit(subjects []store.Counted, now time.Time) (*passcode.Full, error) {
	all := make([]passcode.Subject, len(subjects))
	for i, s := range subjects {
		held, err := c.of(s)
		if err != nil {
			return nil, err
		}
		all[i] = passcode.Subject{By: s.By, Counter: &held.Counter, Limits: limits(c.book, s, now)}
	}
	return passcode.Admit(now, all), nil
}

// of is the counter of one of something. A counter that is not held counts for nobody else.
func (c *counters) of(s store.Counted) (*store.Counted, error) {
	if at, known := c.at[[2]string{string(s.By), s.Value}]; known && at != missing {
		return &c.held[at], nil
	}
	return nil, fmt.Errorf("passcodes to the %s of this one are not counted", s.By)
}

// ask notes the number that a code goes to with all that is watched, and when there may be something to judge.
func (c *counters) ask(one issuing, now time.Time) error {
	for _, s := range one.subjects {
		if !watched(c.book, s.By) {
			continue
		}
		h, err := c.of(s)
		if err != nil {
			return err
		}
		h.Ledger.Add(fraud.NumberOf(one.record.Number), one.record.ID, now)
		at := h.Ledger.JudgeAt(s.By, now)
		if at.IsZero() {
			continue
		}
		if at.Before(now) { // it was judged already, and something is still not known
			at = now.Add(judgedAgain)
		}
		if h.JudgeAt.IsZero() || at.Before(h.JudgeAt) {
			h.JudgeAt = at
		}
	}
	return nil
}
