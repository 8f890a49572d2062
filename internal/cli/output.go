package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/sheet"
)

// shape is the small mark beside a state's word: an open ring that fills as
// the message advances, a dot for what arrived, and so on.
func shape(state string) string {
	switch state {
	case "held":
		return "‖"
	case "queued":
		return "○"
	case "sending":
		return "◔"
	case "accepted":
		return "◑"
	case "enroute":
		return "◕"
	case "delivered":
		return "●"
	case "doubtful":
		return "◌"
	case "unknown":
		return "□"
	}
	return "⊗"
}

// stateWord is a state with its shape; those that are contested, weakly known or decided say so.
func stateWord(m client.Message) string {
	word := shape(m.State) + " " + m.State
	switch {
	case len(m.Rivals) > 1:
		word += " (contested)"
	case m.Weak:
		word += " (weak)"
	case m.Decided:
		word += " (decided)"
	}
	return word
}

// print writes a result in the form that was asked for: value as JSON, or rows
// under a head as table or CSV.
func (a *app) print(cmd *cobra.Command, value any, head []string, rows [][]string) error {
	return a.printGrid(cmd, value, grid{head: head, rows: rows})
}

func (a *app) printGrid(cmd *cobra.Command, value any, s grid) error {
	out := cmd.OutOrStdout()
	output := a.config.GetString("output")
	if output == "json" {
		encoder := json.NewEncoder(out)
		encoder.SetIndent("", "  ")
		encoder.SetEscapeHTML(false)
		return encoder.Encode(value)
	}
	columns := a.columns
	if columns == nil && output == "table" {
		columns = s.usual
	}
	if columns != nil {
		all := s.head
		var unknown []string
		// It is no error: what was asked for has been done by now.
		if s, unknown = s.chosen(columns); len(unknown) > 0 {
			fmt.Fprintf(cmd.ErrOrStderr(), "There is no column %s; there are %s.\n", strings.Join(unknown, ", "), strings.Join(all, ", "))
		}
	}
	if output == "csv" {
		w := csv.NewWriter(out)
		if !s.goesOn {
			w.Write(s.head)
		}
		for _, r := range s.rows {
			cells := make([]string, len(r))
			for i, cell := range r {
				cells[i] = sheet.Defused(cell)
			}
			w.Write(cells)
		}
		w.Flush()
		return w.Error()
	}
	if leftOut := s.write(out, widthOf(out)); len(leftOut) > 0 {
		fmt.Fprintf(cmd.ErrOrStderr(), "Not shown, for want of room: %s. Choose with --columns.\n", strings.Join(leftOut, ", "))
	}
	return nil
}

// onTerminal reports whether a file is a terminal. Progress goes to standard
// error if it is one, and nowhere else.
func onTerminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }

// clock writes a time of day; of another day, the date as well.
func clock(t time.Time) string {
	t = t.Local()
	if now := time.Now(); t.YearDay() != now.YearDay() || t.Year() != now.Year() {
		return t.Format("2006-01-02 15:04:05.000")
	}
	return t.Format("15:04:05.000")
}

// at writes a time: for people in a table, and as the API does elsewhere.
func (a *app) at(t time.Time) string {
	if a.config.GetString("output") == "table" {
		return strings.TrimSuffix(clock(t.Truncate(time.Second)), ".000")
	}
	return t.UTC().Format(time.RFC3339)
}

// flat writes a text in one line, for a table.
func flat(s string) string { return strings.Join(strings.Fields(s), " ") }

// oneLine shortens a text, and writes it in one line.
func oneLine(s string, most int) string {
	s = flat(s)
	if runes := []rune(s); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return s
}

func segments(n int) string { return counted(n, "segment") }

// counted is so many of something.
func counted[N int | int64](n N, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return thousands(n) + " " + thing + "s"
}

// listLimit checks how many are asked for of a list.
func listLimit(limit int) error {
	if limit < 1 || limit > 500 {
		return usagef("--limit %d: accepted is 1 to 500", limit)
	}
	return nil
}
