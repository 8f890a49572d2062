// Package roster knows the gateways in use, their dialects loaded and their
// secrets opened, and what holds for messages: senders, country rules, templates
// and prices.
package roster

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/fault"
	"calmpigeon.example/internal/store"
)

// Gateway is a gateway ready for use.
type Gateway struct {
	store.Gateway
	Dialect  *dialect.Dialect
	Secrets  map[string]string
	Callback string // the secret in the address of its receipts
}

// AskAfter is the silence before the first status query.
func (g *Gateway) AskAfter() time.Duration { return time.Duration(g.AskAfterMs) * time.Millisecond }

// GiveUpAfter is the time after submission in which anyone might tell us.
func (g *Gateway) GiveUpAfter() time.Duration { return time.Duration(g.GiveUpMs) * time.Millisecond }

// Timeout is how long a request may take.
func (g *Gateway) Timeout() time.Duration { return time.Duration(g.TimeoutMs) * time.Millisecond }

// ReceiptURL is where the gateway sends its receipts.
func (g *Gateway) ReceiptURL(public string) string {
	return strings.TrimRight(public, "/") + "/receipts/" + g.Name + "/" + g.Callback
}

// Mask replaces every secret in s, plain or as it stands in an address, by
// its name.
func (g *Gateway) Mask(s string) string {
	mask := func(secret, name string) {
		if secret == "" {
			return
		}
		s = strings.ReplaceAll(s, secret, "‹"+name+"›")
		if escaped := url.QueryEscape(secret); escaped != secret {
			s = strings.ReplaceAll(s, escaped, "‹"+name+"›")
		}
	}
	for name, secret := range g.Secrets {
		mask(secret, name)
	}
	mask(g.Callback, "callback")
	return s
}

// Setup is a gateway as it is given. Zero numbers take the dialect's.
type Setup struct {
	Name, Source, Address   string
	Secrets                 map[string]string
	PerSecond, InFlight     int
	AskAfter, GiveUp, Limit time.Duration
}

// Roster knows the gateways and the book. It is safe for concurrent use.
type Roster struct {
	store  *store.Store
	sealer *store.Sealer

	mu   sync.RWMutex
	all  []*Gateway // in the order they were added
	seen map[uuid.UUID]*Gateway
	book *Book
}

// New makes an empty roster; [Roster.Reload] fills it.
func New(s *store.Store, sealer *store.Sealer) *Roster {
	return &Roster{store: s, sealer: sealer, seen: map[uuid.UUID]*Gateway{}, book: &Book{}}
}

// Reload reads what other instances have added.
func (r *Roster) Reload(ctx context.Context) error {
	records, err := r.store.Gateways(ctx)
	if err != nil {
		return fmt.Errorf("reading gateways: %w", err)
	}
	book, err := r.read(ctx, r.Book())
	if err != nil {
		return err
	}
	all := make([]*Gateway, 0, len(records))
	seen := make(map[uuid.UUID]*Gateway, len(records))
	for _, record := range records {
		g := r.ByID(record.ID)
		if g == nil {
			if g, err = r.open(record); err != nil {
				return fmt.Errorf("gateway %s: %w", record.Name, err)
			}
		}
		all = append(all, g)
		seen[record.ID] = g
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.all, r.seen, r.book = all, seen, book
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
	return g, err
}

// All lists the gateways in the order they were added.
func (r *Roster) All() []*Gateway {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.Clone(r.all)
}

// ByID returns a gateway, or nil.
func (r *Roster) ByID(id uuid.UUID) *Gateway {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.seen[id]
}

// ByName returns a gateway, or nil.
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

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// Add checks and adds a gateway. What is wrong with it comes as
// [fault.Faults].
func (r *Roster) Add(ctx context.Context, setup Setup, now time.Time) (*Gateway, error) {
	d, err := dialect.Load("dialect", []byte(setup.Source))
	if err != nil {
		return nil, fault.New("dialect", err.Error(), "a dialect file, or the name of one that ships")
	}
	if setup.Name == "" {
		setup.Name = d.Name
	}
	if !nameForm.MatchString(setup.Name) {
		return nil, fault.New("name", fmt.Sprintf("%q is no name for a gateway", setup.Name), "1 to 40 small letters, digits and hyphens")
	}
	address, err := url.Parse(setup.Address)
	if err != nil || address.Scheme != "http" && address.Scheme != "https" || address.Host == "" || address.RawQuery != "" || address.User != nil {
		return nil, fault.New("address", fmt.Sprintf("%q is no address of a gateway", setup.Address), "http or https, a host and perhaps a path, such as https://sms.example.net/api")
	}
	for _, name := range d.Secrets {
		if setup.Secrets[name] == "" {
			return nil, fault.New("secrets."+name, "is missing", "a value for each secret that dialect "+d.Name+" names: "+strings.Join(d.Secrets, ", "))
		}
	}
	for name := range setup.Secrets {
		if !slices.Contains(d.Secrets, name) {
			return nil, fault.New("secrets."+name, "is not a secret of dialect "+d.Name, strings.Join(d.Secrets, ", "))
		}
	}
	for _, limit := range []struct {
		field       string
		given, most int
	}{{"per_second", setup.PerSecond, 10_000}, {"in_flight", setup.InFlight, 1000}} {
		if limit.given < 0 || limit.given > limit.most {
			return nil, fault.New(limit.field, fmt.Sprintf("%d is out of range", limit.given), fmt.Sprintf("1 to %d, or nothing for the dialect's own", limit.most))
		}
	}
	secrets, err := json.Marshal(setup.Secrets)
	if err != nil {
		return nil, err
	}
	random := make([]byte, 20)
	rand.Read(random)
	callback := strings.ToLower(base32.StdEncoding.EncodeToString(random))
	or := func(given, otherwise time.Duration) int64 {
		if given > 0 {
			return given.Milliseconds()
		}
		return otherwise.Milliseconds()
	}
	id := store.NewID()
	record := store.Gateway{
		ID: id, Name: setup.Name, Dialect: d.Name, Source: setup.Source, Address: strings.TrimRight(setup.Address, "/"),
		SealedSecrets: r.sealer.Seal(secrets, id.String()), SealedCallback: r.sealer.Seal([]byte(callback), id.String()),
		PerSecond: d.Limits.PerSecond, InFlight: d.Limits.InFlight,
		AskAfterMs: or(setup.AskAfter, time.Duration(d.Silence.AskAfter)), GiveUpMs: or(setup.GiveUp, time.Duration(d.Silence.GiveUpAfter)),
		TimeoutMs: or(setup.Limit, time.Duration(d.Timeout)), CreatedAt: now,
	}
	if setup.PerSecond > 0 {
		record.PerSecond = setup.PerSecond
	}
	if setup.InFlight > 0 {
		record.InFlight = setup.InFlight
	}
	if err := r.store.AddGateway(ctx, record); err != nil {
		return nil, err
	}
	if err := r.Reload(ctx); err != nil {
		return nil, err
	}
	return r.ByID(id), nil
}
