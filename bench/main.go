// Command bench measures what Calm Pigeon can carry, and prints it beside what
// was asked for. Every figure starts on a fresh database that writes to disk
// before it answers, and what is compared is measured in the same run.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"runtime"
	"slices"
	"strings"
	"text/tabwriter"
	"time"
)

// Figure is one measured figure.
type Figure struct {
	Name  string  `json:"name"`
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
	Bound float64 `json:"bound,omitempty"`
	Ratio float64 `json:"ratio,omitempty"`
	Asked string  `json:"asked,omitempty"`
	Note  string  `json:"note,omitempty"`
}

// measure is how figures are had that belong together.
type measure struct {
	names []string
	run   func(context.Context, settings) ([]Figure, error)
}

// settings are what may be changed on the command line.
type settings struct {
	pigeon  string // the binary
	lives   int    // how many; 0: as usual
	hold    bool   // stay before everything is taken down, to look at it
	profile string // where to write the service's processor profile; empty: nowhere
	// packaged measures on a PostgreSQL as Debian sets it up, with nothing set.
	packaged bool
}

func (s settings) count(usual int) int {
	if s.lives > 0 {
		return s.lives
	}
	return usual
}

var measures = []measure{
	{[]string{"life_single", "wal_per_life", "disk_per_life", "raw_per_life"}, lifeSingle},
	{[]string{"life_list"}, lifeList},
	{[]string{"queue_single"}, queueSingle},
	{[]string{"post_committed"}, postCommitted},
	{[]string{"receipts"}, receiptsTaken},
	{[]string{"otp_p99_idle", "otp_p99_busy"}, passcodes},
	{[]string{"passcode_issue"}, passcodeIssue},
	{[]string{"pace_used", "pace_exceeded"}, paces},
	{[]string{"history_10m", "tally_10m"}, history},
	{[]string{"month_turn"}, monthTurn},
	{[]string{"statement_million", "statement_million_memory"}, statementMillion},
	{[]string{"events_out"}, eventsOut},
	{[]string{"life_told"}, livesTold},
	{[]string{"idle"}, idle},
	{[]string{"packaged_idle", "packaged_life_single", "packaged_life_list"}, onPackaged},
	{[]string{"sheet_million", "sheet_million_memory", "batch_through", "result_million", "result_million_memory"}, sheetMillion},
	{[]string{"sheet_million_xlsx", "sheet_million_xlsx_memory"}, sheetMillionXLSX},
	{[]string{"batch_pace_used", "batch_pace_exceeded", "pause_takes"}, batchPace},
	{[]string{"forecast_error"}, forecasts},
}

func main() {
	var s settings
	only := flag.String("figure", os.Getenv("FIGURE"), "measure only this one, or several with commas between")
	flag.StringVar(&s.pigeon, "pigeon", "bin/pigeon", "the binary that is measured")
	flag.IntVar(&s.lives, "n", 0, "how many messages; 0: as usual")
	flag.StringVar(&s.profile, "profile", "", "write the service's processor profile into this file")
	flag.BoolVar(&s.hold, "hold", false, "stay until Ctrl-C before the database of a figure is taken down")
	file := flag.String("file", "bench.jsonl", "where the figures are written, one a line")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, s, *only, *file); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, s settings, only, file string) error {
	wanted := strings.FieldsFunc(only, func(r rune) bool { return r == ',' || r == ' ' })
	var all []string
	for _, m := range measures {
		all = append(all, m.names...)
	}
	for _, name := range wanted {
		if !slices.Contains(all, name) {
			return fmt.Errorf("there is no figure %q; there are %s", name, strings.Join(all, ", "))
		}
	}
	out, err := os.Create(file)
	if err != nil {
		return err
	}
	defer out.Close()
	fmt.Printf("%s, %s, %d cores\n\n", time.Now().Format("2006-01-02 15:04"), runtime.Version(), runtime.NumCPU())
	table := tabwriter.NewWriter(os.Stdout, 0, 8, 3, ' ', 0)
	fmt.Fprintln(table, "figure\tmeasured\tof the bound\tasked for\t")
	var failed []error
	for _, m := range measures {
		if len(wanted) > 0 && !slices.ContainsFunc(m.names, func(name string) bool { return slices.Contains(wanted, name) }) {
			continue
		}
		began := time.Now()
		figures, err := m.run(ctx, s)
		if err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", strings.Join(m.names, ", "), err))
			fmt.Fprintln(os.Stderr, failed[len(failed)-1])
			if ctx.Err() != nil {
				break
			}
		}
		for _, f := range figures {
			ratio := ""
			if f.Ratio > 0 {
				ratio = fmt.Sprintf("%.2f of %.4g", f.Ratio, f.Bound)
			}
			fmt.Fprintf(table, "%s\t%.4g %s\t%s\t%s\t%s\n", f.Name, f.Value, f.Unit, ratio, f.Asked, f.Note)
			if err := json.NewEncoder(out).Encode(f); err != nil {
				return err
			}
		}
		table.Flush()
		fmt.Fprintf(os.Stderr, "  (%s in %s)\n", strings.Join(m.names, ", "), time.Since(began).Round(time.Second))
	}
	return errors.Join(failed...)
}
