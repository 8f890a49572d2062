package api

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

func wantsOf(w client.BatchWants) batch.Wants {
	return batch.Wants{
		Text:       w.Text,
		Template:   w.Template,
		Sender:     w.Sender,
		Kind:       w.Kind,
		Gateway:    w.Gateway,
		ValidFor:   string(w.ValidFor),
		Country:    strings.ToUpper(w.Country),
		Language:   w.Language,
		Cure:       w.Cure,
		Flash:      w.Flash,
		Long:       w.Long,
		AtAnyHour:  w.AtAnyHour,
		SendAt:     w.SendAt,
		OwnTimes:   w.OwnTimes,
		FixedLines: w.FixedLines,
		Repeats:    w.Repeats,
		Labels:     w.Labels,
	}
}

// wireWants is what a batch sends, as the API gives it.
func wireWants(name string, w batch.Wants) client.BatchWants {
	return client.BatchWants{
		Name:       name,
		Text:       w.Text,
		Template:   w.Template,
		Sender:     w.Sender,
		Kind:       cmp.Or(w.Kind, string(pace.Bulk)),
		Gateway:    w.Gateway,
		ValidFor:   client.Span(w.ValidFor),
		Country:    w.Country,
		Language:   w.Language,
		Cure:       cmp.Or(w.Cure, w.KeyCure),
		Flash:      w.Flash,
		Long:       w.Long,
		AtAnyHour:  w.AtAnyHour,
		SendAt:     w.SendAt,
		OwnTimes:   w.OwnTimes,
		FixedLines: w.FixedLines,
		Repeats:    w.Repeats,
		Labels:     labelsOf(w.Labels),
	}
}

// labelsOf is labels as the API gives them.
func labelsOf(labels map[string]string) map[string]string {
	if labels == nil {
		return map[string]string{}
	}
	return labels
}

// wireBatch is a batch as the API gives it, without what is counted.
func wireBatch(b store.Batch) client.Batch {
	w := client.Batch{
		ID:         b.ID.String(),
		State:      string(b.State),
		Why:        b.Why,
		By:         b.ByWhom,
		Wants:      wireWants(b.Name, b.Wants),
		File:       b.Found.File,
		Recognised: b.Found.Said,
		Rows:       b.Rows,
		Checked:    b.Checked,
		Failures:   []client.Failure{},
		Spent:      []client.Money{},
		Through:    []client.Through{},
		Acts:       []client.BatchAct{},
		Waits:      []client.BatchWait{},
		CreatedAt:  b.CreatedAt,
		ChangedAt:  b.ChangedAt,
		LaunchedAt: b.LaunchedAt,
		FinishedAt: b.FinishedAt,
	}
	w.Columns = wireColumns(b.Found.Columns)
	if b.Totals != nil {
		w.Totals = wireTotals(b.Totals)
	}
	if b.LaunchedAt != nil {
		l := client.Launched{By: b.Launch.By, Approval: b.Launch.Approval}
		l.Pace, l.Seed, l.Budget = b.Pace().String(), b.Launch.Seed, b.Launch.Budget.String()
		if !b.Launch.StartsAt.IsZero() {
			l.StartsAt = &b.Launch.StartsAt
		}
		if !b.Launch.Until.IsZero() {
			l.Until = &b.Launch.Until
		}
		if !b.Launch.Evenly.IsZero() {
			l.Evenly = &b.Launch.Evenly
		}
		if !b.Launch.Foreseen.IsZero() {
			l.Foreseen = &b.Launch.Foreseen
		}
		l.Guard = &client.Guard{
			Failures: b.Launch.Guard.Failures,
			Cause:    b.Launch.Guard.Cause,
			Doubt:    b.Launch.Guard.Doubt,
			Cost:     b.Launch.Guard.Cost,
		}
		if wait := b.Launch.ScoutsWait; wait.After > 0 {
			l.ScoutsAfter, l.ScoutsLeast = client.Span(span.Format(wait.After)), wait.Least
		}
		if b.Launch.Scouts > 0 {
			l.Scouts = strconv.Itoa(b.Launch.Scouts)
		}
		w.Launch = &l
	}
	return w
}

func moneyOf(sums batch.Sums) []client.Money {
	all := []client.Money{}
	for _, m := range sums.Money() {
		all = append(all, *explain.Money(m, true))
	}
	return all
}

func wireTotals(t *batch.Totals) *client.BatchTotals {
	w := &client.BatchTotals{
		Rows: t.Rows, Goes: t.Goes, Segments: t.Segments, Warned: t.Warned, Cured: t.Cured, Changed: t.Changed, Unpriced: t.Unpriced,
		Cost: moneyOf(t.Micros), Left: []client.BatchPart{}, Countries: parts(t.ByCountry), Gateways: parts(t.ByGateway),
		Senders: parts(t.BySender), Encodings: parts(t.ByEncoding), Lengths: []client.BatchPart{}, Characters: []client.BatchPart{},
		Curable: client.BatchPart{
			Name:     string(smstext.Strong),
			Rows:     t.Curable.Rows,
			Segments: t.Curable.Segments,
			Cost:     moneyOf(t.Curable.Micros),
		},
		Dearest: samples(t.Dearest), Longest: samples(t.Longest), Random: samples(t.Random),
	}
	for _, reason := range batch.Reasons {
		if n := t.Left[reason]; n > 0 {
			w.Left = append(w.Left, client.BatchPart{Name: string(reason), Rows: n, Cost: []client.Money{}})
		}
	}
	for _, n := range slices.Sorted(maps.Keys(t.BySegments)) {
		w.Lengths = append(
			w.Lengths,
			client.BatchPart{Name: strconv.Itoa(n), Rows: t.BySegments[n], Segments: n * t.BySegments[n], Cost: []client.Money{}},
		)
	}
	for _, character := range slices.SortedFunc(maps.Keys(t.Characters), func(a, b string) int {
		return cmp.Or(cmp.Compare(t.Characters[b], t.Characters[a]), cmp.Compare(a, b))
	}) {
		w.Characters = append(w.Characters, client.BatchPart{Name: character, Rows: t.Characters[character], Cost: []client.Money{}})
	}
	return w
}

// parts lists what rows come to by something, the most first.
func parts(by map[string]batch.Part) []client.BatchPart {
	all := []client.BatchPart{}
	for name, p := range by {
		all = append(all, client.BatchPart{Name: name, Rows: p.Rows, Segments: p.Segments, Cost: moneyOf(p.Micros)})
	}
	slices.SortFunc(all, func(a, b client.BatchPart) int {
		return cmp.Or(cmp.Compare(b.Rows, a.Rows), cmp.Compare(a.Name, b.Name))
	})
	return all
}

func samples(shown []batch.Shown) []client.BatchSample {
	all := []client.BatchSample{}
	for _, s := range shown {
		one := client.BatchSample{Row: s.Row, To: s.To, Text: s.Text, Segments: s.Segments}
		if s.Currency != "" {
			one.Price = explain.Money(price.Of(s.Micros, s.Currency), true)
		}
		all = append(all, one)
	}
	return all
}

// counted is a batch with what has become of its rows.
func (a *API) counted(b store.Batch, counts []store.BatchCount) client.Batch {
	w := wireBatch(b)
	if b.First == nil {
		return w
	}
	var tally delivery.Tally
	spent := batch.Sums{}
	through := map[string]map[string]int64{}
	failures := map[[2]string]int64{}
	for _, n := range counts {
		tally.Add(n.State, n.N)
		if n.Waiting {
			w.Waiting += n.N
		}
		name := a.gatewayName(n.Gateway)
		if through[name] == nil {
			through[name] = map[string]int64{}
		}
		through[name][string(n.State)] += n.N
		if went(n.State) && n.Currency != "" {
			spent[n.Currency] += n.Micros
		}
		if n.State.Final() && n.State != delivery.Delivered {
			failures[[2]string{string(n.State), string(n.Cause)}] += n.N
		}
	}
	w.Tally, w.Spent = wireTally(tally), moneyOf(spent)
	for _, name := range slices.Sorted(maps.Keys(through)) {
		w.Through = append(w.Through, client.Through{Gateway: name, States: through[name]})
	}
	for key, n := range failures {
		w.Failures = append(w.Failures, client.Failure{State: key[0], Cause: key[1], N: n, Advice: delivery.Cause(key[1]).Advice().Text})
	}
	slices.SortFunc(w.Failures, func(x, y client.Failure) int {
		return cmp.Or(cmp.Compare(y.N, x.N), cmp.Compare(x.State+x.Cause, y.State+y.Cause))
	})
	return w
}

// went reports whether a message in the state has been paid for, as far as that is known.
func went(s delivery.State) bool {
	switch s {
	case delivery.Held, delivery.Queued, delivery.Rejected, delivery.Cancelled:
		return false
	}
	return true
}
