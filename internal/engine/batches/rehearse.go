package batches

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"time"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/engine/guard"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/store"
)

const (
	// keptFor is how long a rehearsal that stands still holds its batch up.
	keptFor = 10 * time.Second
	// aheadPacks is how many packs are on their way through a rehearsal at most.
	aheadPacks = 4
)

// rehearseAll rehearses batches, one after the other, until ctx ends.
func (b *Batches) rehearseAll(ctx context.Context) {
	for {
		now := b.Now()
		one, ok, err := b.Store.KeepBatch(ctx, b.holder, now, now.Add(keptFor))
		if ok {
			err = guard.Try(func() error { return b.rehearse(ctx, one) })
		}
		if err != nil && ctx.Err() == nil && !errors.Is(err, store.ErrChanged) {
			b.Log.Error("rehearsing a batch", "batch", one.ID, "error", err)
		}
		if ok && err == nil {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-b.check:
		}
	}
}

// rehearsed is a pack on its way through a rehearsal.
type rehearsed struct {
	n    int
	rows []batch.Row
	sum  [sha256.Size]byte // of what stands in it
	// prints are the fingerprints of numbers and texts of the rows.
	prints []uint64
	err    error
}

// rehearse checks every row of a batch and adds up what they come to. Packs are worked on
// side by side, and gone through in their order.
func (b *Batches) rehearse(ctx context.Context, one store.Batch) error {
	defer beFrugal()()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	r, err := b.reading(&one)
	if err != nil { // it was checked, and has been changed since
		return b.cannot(ctx, one, fault.Why(err))
	}
	optOuts, err := b.Store.HasOptOuts(ctx)
	if err != nil {
		return err
	}
	inOrder := make(chan chan rehearsed, aheadPacks)
	go func() {
		defer close(inOrder)
		slots := make(chan struct{}, runtime.GOMAXPROCS(0))
		for n := 0; n*batch.PackRows < one.Rows && ctx.Err() == nil; n++ {
			packs, err := b.Store.BatchPacks(ctx, one.ID, n, 1, true, false)
			if err == nil && len(packs) == 0 {
				err = fmt.Errorf("pack %d of batch %s is missing", n, one.ID)
			}
			result := make(chan rehearsed, 1)
			select {
			case inOrder <- result:
			case <-ctx.Done():
				return
			}
			if err != nil {
				result <- rehearsed{err: err}
				return
			}
			slots <- struct{}{}
			go func() {
				defer func() { <-slots }()
				var p rehearsed
				if err := guard.Try(func() error { p = b.pack(ctx, r, packs[0], optOuts); return nil }); err != nil {
					p = rehearsed{err: err}
				}
				result <- p
			}()
		}
	}()
	return b.addUp(ctx, one, inOrder)
}

// addUp goes through packs in their order: numbers that stood in the list before are left
// out, all is counted, and what was found is kept.
func (b *Batches) addUp(ctx context.Context, one store.Batch, inOrder <-chan chan rehearsed) error {
	totals, content, reach := batch.NewTotals(), sha256.New(), batch.NewReach(one.Rows)
	wants, err := json.Marshal(one.Wants)
	if err != nil {
		return err
	}
	content.Write(wants)
	var numbers batch.Numbers
	var packs []store.BatchPack
	put := func() error {
		now := b.Now()
		err := b.Store.PutChecks(ctx, one.ID, b.holder, totals.Rows, now.Add(keptFor), packs)
		packs = packs[:0]
		return err
	}
	seed := uint64(one.ID[15]) | uint64(one.ID[14])<<8 | uint64(one.ID[13])<<16
	for result := range inOrder {
		p := <-result
		if p.err != nil {
			return p.err
		}
		content.Write(p.sum[:])
		checks := make([]batch.Check, len(p.rows))
		for i := range p.rows {
			row := &p.rows[i]
			if digits := row.Digits(); digits > 0 && !one.Wants.Repeats {
				if first := numbers.First(digits, row.N); first != row.N && row.Goes() {
					row.Reason, row.Say = batch.Repeated, fmt.Sprintf("the number stands in row %d already", first)
				}
			}
			if row.Goes() {
				reach.Add(p.prints[i], row.N)
			}
			totals.Add(*row, seed)
			checks[i] = row.Check
		}
		packs = append(packs, store.BatchPack{N: p.n, Checks: store.Compress(batch.AppendChecks(nil, checks))})
		if len(packs) == aheadPacks {
			if err := put(); err != nil {
				return err
			}
		}
	}
	if err := errors.Join(ctx.Err(), put(), totals.Check()); err != nil {
		return err
	}
	if totals.Rows != one.Rows {
		return fmt.Errorf("%d rows were rehearsed, and there are %d", totals.Rows, one.Rows)
	}
	now := b.Now()
	_, err = b.Store.ChangeBatch(ctx, one.ID, now, func(s *store.Store, is *store.Batch) error {
		if is.State != batch.Checking || is.Keeper == nil || *is.Keeper != b.holder {
			return store.ErrChanged
		}
		is.State, is.Totals, is.Content, is.RehearsedAt, is.Checked = batch.Rehearsed, totals, content.Sum(nil), &now, totals.Rows
		is.Keeper, is.KeptUntil = nil, nil
		return s.PutReach(ctx, one.ID, reach)
	})
	return err
}

// cannot opens a batch again that cannot be rehearsed.
func (b *Batches) cannot(ctx context.Context, one store.Batch, why string) error {
	_, err := b.Store.ChangeBatch(ctx, one.ID, b.Now(), func(_ *store.Store, is *store.Batch) error {
		is.State, is.Why = batch.Open, why
		return nil
	})
	return err
}

// pack rehearses the rows of one pack.
func (b *Batches) pack(ctx context.Context, r *rows, pack store.BatchPack, optOuts bool) rehearsed {
	p := rehearsed{n: pack.N, sum: sha256.Sum256(pack.Body)}
	read, err := batch.ReadRows(pack.Body, pack.N*batch.PackRows+1)
	if err != nil {
		p.err = err
		return p
	}
	p.rows = make([]batch.Row, len(read))
	var numbers []string
	for i := range read {
		if p.rows[i], err = b.row(r, &read[i]); err != nil {
			p.err = err
			return p
		}
		if optOuts && p.rows[i].Goes() {
			numbers = append(numbers, p.rows[i].To)
		}
	}
	p.prints = make([]uint64, len(p.rows))
	for i, row := range p.rows {
		if row.Goes() {
			p.prints[i] = batch.Fingerprint(row.To, row.Text)
		}
	}
	held, err := b.Store.OptedOut(ctx, numbers)
	if err != nil {
		p.err = err
		return p
	}
	for i := range p.rows {
		if o, ok := held[p.rows[i].To]; ok && p.rows[i].Goes() {
			p.rows[i].Reason = batch.Unwanted
			p.rows[i].Say = strings.TrimSuffix(fmt.Sprintf("opted out on %s: %s", o.Since.UTC().Format(time.DateOnly), o.Why), ": ")
		}
	}
	return p
}

// row rehearses one row.
func (b *Batches) row(r *rows, row *sheet.Row) (batch.Row, error) {
	out := batch.Row{N: row.N}
	if row.Wrong != "" {
		out.Reason, out.Say = batch.Unreadable, row.Wrong
		return out, nil
	}
	p, faults, err := b.plan(r, row)
	if err != nil {
		return out, err
	}
	out.Text = p.Text
	out.Check = checkOf(p)
	if r.timed(row) {
		out.At = p.HeldUntil
	}
	if r.own != nil || r.wants.Template == "" {
		out.Template = ""
	}
	if len(faults) > 0 {
		out.Reason, out.Say = reasonOf(p, faults)
		return out, nil
	}
	if line := p.Number.Line; line == phone.Fixed && !r.wants.FixedLines {
		if verdict, why := b.Intake.Policy.Judge(line, p.Country); verdict == sender.Careful {
			out.Reason, out.Say = batch.NoMobile, why
			return out, nil
		}
	}
	if p.Weight.Encoding == smstext.UCS2 {
		b.curable(p, &out)
	}
	return out, nil
}

// plan plans a row as a message.
func (b *Batches) plan(r *rows, row *sheet.Row) (intake.Plan, fault.Faults, error) {
	return b.planned(r, r.draft(row))
}

func (b *Batches) planned(r *rows, d intake.Draft) (intake.Plan, fault.Faults, error) {
	return b.Intake.Plan(d, smstext.Level(cmp.Or(r.wants.Cure, r.wants.KeyCure, string(smstext.Off))), intake.Whole)
}

// checkOf is what a plan came to.
func checkOf(p intake.Plan) batch.Check {
	c := batch.Check{To: p.Number.Number.String(), Country: p.Country, Sender: p.Sender.ID.String(), Kind: string(p.Kind),
		Template: p.Template, Language: p.Language, UCS2: p.Weight.Encoding == smstext.UCS2, Units: p.Weight.Units,
		Segments: p.Weight.Segments, Cured: len(p.Replaced) > 0, Warned: len(p.Warnings) > 0,
		Say: strings.Join(p.Number.Changes, "; "), Zones: strings.Join(p.TimeZones, " ")}
	if p.Gateway != nil {
		c.Gateway = p.Gateway.Name
	}
	if p.Priced {
		c.Price = p.Price
	}
	return c
}

// curable works out which characters make a text UCS-2 that could be written otherwise, and
// what that would save.
func (b *Batches) curable(p intake.Plan, row *batch.Row) {
	options := smstext.Options{}
	if p.Gateway != nil {
		options = p.Gateway.Dialect.Segments.Options()
	}
	cured, replaced := options.Cure(p.Text, smstext.Strong)
	if len(replaced) == 0 {
		return
	}
	weight, err := options.Weigh(cured)
	if err != nil || weight.Segments >= p.Weight.Segments {
		return
	}
	row.Saves = p.Weight.Segments - weight.Segments
	for _, one := range replaced {
		row.Characters = append(row.Characters, one.From)
	}
}

// reasonOf is why a row is left out, and why in words.
func reasonOf(p intake.Plan, faults fault.Faults) (batch.Reason, string) {
	first := faults[0]
	for _, f := range faults { // without a number nothing else counts
		if f.Field == "to" {
			first = f
		}
	}
	field, name, _ := strings.Cut(first.Field, ".")
	switch field {
	case "to":
		if p.Number.Number.IsValid() {
			return batch.NoMobile, first.Wrong
		}
		return batch.BadNumber, first.Wrong
	case "fields":
		return batch.BadField, fmt.Sprintf("{%s}: %s", name, first.Wrong)
	case "send_at":
		return batch.BadTime, first.Wrong
	case "sender":
		return batch.BadSender, first.Wrong
	case "gateway":
		return batch.NoRoute, first.Wrong
	case "text":
		for _, f := range p.Decision.Findings {
			if f.About == "link" && f.Verdict == sender.Refused {
				return batch.BadLink, first.Wrong
			}
		}
		if p.Weight.Segments >= intake.LongLeast {
			return batch.TooLong, first.Wrong
		}
		return batch.BadText, first.Wrong
	}
	return batch.Otherwise, first.Field + ": " + first.Wrong
}
