package fleet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"calmpigeon.example/internal/fleet/arrival"
)

// chassis is what all practice gateways have in common: a ledger, an account, a
// network behind it, and ways to misbehave. What a gateway says, and how it
// wants to be spoken to, is its own.
type chassis struct {
	fleet  *Fleet
	Name   string
	prefix string // of its ids
	price  int64  // of a segment, in millionths of a euro
	// honours: the same reference twice is one text.
	honours bool
	// perPart: each segment has a receipt of its own.
	perPart bool
	// tell pushes a receipt; nil: it has none.
	tell func(context.Context, report) bool
	// inbound pushes what somebody wrote back; nil: it takes no replies.
	inbound func(context.Context, written) bool
	// check refuses an offer for a reason of the gateway's own; empty: it does
	// not.
	check func(offer) string

	mu      sync.Mutex
	byRef   map[string]*Entry
	byID    map[string]*Entry
	order   []*Entry
	turned  map[string]int // submissions that were turned away
	balance int64
	moods   []*Mood
	served  int // requests
	door    door
}

func newChassis(f *Fleet, name, prefix string, price int64) *chassis {
	c := &chassis{
		fleet:   f,
		Name:    name,
		prefix:  prefix,
		price:   price,
		byRef:   map[string]*Entry{},
		byID:    map[string]*Entry{},
		turned:  map[string]int{},
		balance: 1000_000_000,
	}
	f.gateways = append(f.gateways, c)
	return c
}

// offer is a text that is handed to a gateway.
type offer struct {
	From, To, Text, Ref, Report string
	Call                        bool // to be spoken, not written
	Flash                       bool // class 0: shown at once and not kept (TS 23.038 §4)
	KeepFor                     int  // seconds in which it has to arrive; 0: it may take any time
}

// key tells submissions of the same text.
func (o offer) key() string {
	if o.Ref != "" {
		return o.Ref
	}
	return o.To + "|" + o.Text
}

// What can have become of a text. Each gateway has its own words for it.
const (
	taken   = "taken"
	afloat  = "on its way"
	landed  = "on the handset"
	absent  = "switched off"
	invalid = "no such number"
	blocked = "wording blocked"
	overdue = "kept as long as was asked"
)

// Entry is what the gateway's own ledger says of one text.
type Entry struct {
	ID          string    `json:"id"`
	Ref         string    `json:"ref"`
	From        string    `json:"from"`
	To          string    `json:"to"` // with its plus
	Text        string    `json:"text"`
	Parts       int       `json:"parts"`
	Billed      int       `json:"billed"`             // parts that it says there are
	Charge      string    `json:"charge"`             // in euros
	KeepFor     int       `json:"keep_for,omitempty"` // seconds
	Submissions int       `json:"submissions"`        // how often it was handed over, turned away or not
	TakenAt     time.Time `json:"taken_at"`
	Status      string    `json:"status"`
	Reason      string    `json:"reason,omitempty"`
	StatusAt    time.Time `json:"status_at"`

	Report string `json:"-"` // where its receipts go
	trait  string
}

// report is a receipt as it is to be pushed.
type report struct {
	Entry
	Part   int  // the segment it speaks of, from 1; 0: all
	NoRef  bool // by the gateway's id alone
	Forged bool
	skew   time.Duration
}

// at is when it happened, by the gateway's clock.
func (r report) at() time.Time { return r.StatusAt.Add(r.skew) }

// verdict is what becomes of an offer.
type verdict struct {
	Offer   offer
	Entry   *Entry // nil: it was refused
	Refused string
	Again   bool // it was taken before
}

// voice is how a gateway says what comes of a request.
type voice struct {
	taken    func(w http.ResponseWriter, all []verdict)
	fault    func(w http.ResponseWriter)
	limited  func(w http.ResponseWriter) // Retry-After is set if it is said
	noCredit func(w http.ResponseWriter)
	noKey    func(w http.ResponseWriter)
}

// serve takes the offers of a request and answers, or misbehaves.
func (c *chassis) serve(w http.ResponseWriter, r *http.Request, offers []offer, v voice) {
	how := c.manner(offers, arrival.Of(r))
	turnAway := func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		for _, o := range offers {
			c.turned[o.key()]++
		}
	}
	switch how {
	case endFault, endFaultOnce:
		turnAway()
		v.fault(w)
		return
	case endLimited:
		turnAway()
		w.Header().Set("Retry-After", "1")
		v.limited(w)
		return
	case howLimitedBare:
		turnAway()
		v.limited(w)
		return
	case howNoKey:
		v.noKey(w)
		return
	case howNoCredit:
		v.noCredit(w)
		return
	case endCutBefore:
		turnAway()
		panic(http.ErrAbortHandler)
	}
	if c.fleet.agenda.full() {
		v.fault(w)
		return
	}
	all, paid := c.take(offers)
	if !paid {
		v.noCredit(w)
		return
	}
	switch how {
	case endMute:
		<-r.Context().Done() // until the other side gives up
		return
	case endCutAfter:
		panic(http.ErrAbortHandler)
	case endGarbled:
		w.Header().Set("Content-Type", "text/html")
		w.WriteHeader(http.StatusBadGateway)
		io.WriteString(w, "<html><h1>Bad gateway</h1></html>")
		return
	case endSlow:
		c.fleet.pause(r.Context(), time.Second)
	case endEarly:
		for _, one := range all {
			if one.Entry != nil && one.Entry.trait == endEarly && c.tell != nil {
				early := c.report(one.Entry, landed)
				early.NoRef = true
				c.push(early, 0)
			}
		}
	}
	v.taken(w, all)
}

// manner is how the gateway treats a request as a whole, which arrived at a moment.
func (c *chassis) manner(offers []offer, at time.Time) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.served++
	c.door.note(at, len(offers))
	if how := c.mood(true); how != "" {
		return how
	}
	for _, o := range offers {
		if known := c.byRef[o.key()]; known != nil && known.trait != endFault {
			continue // it was taken: a repetition is answered at once
		}
		turned := c.turned[o.key()]
		switch how := endingOf(o.To); how {
		case endFault, endMute, endCutAfter, endGarbled, endSlow, endEarly:
			return how
		case endFaultOnce, endLimited, endCutBefore:
			if turned == 0 {
				return how
			}
		}
	}
	return ""
}

// take writes offers into the ledger and sets their fates going. It is paid for
// all or for none.
func (c *chassis) take(offers []offer) (all []verdict, paid bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	all = make([]verdict, len(offers))
	cuts := make([][]short, len(offers))
	cost := int64(0)
	for i, o := range offers {
		all[i].Offer = o
		switch known := c.byRef[o.key()]; {
		case known != nil && c.honours:
			known.Submissions++
			all[i].Entry, all[i].Again = known, true
			continue
		case endingOf(o.To) == endInvalid:
			all[i].Refused = invalid
		case endingOf(o.To) == endFalseSuccess:
			all[i].Refused = blocked
		case c.check != nil:
			all[i].Refused = c.check(o)
		}
		if all[i].Refused == "" {
			cuts[i] = cutUp(o.From, o.To, o.Text, byte(len(c.order)+i+1))
			cost += int64(len(cuts[i])) * c.price
		}
	}
	if cost > c.balance {
		return nil, false
	}
	c.balance -= cost
	for i, o := range offers {
		if cuts[i] != nil {
			all[i].Entry = c.enter(o, cuts[i])
		}
	}
	return all, true
}

// enter writes one offer down.
func (c *chassis) enter(o offer, shorts []short) *Entry {
	now := time.Now().UTC()
	// The id follows from the reference where there is one, so that it means
	// the same text after the fleet was restarted.
	name := fmt.Sprintf("%d|%s", c.fleet.seed, o.Ref)
	if o.Ref == "" || !c.honours {
		name = fmt.Sprintf("%d|%s|%d|%d", c.fleet.seed, c.Name, len(c.order), now.UnixNano())
	}
	id := sha256.Sum256([]byte(name))
	e := &Entry{
		ID:          c.prefix + "-" + hex.EncodeToString(id[:6]),
		Ref:         o.Ref,
		From:        o.From,
		To:          o.To,
		Text:        o.Text,
		Submissions: c.turned[o.key()] + 1,
		TakenAt:     now,
		Status:      taken,
		StatusAt:    now,
		Report:      o.Report,
		KeepFor:     o.KeepFor,
		Parts:       len(shorts),
		Billed:      len(shorts),
		trait:       endingOf(o.To),
	}
	if how := c.mood(false); how != "" {
		e.trait = how
	}
	if e.trait == howWrongSegments {
		e.Billed++
	}
	e.Charge = euros(int64(e.Parts) * c.price)
	c.byRef[o.key()], c.byID[e.ID], c.order = e, e, append(c.order, e)
	for i := range shorts {
		shorts[i].call, shorts[i].flash = o.Call, o.Flash
	}
	c.fate(e, shorts)
	return e
}

func euros(micros int64) string { return fmt.Sprintf("%.4f", float64(micros)/1e6) }

// loopbackOnly reports whether an address may be reported to.
func loopbackOnly(address string) bool {
	u, err := url.Parse(address)
	return address == "" || err == nil && loopback(u.Hostname())
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// find looks up an entry by the gateway's id, as it is now.
func (c *chassis) find(id string) (Entry, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.byID[id]
	if e == nil {
		return Entry{}, false
	}
	return *e, true
}

// findRef looks up an entry by our reference.
func (c *chassis) findRef(ref string) (Entry, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.byRef[ref]
	if e == nil {
		return Entry{}, false
	}
	return *e, true
}

// left is the balance in euros.
func (c *chassis) left() float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return float64(c.balance) / 1e6
}

// SetBalance sets what is left on the account, in euros.
func (c *chassis) SetBalance(amount float64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.balance = int64(amount * 1e6)
}

// Entries is the gateway's own account of what it took, in that order.
func (c *chassis) Entries() []Entry {
	c.mu.Lock()
	defer c.mu.Unlock()
	entries := make([]Entry, len(c.order))
	for i, e := range c.order {
		entries[i] = *e
	}
	return entries
}

// ledger shows the entries.
func (c *chassis) ledger(w http.ResponseWriter, r *http.Request) {
	answer(w, http.StatusOK, map[string]any{"gateway": c.Name, "balance": euros(int64(c.left() * 1e6)),
		"busiest_second": c.BusiestSecond(), "entries": c.Entries()})
}

func answer(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(body)
}

func say(w http.ResponseWriter, status int, contentType, body string) {
	w.Header().Set("Content-Type", contentType)
	w.WriteHeader(status)
	io.WriteString(w, body)
}

// decode reads a body of JSON.
func decode[T any](r *http.Request) (v T, err error) {
	err = json.NewDecoder(io.LimitReader(r.Body, 4<<20)).Decode(&v)
	return v, err
}

// isNumber reports whether a number is written as plus and digits.
func isNumber(s string) bool {
	return len(s) >= 9 && s[0] == '+' && strings.Trim(s[1:], "0123456789") == ""
}
