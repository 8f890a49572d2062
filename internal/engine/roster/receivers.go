package roster

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/address"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/core/webhook"
	"calmpigeon.example/internal/store"
)

// Receiver is a receiver of events, its secrets opened.
type Receiver struct {
	store.Receiver
	Secrets []Signing // the newest first
}

// Signing is a secret with which events are signed.
type Signing struct {
	Secret webhook.Secret
	Until  *time.Time // nil: until it is replaced
}

type sealedSecret struct {
	Secret string     `json:"secret"`
	Until  *time.Time `json:"until,omitempty"`
}

// Signing are the secrets with which events are signed now.
func (r *Receiver) Signing(now time.Time) (secrets []webhook.Secret) {
	for _, s := range r.Secrets {
		if s.Until == nil || s.Until.After(now) {
			secrets = append(secrets, s.Secret)
		}
	}
	return secrets
}

// Timeout is how long a receiver may take to answer.
func (r *Receiver) Timeout() time.Duration { return time.Duration(r.TimeoutMs) * time.Millisecond }

// Below reports whether an address is that of the receiver, or below it, where messages may name such: at the same
// host, with a path that begins with its own. A path that leads upwards, or may be read as one that does once it is
// decoded a second time, is below none.
func (r *Receiver) Below(to string) bool {
	own, err := url.Parse(r.Address)
	if err != nil || r.Reports == store.ReportsNo || r.Follows() {
		return false
	}
	u, err := url.Parse(to)
	if err != nil || u.Scheme != own.Scheme || u.Host != own.Host || u.User != nil || u.Opaque != "" {
		return false
	}
	if !utf8.ValidString(u.Path) || strings.ContainsFunc(u.Path, func(c rune) bool { return c == '%' || c == '\\' || unicode.IsControl(c) }) {
		return false
	}
	for segment := range strings.SplitSeq(u.Path, "/") {
		name, _, _ := strings.Cut(segment, ";") // what follows is a parameter to some servers (RFC 3986, 3.3)
		if name = strings.TrimSpace(name); name == "." || name == ".." {
			return false
		}
	}
	rest, ok := strings.CutPrefix(u.Path, strings.TrimRight(own.Path, "/"))
	return ok && (rest == "" || rest[0] == '/')
}

// ReportsTo is the receiver that a message that is sent with a key may name an address of; nil, and why, if there is none.
func (r *Roster) ReportsTo(to string, key uuid.UUID, faults *fault.Faults) *Receiver {
	var may []string
	given, err := address.ParseReceiver(to)
	for _, one := range r.Receivers() {
		if one.Reports == store.ReportsNo || len(one.Keys) > 0 && !slices.Contains(one.Keys, key) {
			continue
		}
		if err == nil && one.Below(given) {
			return one
		}
		may = append(may, one.Address)
	}
	accepted := "an address below one of " + strings.Join(may, ", ")
	if may == nil {
		accepted = "nothing: there is no receiver below whose address messages of this key may name one " +
			"(pigeon event receiver set NAME --reports also)"
	}
	wrong := fmt.Sprintf("%q is not among those that this key may have called", to)
	if err != nil {
		wrong = fault.Why(err)
	}
	faults.Add("report_to", wrong, accepted)
	return nil
}

// The bounds of what is set of receivers.
const (
	atOnceUsual    = 16
	atOnceMost     = 256
	answerUsual    = 10 * time.Second
	answerLeast    = time.Second
	answerMost     = 30 * time.Second
	overlapUsual   = 24 * time.Hour
	overlapMost    = 30 * 24 * time.Hour
	signingAtOnce  = 3
	followerPrefix = "follow-"
)

// ReceiverSettings is what is set of a receiver. Of one that is added, what is nil is as usual; of one that is
// changed, it stays.
type ReceiverSettings struct {
	Address      *string
	Secret       *string // nil: one is made
	Types, Kinds *[]string
	Labels       map[string]string // all of them; nil: they stay
	Reports      *string
	Keys         *[]uuid.UUID
	AtOnce       *int
	Timeout      *time.Duration
}

// Receivers lists those in use, the oldest first.
func (r *Roster) Receivers() []*Receiver {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.Clone(r.receivers)
}

// Receiver is one by its id or name, or nil.
func (r *Roster) Receiver(id uuid.UUID, name string) *Receiver {
	for _, one := range r.Receivers() {
		if one.ID == id || name != "" && one.Name == name {
			return one
		}
	}
	return nil
}

// AddReceiver checks and adds a receiver. What is wrong with it comes as [fault.Faults].
func (r *Roster) AddReceiver(ctx context.Context, name string, settings ReceiverSettings, now time.Time) (*Receiver, error) {
	if !nameForm.MatchString(name) || strings.HasPrefix(name, followerPrefix) {
		return nil, fault.New("name", fmt.Sprintf("%q is no name for a receiver", name),
			"1 to 40 small letters, digits and hyphens, not beginning with "+followerPrefix)
	}
	if settings.Address == nil {
		return nil, fault.New("address", "is missing", address.ReceiverAccepted)
	}
	return r.addReceiver(ctx, name, settings, now)
}

// Follow adds somebody who follows for a while: with the secrets and the choice of a receiver, if one is given.
func (r *Roster) Follow(ctx context.Context, like *Receiver, settings ReceiverSettings, now time.Time) (*Receiver, error) {
	name := followerPrefix + strings.ToLower(rand.Text()[:8])
	if like == nil {
		return r.addReceiver(ctx, name, settings, now)
	}
	one := *like
	one.ID, one.Name, one.Address, one.Version, one.CreatedAt = store.NewID(), name, "", 0, now
	one.Reports = store.ReportsNo
	one.PausedAt, one.PausedBy, one.PausedWhy = nil, "", ""
	return r.putReceiver(ctx, &one)
}

func (r *Roster) addReceiver(ctx context.Context, name string, settings ReceiverSettings, now time.Time) (*Receiver, error) {
	one := &Receiver{Receiver: store.Receiver{ID: store.NewID(), Name: name, Reports: store.ReportsNo, AtOnce: atOnceUsual,
		TimeoutMs: int(answerUsual.Milliseconds()), CreatedAt: now}}
	secret, err := webhook.NewSecret(rand.Reader)
	if settings.Secret != nil {
		secret, err = webhook.ParseSecret(*settings.Secret)
	}
	if err != nil {
		return nil, fault.New("secret", err.Error(), webhook.SecretAccepted)
	}
	one.Secrets = []Signing{{Secret: secret}}
	if err := one.set(settings); err != nil {
		return nil, err
	}
	return r.putReceiver(ctx, one)
}

// set takes what is given and checks it.
func (one *Receiver) set(s ReceiverSettings) error {
	var faults fault.Faults
	if s.Address != nil {
		to, err := address.ParseReceiver(*s.Address)
		if err != nil {
			faults.Add("address", fault.Why(err), address.ReceiverAccepted)
		}
		one.Address = to
	}
	if s.Types != nil {
		types, err := webhook.ParseTypes(*s.Types)
		faults = append(faults, fault.Of(err)...)
		one.Types = types
	}
	if s.Kinds != nil {
		one.Kinds = nil
		for i, word := range *s.Kinds {
			kind, err := pace.ParseKind(word)
			if err != nil {
				faults.Add(fmt.Sprintf("kinds[%d]", i), fmt.Sprintf("%q is no kind of messages", word), fault.Words(pace.Kinds))
			}
			one.Kinds = append(one.Kinds, kind)
		}
	}
	if s.Labels != nil {
		set, err := label.New(s.Labels)
		faults = append(faults, fault.Of(err)...)
		one.Labels = set
	}
	if s.Reports != nil {
		one.Reports = store.Reports(*s.Reports)
		if !slices.Contains(store.AllReports, one.Reports) {
			faults.Add("reports", fmt.Sprintf("%q is none", *s.Reports), fault.Words(store.AllReports))
		}
	}
	if one.Reports != store.ReportsNo && strings.Contains(one.Address, "?") {
		faults.Add("address", "it holds a query string (?), and messages are to name addresses below it", "an address without one")
	}
	if s.Keys != nil {
		one.Keys = *s.Keys
	}
	if s.AtOnce != nil {
		if one.AtOnce = *s.AtOnce; one.AtOnce < 1 || one.AtOnce > atOnceMost {
			faults.Add("at_once", strconv.Itoa(one.AtOnce), fmt.Sprintf("1 to %d requests in flight", atOnceMost))
		}
	}
	if s.Timeout != nil {
		if *s.Timeout < answerLeast || *s.Timeout > answerMost {
			faults.Add("timeout", span.Format(*s.Timeout), span.Format(answerLeast)+" to "+span.Format(answerMost))
		}
		one.TimeoutMs = int(s.Timeout.Milliseconds())
	}
	if why := recordProblem(one.Receiver); why != "" {
		faults.Add("receiver", why, recordAccepted)
	}
	if faults != nil {
		return faults
	}
	return nil
}

// putReceiver seals the secrets of a receiver and writes it.
func (r *Roster) putReceiver(ctx context.Context, one *Receiver) (*Receiver, error) {
	var sealed []sealedSecret
	for _, s := range one.Secrets {
		sealed = append(sealed, sealedSecret{s.Secret.Reveal(), s.Until})
	}
	plain, err := json.Marshal(sealed) // #nosec G117 -- it is sealed in the next line but one
	if err != nil {
		return nil, fmt.Errorf("sealing the secrets of receiver %s: %w", one.Name, err)
	}
	one.SealedSecrets = r.sealer.Seal(plain, one.ID.String())
	return r.writeReceiver(ctx, one)
}

func (r *Roster) writeReceiver(ctx context.Context, one *Receiver) (*Receiver, error) {
	if err := r.store.PutReceiver(ctx, one.Receiver); err != nil {
		if errors.Is(err, store.ErrExists) {
			return nil, fault.New("name", fmt.Sprintf("there is a receiver called %s already", one.Name), "another name")
		}
		return nil, err
	}
	if err := r.Reload(ctx); err != nil {
		return nil, err
	}
	return r.Receiver(one.ID, ""), nil
}

// changing is a receiver as it is in the database, to be changed.
func (r *Roster) changing(ctx context.Context, id uuid.UUID) (*Receiver, error) {
	if err := r.Reload(ctx); err != nil {
		return nil, err
	}
	one := r.Receiver(id, "")
	if one == nil {
		return nil, store.ErrNotFound
	}
	changed := *one
	return &changed, nil
}

// ChangeReceiver changes what is set of a receiver. Its secret is replaced with [Roster.RotateSecret].
func (r *Roster) ChangeReceiver(ctx context.Context, id uuid.UUID, settings ReceiverSettings) (*Receiver, error) {
	one, err := r.changing(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := one.set(settings); err != nil {
		return nil, err
	}
	return r.writeReceiver(ctx, one)
}

// PauseReceiver lets a receiver be told of nothing until it is resumed. What happens meanwhile waits, for a day.
func (r *Roster) PauseReceiver(ctx context.Context, id uuid.UUID, by, why string, now time.Time) (*Receiver, error) {
	one, err := r.changing(ctx, id)
	if err != nil || one.PausedAt != nil {
		return one, err
	}
	one.PausedAt, one.PausedBy, one.PausedWhy = &now, by, why
	return r.writeReceiver(ctx, one)
}

// ResumeReceiver ends a pause.
func (r *Roster) ResumeReceiver(ctx context.Context, id uuid.UUID) (*Receiver, error) {
	one, err := r.changing(ctx, id)
	if err != nil || one.PausedAt == nil {
		return one, err
	}
	one.PausedAt, one.PausedBy, one.PausedWhy = nil, "", ""
	return r.writeReceiver(ctx, one)
}

// RemoveReceiver removes a receiver, and what it was still to be told.
func (r *Roster) RemoveReceiver(ctx context.Context, id uuid.UUID, now time.Time) error {
	one, err := r.changing(ctx, id)
	if err != nil {
		return err
	}
	one.RemovedAt = &now
	_, err = r.writeReceiver(ctx, one)
	return err
}

// RotateSecret gives a receiver a new secret. Events are signed with the one before, too, until overlap is over.
func (r *Roster) RotateSecret(ctx context.Context, id uuid.UUID, given string, overlap *time.Duration, now time.Time) (*Receiver, error) {
	one, err := r.changing(ctx, id)
	if err != nil {
		return nil, err
	}
	lasts := overlapUsual
	if overlap != nil {
		if lasts = *overlap; lasts < 0 || lasts > overlapMost {
			return nil, fault.New("overlap", span.Format(lasts), "0s to "+span.Format(overlapMost))
		}
	}
	secret, err := webhook.NewSecret(rand.Reader)
	if given != "" {
		secret, err = webhook.ParseSecret(given)
	}
	if err != nil {
		return nil, fault.New("secret", err.Error(), webhook.SecretAccepted)
	}
	until := now.Add(lasts)
	secrets := []Signing{{Secret: secret}}
	for _, old := range one.Secrets {
		if old.Until == nil || old.Until.After(until) {
			old.Until = &until
		}
		if old.Until.After(now) && old.Secret != secret && len(secrets) < signingAtOnce {
			secrets = append(secrets, old)
		}
	}
	one.Secrets = secrets
	return r.putReceiver(ctx, one)
}

// readReceivers reads who is to be told of what happens.
func (r *Roster) readReceivers(ctx context.Context) (all []*Receiver, flaws []Flaw, err error) {
	records, err := r.store.Receivers(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, record := range records {
		one := &Receiver{Receiver: record}
		if err := r.openSecrets(one); err != nil {
			flaws = append(flaws, Flaw{"receiver", record.Name, err.Error()})
			continue
		}
		all = append(all, one)
	}
	listening := store.Listening{Any: len(records) > 0, Reports: slices.ContainsFunc(records, func(one store.Receiver) bool {
		return one.Reports != store.ReportsNo
	})}
	r.store.Listen(listening)
	return all, flaws, nil
}

func (r *Roster) openSecrets(one *Receiver) error {
	plain, err := r.sealer.Open(one.SealedSecrets, one.ID.String())
	if err != nil {
		return err
	}
	var sealed []sealedSecret
	if err := json.Unmarshal(plain, &sealed); err != nil {
		return fmt.Errorf("the secrets of receiver %s: %w", one.Name, err)
	}
	for _, s := range sealed {
		secret, err := webhook.ParseSecret(s.Secret)
		if err != nil {
			return fmt.Errorf("the secrets of receiver %s: %w", one.Name, err)
		}
		one.Secrets = append(one.Secrets, Signing{secret, s.Until})
	}
	return nil
}
