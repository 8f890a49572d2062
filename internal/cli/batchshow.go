package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/phone"
)

// reasonWord says why rows are left out.
func reasonWord(reason string) string {
	words := map[batch.Reason]string{
		batch.Unreadable: "cells that cannot be told apart", batch.BadNumber: "no number", batch.NoMobile: "a line that takes no texts",
		batch.Repeated: "the number stands there before", batch.Unwanted: "opted out", batch.NoRoute: "no gateway takes it",
		batch.BadSender: "the country does not take the sender", batch.BadField: "a field is missing or wrong", batch.TooLong: "too long",
		batch.BadLink: "a link where none may be", batch.BadText: "the text cannot go",
		batch.BadTime: "a time that is none, or over", batch.Otherwise: "something else",
	}
	return cmp.Or(words[batch.Reason(reason)], reason)
}

// printBatch shows a batch: what was rehearsed, and what has become of it.
func (a *app) printBatch(cmd *cobra.Command, one client.Batch) error {
	if a.config.GetString("output") != "table" {
		return a.printStanding(cmd, one)
	}
	out := cmd.OutOrStdout()
	if one.LaunchedAt != nil {
		a.writeStanding(out, one)
		return nil
	}
	fmt.Fprintf(out, "Batch %s  %s, %s\n", brief(one.ID), cmp.Or(one.Wants.Name, "without a name"), one.State)
	if one.Totals == nil {
		fmt.Fprintf(out, "%s; not rehearsed yet: pigeon batch rehearse %s\n", counted(one.Rows, "row"), brief(one.ID))
		return nil
	}
	a.writeTotals(out, one)
	return nil
}

// writeTotals shows what a rehearsal came to.
func (a *app) writeTotals(out io.Writer, one client.Batch) {
	t := one.Totals
	fmt.Fprintf(out, "\n%s = %s to send + %s left out\n", thousands(t.Rows)+rowsWord(t.Rows), thousands(t.Goes), thousands(t.Rows-t.Goes))
	for _, part := range t.Left {
		fmt.Fprintf(out, "  %9s  %s (--left-out %s)\n", thousands(part.Rows), reasonWord(part.Name), part.Name)
	}
	if t.Goes == 0 {
		return
	}
	fmt.Fprintf(out, "\n%s, %s", segments(t.Segments), moneyWords(t.Cost))
	if t.Unpriced > 0 {
		fmt.Fprintf(out, " (of %s the price is not known)", counted(t.Unpriced, "message"))
	}
	fmt.Fprintln(out)
	for _, n := range []struct {
		n   int
		say string
	}{
		{t.Changed, "numbers are written otherwise than they stand there"},
		{t.Cured, "texts had characters replaced"},
		{t.Warned, "rows go with a warning"},
	} {
		if n.n > 0 {
			fmt.Fprintf(out, "  %9s  %s\n", thousands(n.n), n.say)
		}
	}
	if t.Curable.Segments > 0 {
		var characters []string
		for _, c := range t.Characters[:min(len(t.Characters), 6)] {
			characters = append(characters, fmt.Sprintf("%q ×%d", c.Name, c.Rows))
		}
		fmt.Fprintf(out, "  %9s  segments and %s would be saved by replacing characters (--cure %s): %s\n", thousands(t.Curable.Segments),
			moneyWords(t.Curable.Cost), t.Curable.Name, strings.Join(characters, ", "))
	}
	for _, table := range []struct {
		head  string
		parts []client.BatchPart
	}{{"country", t.Countries}, {"gateway", t.Gateways}, {"sender", t.Senders}, {"encoding", t.Encodings}, {"segments", t.Lengths}} {
		writeParts(out, table.head, table.parts)
	}
	fmt.Fprintln(out, "\nAs some of them will arrive:")
	width := widthOf(out)
	for _, s := range t.Random[:min(len(t.Random), 3)] {
		line := fmt.Sprintf("  row %-6d %s  %s", s.Row, s.To, flat(s.Text))
		if width > 0 {
			line = runewidth.Truncate(line, width, "…")
		}
		fmt.Fprintln(out, line)
	}
}

// partsMost is how many parts are shown by themselves.
const partsMost = 12

func writeParts(out io.Writer, head string, parts []client.BatchPart) {
	costs := ""
	if slices.ContainsFunc(parts, func(p client.BatchPart) bool { return len(p.Cost) > 0 }) {
		costs = "  cost"
	}
	fmt.Fprintf(out, "\n  %-14s %9s %9s%s\n", head, "messages", "segments", costs)
	for i, p := range parts {
		if i == partsMost && len(parts) > partsMost+1 {
			n, s := 0, 0
			for _, rest := range parts[i:] {
				n, s = n+rest.Rows, s+rest.Segments
			}
			fmt.Fprintf(out, "  %-14s %9s %9s\n", fmt.Sprintf("%d others", len(parts)-i), thousands(n), thousands(s))
			return
		}
		cost := ""
		if len(p.Cost) > 0 {
			cost = moneyWords(p.Cost)
		}
		fmt.Fprintln(
			out,
			strings.TrimRight(fmt.Sprintf("  %-14s %9s %9s  %s", p.Name, thousands(p.Rows), thousands(p.Segments), cost), " "),
		)
	}
}

func rowsWord(n int) string {
	if n == 1 {
		return " row"
	}
	return " rows"
}

// thousands writes a number with commas.
func thousands[N int | int64](n N) string {
	digits := fmt.Sprint(n)
	for at := len(digits) - 3; at > 0; at -= 3 {
		digits = digits[:at] + "," + digits[at:]
	}
	return digits
}

// moneyWords adds up amounts in words.
func moneyWords(all []client.Money) string {
	if len(all) == 0 {
		return "no price known"
	}
	words := make([]string, len(all))
	for i, m := range all {
		words[i] = m.String()
	}
	return strings.Join(words, " + ")
}

// printStanding shows where a batch stands.
func (a *app) printStanding(cmd *cobra.Command, one client.Batch) error {
	if a.config.GetString("output") == "table" {
		a.writeStanding(cmd.OutOrStdout(), one)
		return nil
	}
	head := []string{"id", "name", "state", "why", "rows", "go", "left out"}
	row := []string{one.ID, one.Wants.Name, one.State, one.Why, fmt.Sprint(one.Rows), "", ""}
	if one.Totals != nil {
		row[5], row[6] = fmt.Sprint(one.Totals.Goes), fmt.Sprint(one.Rows-one.Totals.Goes)
	}
	if one.Tally != nil {
		for _, state := range delivery.States {
			head, row = append(head, string(state)), append(row, fmt.Sprint(one.Tally.States[string(state)]))
		}
	}
	return a.print(cmd, one, head, [][]string{row})
}

// writeStanding shows where a launched batch stands.
func (a *app) writeStanding(out io.Writer, one client.Batch) {
	head := fmt.Sprintf("Batch %s  %s, %s", brief(one.ID), cmp.Or(one.Wants.Name, "without a name"), one.State)
	if one.Why != "" {
		head += ": " + one.Why
	}
	fmt.Fprintln(out, head)
	if one.Tally == nil {
		return
	}
	fmt.Fprintf(
		out,
		"%s rows = %s accepted + %s left out\n",
		thousands(one.Rows),
		thousands(one.Tally.Total),
		thousands(int64(one.Rows)-one.Tally.Total),
	)
	fmt.Fprintln(out, one.Tally.Equation)
	if one.Totals != nil {
		spent := "nothing"
		if len(one.Spent) > 0 {
			spent = moneyWords(one.Spent)
		}
		fmt.Fprintf(out, "%s so far, of %s; %s of %s segments\n", spent, moneyWords(one.Totals.Cost), thousands(one.Segments),
			thousands(one.Totals.Segments))
	}
	if l := one.Launch; l != nil {
		for _, part := range []struct{ say, value string }{
			{"pace", l.Pace}, {"evenly", a.maybe(l.Evenly)}, {"scouts", l.Scouts},
			{"starts", a.maybe(l.StartsAt)}, {"until", a.maybe(l.Until)}, {"forecast", a.maybe(l.Foreseen)}, {"budget", l.Budget},
		} {
			if part.value != "" {
				fmt.Fprintf(out, "%-8s %s\n", part.say, part.value)
			}
		}
	}
	if one.Launch != nil && one.Launch.Approval != "" {
		fmt.Fprintf(out, "With another key than it was launched with: pigeon batch approve %s\n", brief(one.ID))
	}
	for _, w := range one.Waits {
		fmt.Fprintf(out, "%s for %s\n", waiting(w.Rows), a.awaited(w, one.ID))
	}
	for _, act := range one.Acts[max(0, len(one.Acts)-5):] {
		fmt.Fprintf(out, "%s  %s%s\n", a.at(act.At), act.Act, by(act.By))
	}
	for _, f := range one.Failures[:min(len(one.Failures), 8)] {
		fmt.Fprintf(out, "  %9s  %s %s  %s\n", thousands(f.N), shape(f.State), strings.TrimSpace(f.State+" "+f.Cause), f.Advice)
	}
}

// waiting says that rows wait.
func waiting(rows int) string {
	if rows == 1 {
		return "1 row waits"
	}
	return thousands(rows) + " rows wait"
}

// awaited says what rows wait for.
func (a *app) awaited(w client.BatchWait, id string) string {
	until := ""
	if w.Until != nil {
		until = " at " + a.at(*w.Until)
	}
	switch w.For {
	case "scouts":
		return "the scouts: pigeon batch release " + brief(id)
	case "start":
		return "its start" + until
	case "quiet_hours":
		return "the end of quiet hours in " + phone.CountryName(w.Country) + until
	}
	return "times of their own"
}

// by says who did something.
func by(who string) string {
	if who == "" {
		return ""
	}
	return ", by " + who
}

func (a *app) maybe(t *time.Time) string {
	if t == nil {
		return ""
	}
	return a.at(*t)
}

func (a *app) batchWatch() *cobra.Command {
	var patience time.Duration
	cmd := &cobra.Command{
		Use:   "watch BATCH",
		Short: "Watch a batch until it has come to its end",
		Long: "Shows how far a batch is, once a second: in place on a terminal, a line each time that\n" +
			"something has changed elsewhere.\n\n" + exitHelp,
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			one, err := c.Batch(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.watchBatch(cmd, c, one, patience)
		}),
	}
	spanVar(cmd.Flags(), &patience, "timeout", 24*time.Hour, "how long to watch at most")
	return cmd
}

// watchBatch watches a batch until its end, and ends with the code that matches it.
func (a *app) watchBatch(cmd *cobra.Command, c *client.Client, one client.Batch, patience time.Duration) error {
	if one.LaunchedAt == nil {
		return usagef("batch %s was not launched: pigeon batch launch %s", brief(one.ID), brief(one.ID))
	}
	ctx, cancel := context.WithTimeout(cmd.Context(), patience)
	defer cancel()
	w := &watching{out: cmd.ErrOrStderr(), status: statusOn(cmd.ErrOrStderr())}
	for {
		if w.status.on() && time.Since(w.foretold) >= foretellEvery && one.State == string(batch.Running) {
			w.foretold = time.Now()
			w.forecast = nil
			if f, err := c.ForecastBatch(ctx, one.ID, client.Launch{}); err == nil && f.EndsAt != nil {
				w.forecast = f.EndsAt
			}
			if course, err := c.BatchCourse(ctx, one.ID); err == nil {
				w.took(course)
			}
		}
		w.show(a, one)
		if one.FinishedAt != nil {
			break
		}
		select {
		case <-ctx.Done():
			if cmd.Context().Err() == nil {
				fmt.Fprintf(cmd.ErrOrStderr(), "It has not come to its end in %s.\n", patience)
				return exit(exitTimeout)
			}
			return ctx.Err()
		case <-time.After(time.Second):
		}
		next, err := c.Batch(ctx, one.ID)
		var problem *client.Problem
		if err == nil {
			one = next
		} else if errors.As(err, &problem) && problem.Status < 500 {
			return err
		}
	}
	w.status.clear()
	if err := a.printStanding(cmd, one); err != nil {
		return err
	}
	switch states := one.Tally.States; {
	case states["delivered"] == one.Tally.Total:
		return nil
	case states["unknown"] > 0 && failedOf(one) == states["unknown"]:
		return exit(exitUnknown)
	}
	return exit(exitNotThere)
}

// watching shows a batch as it goes.
type watching struct {
	out    io.Writer
	status *status
	last   string
	seen   []seenAt

	rates    []float64  // since a while
	limit    float64    // messages a second
	forecast *time.Time // its end
	foretold time.Time
}

type seenAt struct {
	at   time.Time
	gone int64
}

const (
	// rateOver is how long a rate is taken over.
	rateOver = 5 * time.Second
	// foretellEvery is how often the end is forecast anew.
	foretellEvery = 5 * time.Second
)

func (w *watching) show(a *app, one client.Batch) {
	now := time.Now()
	gone := one.Tally.Total - one.Tally.States["held"] - one.Tally.States["queued"]
	w.seen = append(w.seen, seenAt{now, gone})
	w.seen = slices.DeleteFunc(w.seen, func(s seenAt) bool { return now.Sub(s.at) > rateOver })
	rate := 0.0
	if first := w.seen[0]; now.Sub(first.at) > 500*time.Millisecond {
		rate = float64(gone-first.gone) / now.Sub(first.at).Seconds()
	}
	line := fmt.Sprintf("%s  %s  %s", now.Format("15:04:05"), one.State, one.Tally.Equation)
	if !w.status.on() {
		if one.Tally.Equation+one.State != w.last {
			w.last = one.Tally.Equation + one.State
			fmt.Fprintln(w.out, line)
		}
		return
	}
	width := max(widthOf(w.out), 40)
	var text strings.Builder
	fmt.Fprintf(&text, "%s  %s\n", bar(one.Tally, min(width-12, 60)), share(gone, one.Tally.Total))
	a.writeStanding(&text, one)
	if one.State == string(batch.Running) {
		words := []string{strings.TrimSpace(fmt.Sprintf("%.0f a second %s", rate, w.spark()))}
		if w.limit > 0 {
			words[0] += fmt.Sprintf(" of at most %.4g", w.limit)
		}
		if w.forecast != nil {
			words = append(words, "ends at "+a.at(*w.forecast))
		}
		if l := one.Launch; l.Foreseen != nil {
			words = append(words, "at its launch that was forecast for "+a.at(*l.Foreseen))
		}
		fmt.Fprintln(&text, strings.Join(words, "; "))
	}
	w.status.show(text.String())
}

// sparkMost is how many rates are drawn beside each other.
const sparkMost = 40

// took takes the rates of a course.
func (w *watching) took(course client.BatchCourse) {
	w.limit, w.rates = course.PerSecond, nil
	for i := 1; i < len(course.Points); i++ {
		p, before := course.Points[i], course.Points[i-1]
		w.rates = append(w.rates, float64(p.Gone-before.Gone)/max(p.At.Sub(before.At).Seconds(), 0.1))
	}
	w.rates = w.rates[max(0, len(w.rates)-sparkMost):]
}

// spark draws the rates as one line.
func (w *watching) spark() string {
	if len(w.rates) < 3 {
		return ""
	}
	return chart(w.rates, max(slices.Max(w.rates), w.limit), 1, "")[0]
}

// bar cuts a bar into what is settled, on its way and waiting.
func bar(t *client.Tally, width int) string {
	if t.Total == 0 {
		return strings.Repeat("·", width)
	}
	waiting := t.States["held"] + t.States["queued"]
	way := t.States["sending"] + t.States["accepted"] + t.States["enroute"] + t.States["doubtful"]
	cells := func(n int64) int { return int(n * int64(width) / t.Total) }
	settled := width - cells(waiting) - cells(way)
	return strings.Repeat("█", settled) + strings.Repeat("▒", cells(way)) + strings.Repeat("·", cells(waiting))
}

func share(n, of int64) string {
	if of == 0 {
		return ""
	}
	return fmt.Sprintf("%d%%", n*100/of)
}
