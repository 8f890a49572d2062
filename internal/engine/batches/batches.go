// Package batches sends one text to many: it takes lists in, rehearses them, lets their
// rows out at the pace of the gateways, and says of each what became of it.
package batches

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/label"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/engine/course"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/kit"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

// Batches looks after batches. Each instance does, and no two of them do the same at once.
type Batches struct {
	kit.Kit
	Intake *intake.Intake
	Course *course.Course
	Keeps  func(gateway uuid.UUID) bool // whether this instance keeps a gateway
	Limits

	holder uuid.UUID
	shelf  *shelf
	check  watch.Kick // there may be something to be rehearsed
	feed   watch.Kick // there may be rows to be let out
}

// Limits are what is allowed to all batches. Zero values limit nothing.
type Limits struct {
	ApproveRows int        // more messages need a second person
	ApproveCost batch.Sums // so does a higher cost
	BudgetDay   batch.Sums // what all of them may spend a day
}

// New makes it ready.
func New(k kit.Kit, in *intake.Intake, c *course.Course, keeps func(uuid.UUID) bool, l Limits) *Batches {
	return &Batches{Kit: k, Intake: in, Course: c, Keeps: keeps, Limits: l, holder: uuid.New(), shelf: newShelf(),
		check: watch.NewKick(), feed: watch.NewKick()}
}

// Run rehearses and lets out until ctx ends.
func (b *Batches) Run(ctx context.Context) {
	var parts sync.WaitGroup
	parts.Go(func() { b.rehearseAll(ctx) })
	parts.Go(func() { b.feedAll(ctx) })
	parts.Wait()
}

// Wake lets it look whether there is something to be rehearsed or let out.
func (b *Batches) Wake(toCheck, atWork bool) {
	if toCheck {
		b.check.Now()
	}
	if atWork {
		b.feed.Now()
	}
}

const nameMost = 100 // characters

// ErrSame is returned for a launch to people most of whom got the same text of late.
var ErrSame = errors.New("most of these people would get the same text again")

// Create begins a batch that takes rows.
func (b *Batches) Create(ctx context.Context, key store.Key, name string, wants batch.Wants) (store.Batch, error) {
	now := b.Now()
	var faults fault.Faults
	name = strings.TrimSpace(name)
	if n := utf8.RuneCountInString(name); n > nameMost || !utf8.ValidString(name) || strings.ContainsRune(name, 0) {
		faults.Add(
			"name",
			fmt.Sprintf("%d characters, or characters that cannot be kept", n),
			fmt.Sprintf("at most %d characters", nameMost),
		)
	}
	wants.KeyLabels, wants.KeyCure = key.Labels, key.Cure
	if err := b.labelled(ctx, key.ID, &wants, &faults); err != nil {
		return store.Batch{}, err
	}
	b.wanted(wants, &faults)
	if faults != nil {
		return store.Batch{}, faults
	}
	one := store.Batch{ID: store.IDAt(now), KeyID: key.ID, ByWhom: key.Name, Name: name, State: batch.Open, Wants: wants,
		CreatedAt: now, ChangedAt: now}
	return one, b.Store.AddBatch(ctx, &one)
}

// labelled works out the labels of a batch, and checks them.
func (b *Batches) labelled(ctx context.Context, key uuid.UUID, w *batch.Wants, faults *fault.Faults) error {
	labels, err := w.KeyLabels.With(w.Labels)
	if err != nil {
		*faults = append(*faults, fault.Of(err)...)
		return nil
	}
	fit, err := b.Store.LabelsFit(ctx, key, labels)
	if w.AllLabels = labels; !fit {
		w.AllLabels = label.Other
	}
	return err
}

// wanted checks what a batch sends, as far as that can be told without its rows.
func (b *Batches) wanted(w batch.Wants, faults *fault.Faults) {
	book := b.Roster.Book()
	switch {
	case w.Text != "" && w.Template != "":
		faults.Add("text", "there is a text and a template", "one of the two")
	case w.Template != "":
		if _, ok := book.Template(w.Template); !ok {
			faults.Add("template", fmt.Sprintf("%q is not a template here", w.Template), "one that is stored; see: pigeon template list")
		}
	}
	if w.Kind != "" {
		if kind, err := pace.ParseKind(w.Kind); err != nil || kind == pace.OTP {
			faults.Add("kind", fmt.Sprintf("%q is no kind of a batch", w.Kind), "bulk or transactional; passcodes go one by one")
		}
	}
	if w.ValidFor != "" {
		if d, err := span.Parse(w.ValidFor); err != nil || d < time.Second || d > intake.ValidMost {
			faults.Add("valid_for", fmt.Sprintf("%q is out of range", w.ValidFor),
				fmt.Sprintf("%s, at most %s", span.Accepted, span.Format(intake.ValidMost)))
		}
	}
	if w.Cure != "" {
		if _, err := smstext.ParseLevel(w.Cure); err != nil {
			faults.Add("cure", fmt.Sprintf("%q is no level", w.Cure), "off, safe or strong")
		}
	}
	if w.Gateway != "" && b.Roster.ByName(w.Gateway) == nil {
		faults.Add("gateway", fmt.Sprintf("%q is not a gateway here", w.Gateway), "one that was added; see: pigeon gateway list")
	}
	if _, err := textOf(w); err != nil {
		faults.Add("text", fault.Why(err), "text with fields such as {name} or {name|there}, and {{ and }} for braces")
	}
}

// Change makes a batch send something else, or takes its columns for something else. What
// was rehearsed is to be rehearsed anew.
func (b *Batches) Change(
	ctx context.Context,
	id uuid.UUID,
	change func(name *string, w *batch.Wants, columns []batch.Column) error,
) (store.Batch, error) {
	return b.Store.ChangeBatch(ctx, id, b.Now(), func(_ *store.Store, one *store.Batch) error {
		if one.State.Launched() {
			return notNow(one, "it can be changed until it is launched")
		}
		labels, cure := one.Wants.KeyLabels, one.Wants.KeyCure
		if err := change(&one.Name, &one.Wants, one.Found.Columns); err != nil {
			return err
		}
		one.Wants.KeyLabels, one.Wants.KeyCure = labels, cure
		var faults fault.Faults
		if err := b.labelled(ctx, one.KeyID, &one.Wants, &faults); err != nil {
			return err
		}
		if b.wanted(one.Wants, &faults); faults != nil {
			return faults
		}
		if one.State != batch.Open {
			one.State, one.Totals, one.RehearsedAt = batch.Open, nil, nil
		}
		one.Keeper, one.KeptUntil, one.Why = nil, nil, ""
		return nil
	})
}

// notNow is the error of what cannot be done with a batch as it is.
func notNow(b *store.Batch, say string) error {
	return fault.Because(store.ErrNotNow, "batch %s is %s; %s", cmp.Or(b.Name, b.ID.String()), b.State, say)
}

// Rehearse has a batch rehearsed that has its rows. Nobody waits for it here.
func (b *Batches) Rehearse(ctx context.Context, id uuid.UUID) (store.Batch, error) {
	if len(b.Roster.All()) == 0 { // it would be waited for until there is one
		return store.Batch{}, intake.ErrNoGateway
	}
	one, err := b.Store.ChangeBatch(ctx, id, b.Now(), func(_ *store.Store, one *store.Batch) error {
		if one.State.Launched() {
			return notNow(one, "it can be rehearsed until it is launched")
		}
		var faults fault.Faults
		if one.Rows == 0 {
			faults.Add("rows", "there are none", "at least one row")
		}
		b.fits(one, &faults)
		if faults != nil {
			return faults
		}
		if err := b.word(&one.Wants); err != nil {
			return err
		}
		one.State, one.Why, one.Totals, one.Checked, one.RehearsedAt = batch.Checking, "", nil, 0, nil
		one.Keeper, one.KeptUntil = nil, nil
		return nil
	})
	if err == nil {
		b.check.Now()
	}
	return one, err
}
