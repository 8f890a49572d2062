package api

import (
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/engine/passcodes"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// issuePasscode draws a code and sends it.
func (a *API) issuePasscode(c *gin.Context) {
	n, err := read[client.NewPasscode](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	issued, err := a.engine.Passcodes.Issue(c.Request.Context(), keyOf(c), passcodes.Wants{
		To: n.To, Country: n.Country, Purpose: n.Purpose, Template: n.Template, Language: n.Language, Fields: n.Fields, Sender: n.Sender,
		Gateway: n.Gateway, Of: n.Of, Length: n.Length, Life: string(n.Life), Tries: n.Tries, Address: n.Address, Reference: n.Reference,
		Domain: n.Domain, AppHash: n.AppHash, Labels: n.Labels, Reveal: n.Reveal, SuspicionMost: n.SuspicionMost,
	}, c.GetHeader("Idempotency-Key"))
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := a.wirePasscode(issued.Passcode)
	w.Code, w.Again = issued.Code, issued.Again
	w.Warnings = warnings(issued.Warnings)
	if s := issued.Suspected; s != nil {
		w.Suspicion = wireSuspicion(*s)
	}
	c.Header("Location", "/v1/passcodes/"+w.ID)
	c.JSON(http.StatusAccepted, w)
}

// wirePasscode is a passcode as the API gives it, without its code.
func (a *API) wirePasscode(p store.Passcode) client.Passcode {
	w := client.Passcode{
		ID: p.ID.String(), Number: p.Number, Country: p.Country, Purpose: p.Purpose, Of: p.Form.String(), Length: p.Form.Length,
		CreatedAt: p.CreatedAt, EndsAt: p.EndsAt, Sends: p.Sends, SendsLeft: max(p.SendsMost-p.Sends, 0), TriesLeft: p.Standing().Left(),
		UsedAt: p.UsedAt, CheckedAt: p.CheckedAt, Message: p.MessageID.String(),
		Reference: p.Reference, Template: p.Template, Language: p.Language,
		State: "open",
	}
	if p.Address.IsValid() {
		w.Address = p.Address.String()
	}
	switch v := p.Standing().Judge(true, a.engine.Now()); v {
	case passcode.Right:
		if w.SendsLeft > 0 {
			w.AgainAt = &p.AgainAt
		}
	default:
		w.State, w.SendsLeft = string(v), 0
	}
	return w
}

func (a *API) passcode(c *gin.Context) {
	id, ok := a.passcodeID(c)
	if !ok {
		return
	}
	p, err := a.engine.Store.Passcode(c.Request.Context(), id)
	if err != nil {
		a.refusePasscode(c, err)
		return
	}
	texts, err := a.engine.Passcodes.Texts(c.Request.Context(), p)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := a.wirePasscode(p)
	for _, m := range texts {
		one := client.PasscodeText{
			Message:   m.ID.String(),
			Gateway:   a.gatewayName(m.GatewayID),
			State:     string(m.State),
			Cause:     string(m.Cause),
			CreatedAt: m.CreatedAt,
			ChangedAt: m.ChangedAt,
		}
		if g := a.engine.Roster.ByID(m.GatewayID); g != nil {
			one.Spoken = g.Dialect.Takes.Voice
		}
		w.Texts = append(w.Texts, one)
	}
	c.JSON(http.StatusOK, w)
}

func (a *API) passcodeID(c *gin.Context) (uuid.UUID, bool) {
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		a.refuse(c, &nothing{what: "passcode", name: c.Param("id")})
	}
	return id, err == nil
}

// refusePasscode answers with why, where the passcode in the address is not there.
func (a *API) refusePasscode(c *gin.Context, err error) {
	if errors.Is(err, store.ErrNotFound) {
		err = &nothing{what: "passcode", name: c.Param("id")}
	}
	a.refuse(c, err)
}

func (a *API) passcodes(c *gin.Context) {
	at, faults := pageOf(c)
	number := ""
	if to := c.Query("to"); to != "" {
		r, err := phone.Read(to, c.Query("country"))
		if err != nil {
			faults.Add("to", fault.Why(err), "a number")
		}
		number = r.Number.String()
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.Passcodes(c.Request.Context(), number, c.Query("purpose"), at.after, at.limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.Passcode]{Items: []client.Passcode{}}
	found, l.Next = cut(at, found, func(p *store.Passcode) uuid.UUID { return p.ID })
	for _, p := range found {
		l.Items = append(l.Items, a.wirePasscode(p))
	}
	c.JSON(http.StatusOK, l)
}

// notRight is how long the answer takes that a code is not the right one, whatever the reason: nothing can be learnt from
// how long it took.
const notRight = 60 * time.Millisecond

// checkPasscode says whether a code is that of the passcode in the address.
func (a *API) checkPasscode(c *gin.Context) {
	began := time.Now()
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		id = uuid.Nil // it is none, and is told as any other that is none
	}
	n, err := read[client.PasscodeTyped](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	checked, err := a.engine.Passcodes.Check(c.Request.Context(), id, n.Code)
	a.verdict(c, began, checked, err)
}

// checkCurrentPasscode does so for the newest of a number and a purpose.
func (a *API) checkCurrentPasscode(c *gin.Context) {
	began := time.Now()
	n, err := read[client.PasscodeTyped](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	checked, err := a.engine.Passcodes.CheckCurrent(c.Request.Context(), n.To, n.Country, n.Purpose, n.Code)
	a.verdict(c, began, checked, err)
}

func (a *API) verdict(c *gin.Context, began time.Time, checked passcodes.Checked, err error) {
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.PasscodeVerdict{Verdict: string(checked.Verdict), TriesLeft: checked.Left}
	if checked.Verdict == passcode.Right {
		w.ID = checked.ID.String()
	} else if wait := notRight - time.Since(began); wait > 0 {
		select {
		case <-time.After(wait):
		case <-c.Request.Context().Done():
		}
	}
	c.JSON(http.StatusOK, w)
}

// passcodeAgain sends the same code again.
func (a *API) passcodeAgain(c *gin.Context) {
	id, ok := a.passcodeID(c)
	if !ok {
		return
	}
	n, err := read[client.PasscodeAgain](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	if n.By != "" && n.By != "text" && n.By != "voice" {
		a.refuse(c, fault.New("by", fmt.Sprintf("%q is no way to send it", n.By), "text or voice"))
		return
	}
	sent, err := a.engine.Passcodes.Again(c.Request.Context(), keyOf(c), id, passcodes.Resend{Anyway: n.Anyway, Voice: n.By == "voice"})
	if err != nil {
		a.refusePasscode(c, err)
		return
	}
	w := a.wirePasscode(sent.Passcode)
	w.Gateway = sent.Gateway
	w.Warnings = warnings(sent.Warnings)
	c.JSON(http.StatusAccepted, w)
}

// endPasscode ends a passcode: no code is right any more.
func (a *API) endPasscode(c *gin.Context) {
	id, ok := a.passcodeID(c)
	if !ok {
		return
	}
	p, err := a.engine.Passcodes.End(c.Request.Context(), id)
	if err != nil {
		a.refusePasscode(c, err)
		return
	}
	c.JSON(http.StatusOK, a.wirePasscode(p))
}

// passcodeLimits lists the limits that hold.
func (a *API) passcodeLimits(c *gin.Context) {
	set, err := a.engine.Store.PasscodeLimits(c.Request.Context())
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, wireLimits(set))
}

func wireLimits(set []store.PasscodeLimit) client.List[client.PasscodeLimit] {
	l := client.List[client.PasscodeLimit]{Items: []client.PasscodeLimit{}}
	own := map[string]bool{}
	for _, s := range set {
		own[string(s.By)+" "+s.PerWindow] = true
		if s.Most == nil {
			l.Items = append(l.Items, client.PasscodeLimit{By: string(s.By), Window: s.PerWindow, Set: true})
		}
	}
	for _, one := range roster.Limits(set) {
		most := one.Most
		l.Items = append(l.Items, client.PasscodeLimit{By: string(one.By), Window: one.Window.String(), Most: &most,
			Set: own[string(one.By)+" "+one.Window.String()]})
	}
	return l
}

// setPasscodeLimits puts limits in the place of all that were set before; what is not among them is as usual.
func (a *API) setPasscodeLimits(c *gin.Context) {
	n, err := read[client.PasscodeLimits](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	var set []store.PasscodeLimit
	seen := map[string]bool{}
	for i, one := range n.Items {
		field := fmt.Sprintf("items[%d]", i)
		w, err := passcode.ParseWindow(one.Window)
		if err != nil {
			faults.Add(field+".window", fault.Why(err), "minute, hour or day")
			continue
		}
		l := passcode.Limit{By: passcode.By(one.By), Window: w}
		if one.Most != nil {
			l.Most = *one.Most
		}
		if err := l.Check(); err != nil {
			faults.Add(field, fault.Why(err), "a limit by "+fault.Words(passcode.Bys))
		}
		if k := one.By + " " + one.Window; seen[k] {
			faults.Add(field, "it is there twice", "one limit a window by the same thing")
		} else {
			seen[k] = true
		}
		set = append(set, store.PasscodeLimit{By: l.By, PerWindow: w.String(), Most: one.Most})
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	if err := a.engine.Store.PutPasscodeLimits(c.Request.Context(), set); err != nil {
		a.refuse(c, err)
		return
	}
	if err := a.engine.Roster.Reload(c.Request.Context()); err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, wireLimits(set))
}

const blocksListed = 500

func (a *API) passcodeBlocks(c *gin.Context) {
	found, err := a.engine.Store.PasscodeBlocks(c.Request.Context(), c.Query("all") != "true", a.engine.Now(), blocksListed)
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.PasscodeBlock]{Items: []client.PasscodeBlock{}}
	for _, b := range found {
		l.Items = append(l.Items, wireBlock(b))
	}
	c.JSON(http.StatusOK, l)
}

func wireBlock(b store.PasscodeBlock) client.PasscodeBlock {
	return client.PasscodeBlock{
		ID:        b.ID.String(),
		What:      string(b.By),
		Value:     b.Value,
		Since:     b.Since,
		Until:     b.UntilAt,
		By:        b.ByWhom,
		Why:       b.Why,
		LiftedAt:  b.LiftedAt,
		LiftedBy:  b.LiftedBy,
		LiftedWhy: b.LiftedWhy,
	}
}

// addPasscodeBlock lets something get no passcodes.
func (a *API) addPasscodeBlock(c *gin.Context) {
	n, err := read[client.NewPasscodeBlock](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	now := a.engine.Now()
	b := store.PasscodeBlock{ID: store.IDAt(now), By: passcode.By(n.What), Since: now, ByWhom: keyOf(c).Name, Why: store.Keepable(n.Why)}
	var faults fault.Faults
	b.Value = blockedValue(b.By, strings.TrimSpace(n.Value), &faults)
	if n.For != "" {
		d, err := span.Parse(string(n.For))
		if err != nil || d < time.Second {
			faults.Add("for", fmt.Sprintf("%q is no span of time", n.For), span.Accepted+", or nothing for good")
		}
		until := now.Add(d)
		b.UntilAt = &until
	}
	if len(n.Why) > whyMost {
		faults.Add("why", "it is too long", fmt.Sprintf("at most %d characters", whyMost))
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	if err := a.engine.Store.AddPasscodeBlock(c.Request.Context(), b); err != nil {
		a.refuse(c, err)
		return
	}
	if err := a.engine.Roster.Reload(c.Request.Context()); err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusCreated, wireBlock(b))
}

// blockedValue is what is to be blocked, as it is written here.
func blockedValue(by passcode.By, given string, faults *fault.Faults) string {
	switch by {
	case passcode.Number:
		if r, err := phone.Read(given, ""); err == nil {
			return r.Number.String()
		}
		faults.Add("value", fmt.Sprintf("%q is no number", given), "a number such as +447700900123")
	case passcode.Range:
		if r, err := phone.Read(given, ""); err == nil {
			return passcode.RangeOf(r.Number.String())
		}
		if strings.HasSuffix(given, "xxx") && strings.Trim(given, "+0123456789x") == "" {
			return given
		}
		faults.Add("value", fmt.Sprintf("%q is no range", given), "one of its numbers, such as +447700900123")
	case passcode.Stretch:
		if r, err := phone.Read(given, ""); err == nil {
			return passcode.StretchOf(r.Number.String())
		}
		if strings.HasSuffix(given, "xxxxx") && strings.Trim(given, "+0123456789x") == "" {
			return given
		}
		faults.Add("value", fmt.Sprintf("%q is no stretch of numbers", given), "one of its numbers, such as +447700900123")
	case passcode.Country:
		if at := strings.ToUpper(given); phone.IsCountry(at) {
			return at
		}
		faults.Add("value", fmt.Sprintf("%q is no country", given), "a code such as GB (ISO 3166-1)")
	case passcode.Address:
		if at, err := netip.ParseAddr(given); err == nil {
			return passcode.AddressOf(at)
		}
		if p, err := netip.ParsePrefix(given); err == nil && passcode.AddressOf(p.Addr()) == p.Masked().String() {
			return p.Masked().String()
		}
		faults.Add("value", fmt.Sprintf("%q is no IP address", given), "such as 192.0.2.7; of IPv6 its /64 is blocked")
	case passcode.Network:
		if at, err := netip.ParseAddr(given); err == nil {
			return passcode.NetworkOf(at).String()
		}
		if p, err := netip.ParsePrefix(given); err == nil && passcode.NetworkOf(p.Addr()) == p.Masked() {
			return p.Masked().String()
		}
		faults.Add("value", fmt.Sprintf("%q is no network", given), "an address in it, or 192.0.2.0/24, of IPv6 /56")
	case passcode.Site:
		at, err := netip.ParseAddr(given)
		if p, other := netip.ParsePrefix(given); other == nil && passcode.SiteOf(p.Addr()) == p.Masked() {
			at, err = p.Addr(), nil
		}
		if err == nil && passcode.SiteOf(at).IsValid() {
			return passcode.SiteOf(at).String()
		}
		faults.Add("value", fmt.Sprintf("%q is no site", given), "an IPv6 address in it, or its /48, such as 2001:db8:7::/48")
	default:
		faults.Add("what", fmt.Sprintf("%q cannot be blocked", by), "number, range, stretch, country, address, network or site")
	}
	return ""
}

// liftPasscodeBlock ends a block.
func (a *API) liftPasscodeBlock(c *gin.Context) {
	n, err := read[client.Why](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	id, err := uuid.Parse(c.Param("id"))
	var b store.PasscodeBlock
	if err == nil {
		b, err = a.engine.Store.LiftPasscodeBlock(c.Request.Context(), id, a.engine.Now(), keyOf(c).Name, store.Keepable(n.Why))
	} else {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		err = &nothing{what: "block", name: c.Param("id")}
	}
	if err == nil {
		err = a.engine.Roster.Reload(c.Request.Context())
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, wireBlock(b))
}

// passcodeFunnel tells how passcodes fared.
func (a *API) passcodeFunnel(c *gin.Context) {
	f, err := a.funnel(c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	all, groups, err := a.engine.Passcodes.Funnel(c.Request.Context(), f)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.PasscodeFunnel{Since: f.Since, Until: f.Until, By: f.By, All: a.wireFared(all), Groups: []client.PasscodeFared{}}
	for _, g := range groups {
		w.Groups = append(w.Groups, a.wireFared(g))
	}
	c.JSON(http.StatusOK, w)
}

// funnel reads what is to be told of passcodes. A span is widened to whole hours or days.
func (a *API) funnel(c *gin.Context) (f store.Funnel, err error) {
	chosen, err := a.filter(c, "by", "purpose")
	if err != nil {
		return f, err
	}
	var faults fault.Faults
	f = store.Funnel{
		Since:    chosen.Since,
		Until:    chosen.Until,
		Gateway:  chosen.Gateway,
		Country:  chosen.Country,
		Template: chosen.Template,
		Purpose:  c.Query("purpose"),
		By:       c.Query("by"),
	}
	if f.By != "" && !slices.Contains(passcodes.Bys, f.By) {
		faults.Add("by", "that is not held side by side", strings.Join(passcodes.Bys, ", "))
	}
	if now := a.engine.Now(); f.Until.IsZero() || f.Until.After(now) {
		f.Until = now
	}
	if f.Since.IsZero() {
		f.Since = f.Until.Add(-24 * time.Hour)
	}
	step := time.Hour
	if f.Daily = f.Until.Sub(f.Since) > hourlyMost; f.Daily {
		step = 24 * time.Hour
	}
	f.Since, f.Until = widened(f.Since, f.Until, step, courseMost, "800 days at most", &faults)
	if faults != nil {
		return f, faults
	}
	return f, nil
}

func (a *API) wireFared(g passcodes.Fared) client.PasscodeFared {
	w := client.PasscodeFared{
		Country:   g.Country,
		Purpose:   g.Purpose,
		Template:  g.Template,
		Issued:    g.Issued,
		Again:     g.Again,
		Checked:   g.Checked.N,
		Right:     g.Right.N,
		Messages:  g.Texts(),
		Accepted:  g.Accepted.N,
		Delivered: g.Delivered.N,
		Took: client.PasscodeTook{Accepted: took(g.Accepted), Delivered: took(g.Delivered), Checked: took(g.Checked),
			Right: took(g.Right)},
	}
	if !g.Hour.IsZero() {
		w.At = &g.Hour
	}
	if g.Gateway != uuid.Nil {
		w.Gateway = a.gatewayName(g.Gateway)
	}
	if rate, ok := g.Conversion(); ok {
		w.Conversion = &rate
	}
	return w
}

// took is how long half, and nine in ten, of those that came so far took at most; nil if none did.
func took(r passcodes.Reached) *client.Took {
	if r.N == 0 {
		return nil
	}
	return &client.Took{P50Ms: r.Took.Quantile(0.5).Milliseconds(), P90Ms: r.Took.Quantile(0.9).Milliseconds()}
}
