// Package attention gathers what wants a person: why, what it costs to wait, and what to do.
package attention

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/band"
	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/belong"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/identity"
	"calmpigeon.example/internal/core/latency"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/engine/arrivals"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/money"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/statements"
	"calmpigeon.example/internal/engine/strays"
	"calmpigeon.example/internal/store"
)

// What is what wants a person.
type What string

// What can want a person, the most pressing first.
const (
	Quarantined What = "quarantine"
	Unkept      What = "gateway_unkept"
	Overdue     What = "overdue"

	Resting       What = "gateway_rests"
	Silent        What = "gateway_silent"
	Balance       What = "balance_low"
	HeldBatch     What = "batch_held"
	Contested     What = "contested"
	Unknown       What = "unknown"
	Doubtful      What = "doubtful"
	Stray         What = "strays"
	StraysRemoved What = "strays_removed"
	Stated        What = "statement_differs"
	Clock         What = "clock_wrong"
	Slow          What = "slow"
	Failing       What = "failing"
	Untold        What = "receiver_fails"
	Dear          What = "charges_above"
	Missing       What = "statement_missing"
	Fraud         What = "passcode_fraud"
)

// Order is the order in which needs are listed.
var Order = []What{
	Quarantined,
	Unkept,
	Overdue,
	Resting,
	Silent,
	Failing,
	Slow,
	Balance,
	Fraud,
	HeldBatch,
	Untold,
	Contested,
	Unknown,
	Doubtful,
	StraysRemoved,
	Stray,
	Stated,
	Dear,
	Missing,
	Clock,
}

// Need is one thing that wants a person.
type Need struct {
	What    What
	Wrong   bool // it went wrong, and does not merely want a look
	Count   int64
	Gateway string
	Batch   string
	// Receiver of events.
	Receiver string
	Since    *time.Time
	Title    string // what it is
	Why      string
	Cost     string // of waiting
	Do       string
	Command  string // that does it, or shows more
	Link     string // the page of the console
}

const (
	// doubtLong is from when on a doubt is told: most end by themselves before.
	doubtLong = time.Minute
	// silentLong is after how long without a receipt a gateway is silent, if at least silentLeast messages that
	// went since, and not within the last silentLong, are still open.
	silentLong, silentLeast = 5 * time.Minute, 5
	// heardMost is how far back it is known when a gateway was last heard.
	heardMost = 24 * time.Hour
	// fresh is how long what was gathered is of use.
	fresh = 2 * time.Second
)

// Attention gathers needs.
type Attention struct {
	kit.Kit
	Clocks   *strays.Clocks
	Arrivals *arrivals.Arrivals
	Money    *money.Money
	Fetcher  *statements.Fetcher

	mu    sync.Mutex
	at    time.Time
	needs []Need
}

// Needs gathers what wants a person, the most pressing first. What was gathered a moment ago is given again.
func (a *Attention) Needs(ctx context.Context) ([]Need, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.Now()
	if now.Sub(a.at) < fresh {
		return a.needs, nil
	}
	var all []Need
	for _, gather := range []func(context.Context, time.Time) ([]Need, error){
		a.quarantine, a.unkept, a.gateways, a.unusual, a.batches, a.receivers, a.messages, a.strays, a.statements, a.charges, a.fetches, a.fraud,
	} {
		some, err := gather(ctx, now)
		if err != nil {
			return nil, err
		}
		all = append(all, some...)
	}
	slices.SortStableFunc(all, func(x, y Need) int {
		return cmp.Or(cmp.Compare(slices.Index(Order, x.What), slices.Index(Order, y.What)), cmp.Compare(y.Count, x.Count),
			cmp.Compare(x.Gateway, y.Gateway))
	})
	a.at, a.needs = now, all
	return all, nil
}

// quarantine tells that nothing is sent.
func (a *Attention) quarantine(ctx context.Context, _ time.Time) ([]Need, error) {
	q, err := a.Store.Quarantine(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	why := "the database is not as the service left it: " + q.Why
	if q.Reason == string(identity.ByHand) {
		why = "the service was started with --quarantine"
	}
	return []Need{{What: Quarantined, Wrong: true, Count: 1, Since: &q.Since, Title: "Quarantine: nothing is sent",
		Why:     sentence(why),
		Cost:    "Texts to be sent are refused; receipts are taken.",
		Do:      "Lead the service out of it.",
		Command: "pigeon recover", Link: "/"}}, err
}

const (
	// unkeptLong is how long nobody may keep a gateway that has something to send.
	unkeptLong = 15 * time.Second
	// overdueLong is how long after its time a message may be looked after.
	overdueLong = 5 * time.Minute
	overdueMost = 1000
)

// unkept tells of gateways that have something to send and that nobody keeps, and of those whose
// messages nobody looks after.
func (a *Attention) unkept(ctx context.Context, now time.Time) ([]Need, error) {
	if !a.Gate.Open() {
		return nil, nil
	}
	waiting, err := a.Store.Unkept(ctx, now.Add(-unkeptLong), overdueMost)
	if err != nil {
		return nil, err
	}
	var all []Need
	for _, g := range a.Roster.All() {
		page := "/gateways/" + url.PathEscape(g.Name)
		if w, is := waiting[g.ID]; is && g.PausedAt == nil {
			all = append(all, Need{What: Unkept, Wrong: true, Count: int64(w.N), Gateway: g.Name, Since: &w.Since,
				Title: "Nobody sends through " + g.Name, Why: fmt.Sprintf("%s wait, and no instance keeps the gateway.", atMost(w.N, overdueMost)),
				Cost:    "None of them goes.",
				Do:      "See whether instances are running, and restart one that does not answer.",
				Command: "pigeon gateway show " + g.Name, Link: page})
		}
		h := a.Roster.Health(g.ID)
		if h.RestSince != nil || g.PausedAt != nil {
			continue
		}
		n, err := a.Store.Overdue(ctx, g.ID, now.Add(-overdueLong), overdueMost)
		if err != nil {
			return nil, err
		}
		if n > 0 {
			all = append(
				all,
				Need{
					What:    Overdue,
					Wrong:   true,
					Count:   int64(n),
					Gateway: g.Name,
					Title:   "Messages through " + g.Name + " are not looked after",
					Why:     fmt.Sprintf("%s were to be asked about, or given up, more than %v ago.", atMost(n, overdueMost), overdueLong),
					Cost:    "Nobody learns what became of them.",
					Do:      "See whether the gateway allows enough queries a second, and whether instances are running.",
					Command: "pigeon gateway show " + g.Name,
					Link:    page,
				},
			)
		}
	}
	return all, nil
}

// atMost counts messages of which no more than so many were counted.
func atMost(n, most int) string {
	if n >= most {
		return fmt.Sprintf("%d messages and more", most)
	}
	return counted(int64(n), "message")
}

// receivers tells of applications that are to be told of what happens, and are not.
func (a *Attention) receivers(ctx context.Context, now time.Time) ([]Need, error) {
	all := a.Roster.Receivers()
	if len(all) == 0 {
		return nil, nil
	}
	healths, err := a.Store.ReceiverHealths(ctx)
	if err != nil {
		return nil, err
	}
	var needs []Need
	for _, r := range all {
		h := healths[r.ID]
		n := Need{
			What:     Untold,
			Wrong:    true,
			Count:    h.Waiting + h.Parked,
			Receiver: r.Name,
			Since:    h.FailedAt,
			Link:     "/events?receiver=" + url.QueryEscape(r.Name),
			Cost:     "Your application does not learn what became of its messages.",
			Command:  "pigeon event receiver show " + r.Name,
		}
		switch {
		case r.Follows():
			continue
		case r.PausedAt == nil && h.RestUntil != nil && h.RestUntil.After(now):
			n.Title, n.Why = r.Name+" takes no events", sentence(h.Failure)
			n.Do = "See that it answers 2xx; it is tried again by itself. Events that are not taken for a day are parked."
		case h.Parked > 0:
			n.Count = h.Parked
			n.Title, n.Why = fmt.Sprintf(
				"%s was not told of %s",
				r.Name,
				counted(h.Parked, "event"),
			), "They were tried for as long as it is tried, and are parked."
			n.Do, n.Command = "Have them told again, if they are still of use.", "pigeon event resend --receiver "+r.Name+" --outcome parked"
		case r.PausedAt != nil && h.Waiting > 0:
			n.Wrong, n.Since = false, r.PausedAt
			n.Title, n.Why = r.Name+" is paused", sentence(cmp.Or(r.PausedWhy, "events wait, for a day at most"))
			n.Do, n.Command = "Let it go on when it is ready.", "pigeon event receiver resume "+r.Name
		default:
			continue
		}
		needs = append(needs, n)
	}
	return needs, nil
}

// gateways tells of gateways that rest, are silent, have little left, or whose clocks are wrong.
func (a *Attention) gateways(ctx context.Context, now time.Time) ([]Need, error) {
	var all []Need
	for _, g := range a.Roster.All() {
		h := a.Roster.Health(g.ID)
		page := "/gateways/" + url.PathEscape(g.Name)
		if h.RestSince != nil && g.PausedAt == nil {
			do, why := "It is tried again by itself.", "it keeps failing"
			if h.RestCause != "" {
				do, why = h.RestCause.Advice().Text, why+": "+strings.ReplaceAll(string(h.RestCause), "_", " ")
			}
			all = append(all, Need{What: Resting, Wrong: true, Count: 1, Gateway: g.Name, Since: h.RestSince,
				Title: g.Name + " rests", Why: sentence(cmp.Or(h.RestNote, why)),
				Cost:    "What may take another gateway of its route does; the rest waits.",
				Do:      do,
				Command: "pigeon gateway test " + g.Name, Link: page})
		}
		if low := g.LowBalance(h); low != "" {
			all = append(all, Need{What: Balance, Wrong: *h.BalanceMicros <= 0, Count: 1, Gateway: g.Name, Since: h.BalanceAt,
				Title: "Little is left at " + g.Name, Why: low,
				Cost: "When it is empty nothing goes through it.", Do: "Top the account up.",
				Command: "pigeon gateway show " + g.Name, Link: page})
		}
		if wrong := a.Clocks.Warnings(g.ID); wrong != nil {
			all = append(
				all,
				Need{
					What:    Clock,
					Count:   1,
					Gateway: g.Name,
					Title:   "The times of " + g.Name + " are wrong",
					Why:     strings.Join(wrong, " "),
					Cost:    "Its times cannot be compared with ours; where strays are judged it is allowed for.",
					Do:      "Tell whoever runs it.",
					Command: "pigeon gateway show " + g.Name,
					Link:    page,
				},
			)
		}
		silent, err := a.silent(ctx, g, now)
		if err != nil {
			return nil, err
		}
		all = append(all, silent...)
	}
	return all, nil
}

// silent tells of a gateway of which no receipts come although messages go.
func (a *Attention) silent(ctx context.Context, g *roster.Gateway, now time.Time) ([]Need, error) {
	if g.Dialect.Receipt == nil {
		return nil, nil
	}
	heard := a.Clocks.Day(g.ID).HeardAt
	from := now.Add(-heardMost)
	if heard != nil {
		from = *heard
	}
	if now.Sub(from) < silentLong {
		return nil, nil
	}
	const most = 1000
	open, err := a.Store.OpenSince(ctx, g.ID, from, now.Add(-silentLong), most)
	if err != nil || open < silentLeast {
		return nil, err
	}
	title, went := g.Name+" is silent", fmt.Sprintf("%d messages", open)
	if open == most {
		went = fmt.Sprintf("%d messages and more", most)
	}
	why := went + " that went through it are open, and no receipt has come in a day."
	if heard != nil {
		why = fmt.Sprintf("%s went through it since the last receipt came, and are open.", went)
	}
	return []Need{{What: Silent, Wrong: true, Count: int64(open), Gateway: g.Name, Since: heard, Title: title, Why: why,
		Cost:    "Nobody knows whether its messages arrive.",
		Do:      "See whether it knows where receipts go, and whether anything is in its way.",
		Command: "pigeon gateway show " + g.Name, Link: "/gateways/" + url.PathEscape(g.Name)}}, nil
}

// unusual tells of gateways that are slower than usual, or through which more fails. Of each, the countries in which
// it is so are told together.
func (a *Attention) unusual(ctx context.Context, _ time.Time) ([]Need, error) {
	found, err := a.Arrivals.Unusual(ctx)
	if err != nil {
		return nil, err
	}
	type about struct {
		gateway uuid.UUID
		slow    bool
	}
	needs := map[about]*Need{}
	var order []about
	for _, u := range found {
		g := a.Roster.ByID(u.Gateway)
		if g == nil {
			continue
		}
		for _, l := range u.Leaving {
			k := about{u.Gateway, l.Slow}
			n := needs[k]
			if n == nil {
				q := url.Values{"gateway": {g.Name}}
				n = &Need{What: Failing, Wrong: true, Gateway: g.Name, Title: "More fails through " + g.Name + " than usual",
					Cost:    "What fails does not arrive, and may be billed all the same.",
					Do:      "See what it says of them; take another gateway for the country if it goes on.",
					Command: "pigeon arrivals --by country --gateway " + g.Name, Link: "/arrivals?" + q.Encode()}
				if l.Slow {
					n.What, n.Wrong, n.Title = Slow, false, g.Name+" takes longer than usual"
					n.Cost = "Passcodes may come too late to be of use."
					n.Do = "Wait, or take another gateway for the country if it goes on."
				}
				needs[k] = n
				order = append(order, k)
			}
			n.Count += l.Of
			n.Why = strings.TrimSpace(n.Why + " " + whyUnusual(u.Country, l))
		}
	}
	all := make([]Need, len(order))
	for i, k := range order {
		all[i] = *needs[k]
	}
	return all, nil
}

// whyUnusual says how an hour leaves what is usual.
func whyUnusual(country string, l band.Leaving) string {
	hours := fmt.Sprintf("as %d hours of the last %d days say", l.Usual.Hours, band.Days)
	if l.Usual.AtHour {
		hours = fmt.Sprintf("as %d hours of the last %d days say, about this time of the day", l.Usual.Hours, band.Days)
	}
	where := cmp.Or(phone.CountryName(country), "elsewhere")
	if l.Slow {
		of := func(seconds float64) string { return latency.Words(time.Duration(seconds * float64(time.Second))) }
		return fmt.Sprintf("%s: half of %d messages took %s or more; usual is %s, up to %s, %s.",
			where, l.Of, of(l.Is), of(l.Usual.Middle), of(l.Usual.Edge), hours)
	}
	return fmt.Sprintf("%s: %.0f %% of %d messages failed; usual is %.0f %%, up to %.0f %%, %s.",
		where, 100*l.Is, l.Of, 100*l.Usual.Middle, 100*min(l.Usual.Edge, 1), hours)
}

// fetches tells of gateways that do not give their statements.
func (a *Attention) fetches(ctx context.Context, _ time.Time) ([]Need, error) {
	schedules, err := a.Fetcher.Schedules(ctx)
	if err != nil {
		return nil, err
	}
	var all []Need
	for _, s := range schedules {
		if s.FailedAt == nil {
			continue
		}
		all = append(all, Need{What: Missing, Count: int64(s.Tries), Gateway: s.Gateway.Name, Since: s.FailedAt,
			Title: "The statement of " + s.Gateway.Name + " cannot be fetched", Why: sentence(s.Failure),
			Cost:    "What it bills and what its receipts lacked is not known. It is tried again by itself.",
			Do:      "See whether its address and credentials are right for statements; or take its file in by hand.",
			Command: "pigeon statement fetch " + s.Gateway.Name, Link: "/statements"})
	}
	return all, nil
}

// charges tells of gateways that charge more than was estimated. Of each, the countries in which it does are told together.
func (a *Attention) charges(ctx context.Context, _ time.Time) ([]Need, error) {
	found, err := a.Money.Excesses(ctx)
	if err != nil {
		return nil, err
	}
	var all []Need
	at := map[uuid.UUID]int{}
	for _, e := range found {
		g := a.Roster.ByID(e.Gateway)
		if g == nil {
			continue
		}
		i, known := at[e.Gateway]
		if !known {
			i = len(all)
			at[e.Gateway] = i
			q := url.Values{"gateway": {g.Name}}
			all = append(all, Need{What: Dear, Gateway: g.Name, Title: g.Name + " charges more than was estimated",
				Cost:    "What is sent costs more than rehearsals say.",
				Do:      "See whether its prices have changed, and whether it counts segments as we do; then set its price list anew.",
				Command: "pigeon money --by country --since 168h --gateway " + g.Name, Link: "/money?" + q.Encode()})
		}
		all[i].Count += e.Messages
		all[i].Why = strings.TrimSpace(all[i].Why + " " + whyDear(e))
	}
	return all, nil
}

// fraud are alarms about passcodes: one need for all of them, which one may go through at once.
func (a *Attention) fraud(ctx context.Context, now time.Time) ([]Need, error) {
	found, err := a.Store.PasscodeAlarms(ctx, true, now, alarmsMost)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	last := found[0]
	n := Need{What: Fraud, Count: int64(len(found)), Since: &found[len(found)-1].RaisedAt,
		Title: fmt.Sprintf("The %s %s: %s", last.By, last.Value, last.Rule.About()), Why: last.Evidence.Say(),
		Do:      "Look at the numbers. If they are honest, lift the alarm; if not, let it get no codes at all.",
		Command: "pigeon passcode alarm show " + last.ID.String(), Link: "/passcodes"}
	if len(found) > 1 {
		n.Title = fmt.Sprintf("Passcodes look like fraud: %d alarms stand", len(found))
		n.Why, n.Command = "The last one: "+n.Why, "pigeon passcode alarm list"
	}
	switch last.Act {
	case fraud.Alarm:
		n.Cost = "Each of these codes costs, and nobody uses it."
	default:
		n.Cost = "It is held up; who is honest among them waits for codes."
	}
	return []Need{n}, nil
}

// alarmsMost is how many alarms are counted.
const alarmsMost = 1000

// whyDear says by how much charges are above what was estimated.
func whyDear(e money.Excess) string {
	how := "charged"
	if e.Billed {
		how = "billed"
	}
	share := ""
	if e.Share > 0 {
		share = fmt.Sprintf(", %.0f %% more", 100*e.Share)
	}
	return fmt.Sprintf("%s: %s %s for %d messages that were estimated at %s%s.", cmp.Or(phone.CountryName(e.Country), "elsewhere"),
		e.Charged, how, e.Messages, e.Estimated, share)
}

// batches tells of batches that their guard holds.
func (a *Attention) batches(ctx context.Context, _ time.Time) ([]Need, error) {
	held, err := a.Store.Batches(ctx, batch.Held, uuid.Nil, 20)
	if err != nil {
		return nil, err
	}
	var all []Need
	for _, b := range held {
		all = append(
			all,
			Need{What: HeldBatch, Count: 1, Batch: b.ID.String(), Title: "The batch " + b.Name + " is held", Why: sentence(b.Why),
				Cost: "Its rows wait.", Do: "Look at what its scouts met, then let it go on or cancel it.",
				Command: "pigeon batch release " + b.ID.String(), Link: "/batches/" + b.ID.String()},
		)
	}
	return all, nil
}

// messages tells of messages about which somebody has to decide.
func (a *Attention) messages(ctx context.Context, now time.Time) ([]Need, error) {
	found, err := a.Store.Wanting(ctx, now.Add(-doubtLong))
	if err != nil {
		return nil, err
	}
	var all []Need
	for _, w := range found {
		g := a.Roster.ByID(w.Gateway)
		if g == nil {
			continue
		}
		n := Need{Count: w.N, Gateway: g.Name, Since: &w.Since}
		q := url.Values{"span": {"all"}, "gateway": {g.Name}}
		count := counted(w.N, "message")
		switch {
		case w.Contested:
			n.What, n.Title = Contested, count+" through "+g.Name+is(w.N)+"contested"
			n.Why = "Two endings are claimed that contradict each other."
			n.Cost = "They count as what the stronger claim says, which may be wrong."
			n.Do = "Look at both claims and decide, or leave it as it is."
			n.Command = "pigeon message find --contested --gateway " + g.Name
			q.Set("contested", "true")
		case w.State == delivery.Unknown:
			n.What, n.Title = Unknown, "Nobody knows what became of "+count+" through "+g.Name
			n.Why = "The time in which anyone might have told us is over."
			n.Cost = "They may have arrived or not, and were paid for or not."
			n.Do = "Compare with the gateway's own list, and decide; for all at once if need be."
			n.Command = "pigeon message decide leave --all --state unknown --gateway " + g.Name
			q.Set("state", string(delivery.Unknown))
		default:
			n.What, n.Title = Doubtful, count+" through "+g.Name+is(w.N)+"in doubt for more than a minute"
			n.Why = "No answer said whether the gateway took them."
			n.Cost = "They are not sent again by themselves, and become unknown if nobody tells."
			n.Do = "Wait for a receipt, or decide."
			n.Command = "pigeon message find --state doubtful --gateway " + g.Name
			q.Set("state", string(delivery.Doubtful))
		}
		n.Link = "/messages?" + q.Encode()
		all = append(all, n)
	}
	return all, nil
}

// strayRemovalTold is for how long after the last one it is told that strays were removed.
const strayRemovalTold = 24 * time.Hour

// strays tells of strays that were judged in vain, and of those that were removed.
func (a *Attention) strays(ctx context.Context, now time.Time) ([]Need, error) {
	removed, err := a.Store.RemovedStrays(ctx, now.Add(-strayRemovalTold))
	if err != nil {
		return nil, err
	}
	var all []Need
	for _, one := range removed {
		g := a.Roster.ByID(one.GatewayID)
		if g == nil {
			continue
		}
		all = append(all, Need{What: StraysRemoved, Wrong: true, Count: one.N, Gateway: g.Name, Since: &one.Since,
			Title: counted(one.N, "stray") + " of " + g.Name + " removed",
			Why: fmt.Sprintf("More than %d receipts that match no message were waiting. The oldest are removed. "+
				"Somebody who knows the address of this gateway's receipts may be sending them.", store.StraysMost),
			Cost: "A receipt that was removed before its message was known settles nothing.",
			Do: "Ask the gateway whether it sent them. If it did not, add the gateway anew under another name: " +
				"that gives it another receipt address.",
			Command: "pigeon stray list --gateway " + g.Name, Link: "/strays?" + url.Values{"gateway": {g.Name}}.Encode()})
	}
	counts, err := a.Store.CountStrays(ctx, store.StrayFilter{Fates: []store.Fate{store.Astray}})
	if err != nil {
		return nil, err
	}
	for _, c := range counts {
		g := a.Roster.ByID(c.GatewayID)
		if g == nil || c.Reason == "" {
			continue
		}
		q := url.Values{"fate": {"waiting"}, "gateway": {g.Name}, "reason": {string(c.Reason)}}
		do := "See which messages are nearest, and attach or discard them."
		if c.Reason == belong.OtherAccount {
			do = "Discard them if they mean nothing to you."
		}
		all = append(
			all,
			Need{What: Stray, Count: c.N, Gateway: g.Name, Title: counted(c.N, "receipt") + " from " + g.Name + " without a message",
				Why: c.Reason.Text(), Cost: "What they say counts for no message.", Do: do,
				Command: fmt.Sprintf("pigeon stray list --gateway %s --reason %s", g.Name, c.Reason), Link: "/strays?" + q.Encode()},
		)
	}
	return all, nil
}

// statedDays is for how many days a statement that differs is told of.
const statedDays = 7

// statements tells of statements that do not agree with what is known; where several of a gateway do not, of them
// together.
func (a *Attention) statements(ctx context.Context, now time.Time) ([]Need, error) {
	recent, err := a.Store.StatementsSince(ctx, now.AddDate(0, 0, -statedDays))
	if err != nil {
		return nil, err
	}
	var all []Need
	at := map[uuid.UUID]int{}
	for _, s := range recent {
		g := a.Roster.ByID(s.GatewayID)
		if g == nil || s.Totals == nil {
			continue
		}
		h := s.Totals.Lines
		differs := h[store.StateDiffers] + h[store.MoneyDiffers] + h[store.OnlyTheirs] + h[store.OnlyOurs]
		if differs == 0 {
			continue
		}
		if i, known := at[g.ID]; known { // an older one
			n := &all[i]
			n.Count, n.Title = n.Count+differs, "Statements of "+g.Name+" differ"
			n.Command, n.Link = "pigeon statement list --gateway "+g.Name, "/statements"
			if why, first := strings.CutPrefix(n.Why, "Of "); first {
				n.Why = "The latest: of " + why
			}
			continue
		}
		at[g.ID] = len(all)
		all = append(
			all,
			Need{What: Stated, Count: differs, Gateway: g.Name, Since: s.FinishedAt, Title: s.Name + " of " + g.Name + " differs",
				Why: fmt.Sprintf(
					"Of %d lines the state differs in %d, segments or charge in %d; %d are of no message, and %d messages have no line.",
					s.Lines,
					h[store.StateDiffers],
					h[store.MoneyDiffers],
					h[store.OnlyTheirs],
					h[store.OnlyOurs],
				),
				Cost: "It may be billed for what never went, or differently.", Do: "Look at the heaps, and take it up with whoever runs the gateway.",
				Command: "pigeon statement show " + s.ID.String(), Link: "/statements/" + s.ID.String()},
		)
	}
	return all, nil
}

func is(n int64) string {
	if n == 1 {
		return " is "
	}
	return " are "
}

func counted(n int64, thing string) string {
	switch {
	case n == 1:
		return "1 " + thing
	case n >= store.WantingMost:
		return fmt.Sprintf("%d %ss and more", n, thing)
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

// sentence begins with a capital and ends with a full stop.
func sentence(s string) string {
	s = strings.TrimSpace(s)
	if s == "" {
		return ""
	}
	s = strings.ToUpper(s[:1]) + s[1:]
	if !strings.HasSuffix(s, ".") {
		s += "."
	}
	return s
}
