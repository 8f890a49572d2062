package cli

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/delivery"
)

func (a *app) batchCompare() *cobra.Command {
	return &cobra.Command{
		Use:   "compare BATCH BATCH",
		Short: "Put two batches side by side: what they were to be, and what became of them",
		Args:  cobra.ExactArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			var both [2]client.Batch
			for i, id := range args {
				var err error
				if both[i], err = c.Batch(cmd.Context(), id); err != nil {
					return err
				}
			}
			var rows [][]string
			for _, f := range batchFacts(a, both) {
				if x, y := f.of(both[0]), f.of(both[1]); x != "" || y != "" {
					rows = append(rows, []string{f.name, x, y})
				}
			}
			return a.print(cmd, both, []string{"what", brief(both[0].ID), brief(both[1].ID)}, rows)
		}),
	}
}

// batchFact is what is told of a batch, beside another's.
type batchFact struct {
	name string
	of   func(client.Batch) string
}

func batchFacts(a *app, both [2]client.Batch) []batchFact {
	total := func(of func(*client.BatchTotals) string) func(client.Batch) string {
		return func(b client.Batch) string {
			if b.Totals == nil {
				return ""
			}
			return of(b.Totals)
		}
	}
	facts := []batchFact{
		{"name", func(b client.Batch) string { return b.Wants.Name }},
		{"state", func(b client.Batch) string { return b.State }},
		{"text", func(b client.Batch) string { return flat(cmp.Or(b.Wants.Text, "template "+b.Wants.Template)) }},
		{"rows", func(b client.Batch) string { return thousands(b.Rows) }},
		{"to send", total(func(t *client.BatchTotals) string { return thousands(t.Goes) })},
		{"left out", total(func(t *client.BatchTotals) string { return thousands(t.Rows - t.Goes) })},
		{"segments", total(func(t *client.BatchTotals) string { return thousands(t.Segments) })},
		{"estimate", total(func(t *client.BatchTotals) string { return moneyWords(t.Cost) })},
		{"spent", func(b client.Batch) string {
			if b.Tally == nil {
				return ""
			}
			return moneyWords(b.Spent)
		}},
		{"launched", func(b client.Batch) string { return a.maybe(b.LaunchedAt) }},
		{"took", func(b client.Batch) string {
			if b.LaunchedAt == nil || b.FinishedAt == nil {
				return ""
			}
			return lasting(b.FinishedAt.Sub(*b.LaunchedAt).Round(100 * time.Millisecond))
		}},
	}
	for _, state := range delivery.States {
		facts = append(facts, batchFact{string(state), func(b client.Batch) string {
			if b.Tally == nil || b.Tally.States[string(state)] == 0 {
				return ""
			}
			n := b.Tally.States[string(state)]
			return fmt.Sprintf("%s (%.1f%%)", thousands(n), 100*float64(n)/float64(b.Tally.Total))
		}})
	}
	var causes []string
	for _, b := range both {
		for _, f := range b.Failures {
			if f.Cause != "" && !slices.Contains(causes, f.Cause) {
				causes = append(causes, f.Cause)
			}
		}
	}
	slices.Sort(causes)
	for _, cause := range causes {
		facts = append(facts, batchFact{"cause " + cause, func(b client.Batch) string {
			n := int64(0)
			for _, f := range b.Failures {
				if f.Cause == cause {
					n += f.N
				}
			}
			if n == 0 {
				return ""
			}
			return thousands(n)
		}})
	}
	return facts
}
