// Package roster knows the gateways in use, their dialects loaded and their
// secrets opened, and what holds for messages: senders, country rules, templates
// and prices.
package roster

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/store"
)

// Gateway is a gateway ready for use.
type Gateway struct {
	store.Gateway
	Dialect  *dialect.Dialect
	Secrets  map[string]string
	Callback string // the secret in the address of its receipts

	mask *mask // of its secrets as they were opened
}

// AskAfter is the silence before the first status query, for kinds of which nothing else is set.
func (g *Gateway) AskAfter() time.Duration { return time.Duration(g.AskAfterMs) * time.Millisecond }

// AskAfterOf is the silence before the first status query about messages of a kind.
func (g *Gateway) AskAfterOf(kind pace.Kind) time.Duration {
	if ms, ok := g.AskKinds[string(kind)]; ok {
		return time.Duration(ms) * time.Millisecond
	}
	return g.AskAfter()
}

// GiveUpAfter is the time after submission in which anyone might tell us.
func (g *Gateway) GiveUpAfter() time.Duration { return time.Duration(g.GiveUpMs) * time.Millisecond }

// timeoutMost is how long a request may take at most.
const timeoutMost = 2 * time.Minute

// Timeout is how long a request may take.
func (g *Gateway) Timeout() time.Duration {
	return min(time.Duration(g.TimeoutMs)*time.Millisecond, timeoutMost)
}

// Base is the path of its address.
func (g *Gateway) Base() string {
	address, err := url.Parse(g.Address)
	if err != nil {
		return ""
	}
	return address.EscapedPath()
}

// ReceiptURL is where the gateway sends its receipts.
func (g *Gateway) ReceiptURL(public string) string {
	return strings.TrimRight(public, "/") + "/receipts/" + g.Name + "/" + g.Callback
}

// unreadable is what a number becomes that cannot be read: it is that of no message.
const unreadable = "?"

// Number reads a number as the gateway writes numbers, in E.164; empty if there is none.
func (g *Gateway) Number(written string) string {
	number, _ := g.NumberIn(written)
	return number
}

// NumberIn does so, and tells of which country it is (ISO 3166-1 alpha-2).
func (g *Gateway) NumberIn(written string) (number, of string) {
	written = strings.TrimSpace(written)
	if written == "" {
		return "", ""
	}
	country := ""
	if at := g.Dialect.Takes.Countries; g.Dialect.Number == dialect.National && len(at) == 1 {
		country = at[0]
	}
	r, err := ReadNumber(written, country)
	if err != nil {
		return unreadable, ""
	}
	return r.Number.String(), r.Country
}

// ReadNumber reads a number as gateways write them: most leave the plus away. With a country it may be
// written as it is dialled there.
func ReadNumber(written, country string) (phone.Reading, error) {
	written = strings.TrimPrefix(strings.TrimSpace(written), "tel:")
	if country == "" && !strings.HasPrefix(written, "+") && !strings.HasPrefix(written, "00") {
		written = "+" + written
	}
	return phone.Read(written, country)
}

// Unusable reports that the gateway is not to be used now, and why: it is paused
// or rests. Empty if it may be used.
func (g *Gateway) Unusable(h store.Health, now time.Time) string {
	switch {
	case g.PausedAt != nil:
		return fmt.Sprintf("%s is paused", g.Name)
	case h.RestUntil != nil && now.Before(*h.RestUntil):
		return fmt.Sprintf("%s rests (%s)", g.Name, cmp.Or(string(h.RestCause), "it keeps failing"))
	}
	return ""
}

// StatementEvery is how often its statement is fetched; 0: never by itself.
func (g *Gateway) StatementEvery() time.Duration {
	return time.Duration(g.StatementEveryMs) * time.Millisecond
}

// LowBalance says that too little is left on the account; empty if it is enough, or not known.
func (g *Gateway) LowBalance(h store.Health) string {
	switch {
	case h.BalanceMicros == nil:
		return ""
	case *h.BalanceMicros <= 0:
		return "The account is empty."
	case g.LowBalanceMicros != nil && *h.BalanceMicros < *g.LowBalanceMicros:
		return fmt.Sprintf("The balance is %s, less than the %s at which you want to know.",
			price.Of(*h.BalanceMicros, h.BalanceCurrency), price.Of(*g.LowBalanceMicros, "").Amount())
	}
	return ""
}

// Refuses says why the gateway cannot take a message; empty if it can.
func (g *Gateway) Refuses(c dialect.Case) string {
	if why := g.Dialect.Takes.Refuses(c); why != "" {
		return why
	}
	if g.Dialect.Takes.Senders == dialect.Leased && !slices.Contains(g.Senders, c.Sender) {
		return fmt.Sprintf("it takes only senders leased from it, and %s is none of them", c.Sender)
	}
	return ""
}

// Roster knows the gateways and the book. It is safe for concurrent use.
type Roster struct {
	store  *store.Store
	sealer *store.Sealer

	// reading lets one reading follow the other: of two at once the one that
	// began first could end last, and what it read would be old.
	reading sync.Mutex

	mu sync.RWMutex
	read
}

// read is what a roster has read. Its lists and maps are never changed; new ones take their places.
type read struct {
	changes store.SettingsCount // up to which it was read
	version int64               // the last change that is written down
	all     []*Gateway          // those in use, in the order they were added
	seen    map[uuid.UUID]*Gateway
	healths map[uuid.UUID]store.Health
	book    *Book

	receivers    []*Receiver // of events, in the order they were added
	badGateways  []Flaw
	badReceivers []Flaw
}

// nothing is what a roster has read at first.
func nothing() read {
	return read{changes: store.SettingsCount{N: store.FromTheStart}, seen: map[uuid.UUID]*Gateway{}, book: &Book{}}
}

// Flaw is a record that cannot be used as it stands: a check that is newer than
// it refuses it. Everything else goes on.
type Flaw struct{ What, Name, Why string }

// Flaws lists the records that cannot be used, as was last read.
func (r *Roster) Flaws() []Flaw {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.Concat(r.book.badTemplates, r.badReceivers, r.badGateways)
}

// New makes an empty roster; [Roster.Reload] fills it.
func New(s *store.Store, sealer *store.Sealer) *Roster {
	return &Roster{store: s, sealer: sealer, read: nothing()}
}

// Within is a roster over the transaction that s is bound to: what it changes
// holds once that is committed, and nobody else sees it before.
func (r *Roster) Within(ctx context.Context, s *store.Store) (*Roster, error) {
	r.mu.RLock()
	within := &Roster{store: s, sealer: r.sealer, read: r.read}
	r.mu.RUnlock()
	return within, within.Reload(ctx)
}

// Changes is the count of changes up to which it has read what was set.
func (r *Roster) Changes() int64 {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.changes.N
}

// Version is the number of the last change of what is set that it has read.
func (r *Roster) Version() int64 {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.version
}

// Renew reads all of what was set: the database is another, or an earlier one, and what was read of it may never
// have been.
func (r *Roster) Renew(ctx context.Context) error {
	r.reading.Lock()
	r.mu.Lock()
	r.changes = nothing().changes
	r.mu.Unlock()
	r.reading.Unlock()
	return r.Reload(ctx)
}

// Reload reads what was set, here or by other instances, since the last time: the tables that have changed, and of those
// that may be long the rows.
func (r *Roster) Reload(ctx context.Context) error {
	r.reading.Lock()
	defer r.reading.Unlock()
	r.mu.RLock()
	next := r.read
	r.mu.RUnlock()
	known := next.changes
	now, err := r.store.SettingsCount(ctx, known.N) // before the rest: what is set meanwhile is read the next time
	if err != nil {
		return err
	}
	if now.N == known.N {
		return nil
	}
	// Of a database in which the count is lower than it was, nothing is known.
	first := known.N == store.FromTheStart || now.N < known.N
	since := func(tables ...string) (after int64, all, changed bool) {
		if first {
			return store.FromTheStart, true, true
		}
		for _, table := range tables {
			changed = changed || now.Tables[table] != known.Tables[table]
			all = all || now.Tables[table+" removed"] != known.Tables[table+" removed"]
		}
		return known.N, all, changed
	}
	next.changes = now
	if next.version, err = r.store.LastChange(ctx); err != nil {
		return fmt.Errorf("reading changes: %w", err)
	}
	if after, _, changed := since("gateways"); changed {
		if err := r.readGateways(ctx, &next, after); err != nil {
			return fmt.Errorf("reading gateways: %w", err)
		}
	}
	if next.book, err = r.readBook(ctx, next.book, since); err != nil {
		return err
	}
	if _, _, changed := since("receivers"); changed {
		if next.receivers, next.badReceivers, err = r.readReceivers(ctx); err != nil {
			return err
		}
	}
	if _, _, changed := since("gateway_health"); changed {
		if next.healths, err = r.store.Healths(ctx); err != nil {
			return err
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.read = next
	return nil
}

// readGateways reads the gateways that were changed after a count. None is ever removed from the database.
func (r *Roster) readGateways(ctx context.Context, next *read, after int64) error {
	records, err := r.store.Gateways(ctx, after)
	if err != nil {
		return err
	}
	last, flaws := next.seen, next.badGateways
	next.seen, next.badGateways = maps.Clone(last), nil
	if after == store.FromTheStart {
		clear(next.seen)
	}
	fresh := map[string]bool{}
	for _, record := range records {
		fresh[record.Name] = true
		g := last[record.ID]
		if g == nil || g.Version != record.Version {
			opened, err := r.open(record)
			switch {
			case err == nil:
				g = opened
			case g != nil: // it goes on as it was, but whether it is paused is told by the record
				next.badGateways = append(next.badGateways, Flaw{"gateway", record.Name, err.Error() + "\nIt goes on as it was before."})
				record.Source, record.Version = g.Source, g.Version
				g = &Gateway{Gateway: record, Dialect: g.Dialect, Secrets: g.Secrets, Callback: g.Callback, mask: g.mask}
			default:
				next.badGateways = append(next.badGateways, Flaw{"gateway", record.Name, err.Error()})
				continue
			}
		}
		next.seen[record.ID] = g
	}
	if after != store.FromTheStart {
		for _, flaw := range flaws {
			if !fresh[flaw.Name] {
				next.badGateways = append(next.badGateways, flaw)
			}
		}
	}
	next.all = nil
	for _, g := range next.seen {
		if g.RemovedAt == nil {
			next.all = append(next.all, g)
		}
	}
	slices.SortFunc(next.all, func(a, b *Gateway) int { return bytes.Compare(a.ID[:], b.ID[:]) })
	return nil
}

func (r *Roster) open(record store.Gateway) (*Gateway, error) {
	g := &Gateway{Gateway: record}
	var err error
	if g.Dialect, err = dialect.Load(record.Dialect+".yaml", []byte(record.Source)); err != nil {
		return nil, err
	}
	plain, err := r.sealer.Open(record.SealedSecrets, record.ID.String())
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(plain, &g.Secrets); err != nil {
		return nil, err
	}
	callback, err := r.sealer.Open(record.SealedCallback, record.ID.String())
	g.Callback = string(callback)
	g.mask = g.masked()
	return g, err
}

// All lists the gateways in use in the order they were added.
func (r *Roster) All() []*Gateway {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.Clone(r.all)
}

// ByID returns a gateway, also one that was removed, or nil.
func (r *Roster) ByID(id uuid.UUID) *Gateway {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.seen[id]
}

// ByName returns a gateway in use, or nil.
func (r *Roster) ByName(name string) *Gateway {
	r.mu.RLock()
	defer r.mu.RUnlock()
	for _, g := range r.all {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// Called lists the gateways that have or had a name: receipts for what one
// carried may come after it was removed.
func (r *Roster) Called(name string) []*Gateway {
	r.mu.RLock()
	defer r.mu.RUnlock()
	var called []*Gateway
	for _, g := range r.seen {
		if g.Name == name {
			called = append(called, g)
		}
	}
	return called
}

// Health is how a gateway fares, as was last read.
func (r *Roster) Health(id uuid.UUID) store.Health {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.healths[id]
}

// NoteRest lets this instance know at once what the database was told.
func (r *Roster) NoteRest(h store.Health) {
	r.note(h.GatewayID, func(known *store.Health) {
		known.RestSince, known.RestUntil, known.RestCause, known.RestNote = h.RestSince, h.RestUntil, h.RestCause, h.RestNote
	})
}

// NoteAnswer notes that a gateway answered a query about a message that it knows.
// What it says afterwards of messages that it does not know is worth something,
// as long as it is spoken to in the same way.
func (r *Roster) NoteAnswer(ctx context.Context, g *Gateway) error {
	if r.HasAnswered(g) {
		return nil
	}
	if err := r.store.NoteAnswer(ctx, g.ID, g.Speech()); err != nil {
		return err
	}
	r.note(g.ID, func(known *store.Health) { known.AskedIn = g.Speech() })
	return nil
}

// HasAnswered reports whether a gateway has answered a query about a message that
// it knows since its dialect or address last changed.
func (r *Roster) HasAnswered(g *Gateway) bool { return r.Health(g.ID).AskedIn == g.Speech() }

// NoteNamed notes that a receipt of a gateway bore an id that it had given in a
// reply. As long as it is spoken to in the same way, it reports under such ids.
func (r *Roster) NoteNamed(ctx context.Context, g *Gateway) error {
	if r.HasNamed(g) {
		return nil
	}
	if err := r.store.NoteNamed(ctx, g.ID, g.Speech()); err != nil {
		return err
	}
	r.note(g.ID, func(known *store.Health) { known.NamedIn = g.Speech() })
	return nil
}

// HasNamed reports whether a receipt has borne an id that the gateway gave in a
// reply since its dialect or address last changed.
func (r *Roster) HasNamed(g *Gateway) bool { return r.Health(g.ID).NamedIn == g.Speech() }

// note changes what is known of how a gateway fares, here and at once.
func (r *Roster) note(gateway uuid.UUID, change func(*store.Health)) {
	r.reading.Lock() // what is being read now may be older
	defer r.reading.Unlock()
	r.mu.Lock()
	defer r.mu.Unlock()
	healths := maps.Clone(r.healths)
	if healths == nil {
		healths = map[uuid.UUID]store.Health{}
	}
	known := healths[gateway]
	known.GatewayID = gateway
	change(&known)
	healths[gateway] = known
	r.healths = healths
}

// TextMark is a keyed hash of a text, by which it can be told without being kept.
func (r *Roster) TextMark(text string) string {
	return base64.RawURLEncoding.EncodeToString(r.sealer.MAC([]byte("text\x00" + text))[:15])
}

// Speech names how the gateway is spoken to: where, and in which dialect, to the
// letter.
func (g *Gateway) Speech() string {
	sum := sha256.Sum256([]byte(g.Address + "\x00" + g.Source))
	return base64.RawURLEncoding.EncodeToString(sum[:12])
}
