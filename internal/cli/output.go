package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"calmpigeon.example/client"
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

// stateWord is a state with its shape; contested states say so.
func stateWord(m client.Message) string {
	word := shape(m.State) + " " + m.State
	if len(m.Rivals) > 1 {
		word += " (contested)"
	}
	return word
}

// print writes a result in the form that was asked for: value as JSON, or rows
// under a head as table or CSV.
func (a *app) print(cmd *cobra.Command, value any, head []string, rows [][]string) error {
	out := cmd.OutOrStdout()
	switch a.config.GetString("output") {
	case "json":
		encoder := json.NewEncoder(out)
		encoder.SetIndent("", "  ")
		encoder.SetEscapeHTML(false)
		return encoder.Encode(value)
	case "csv":
		w := csv.NewWriter(out)
		w.Write(head)
		for _, r := range rows {
			cells := make([]string, len(r))
			for i, cell := range r {
				cells[i] = defused(cell)
			}
			w.Write(cells)
		}
		w.Flush()
		return w.Error()
	}
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box = table.BoxStyle{PaddingRight: "   "}
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	t.AppendHeader(row(head))
	for _, r := range rows {
		t.AppendRow(row(r))
	}
	width := 0
	if v, ok := out.(*visible); ok {
		if columns, _, err := term.GetSize(int(v.file.Fd())); err == nil {
			width = columns
		}
	}
	for line := range strings.SplitSeq(t.Render(), "\n") {
		if line = strings.TrimRight(line, " "); width > 0 { // a row is a line
			line = runewidth.Truncate(line, width, "…")
		}
		fmt.Fprintln(out, line)
	}
	return nil
}

func row(cells []string) table.Row {
	r := make(table.Row, len(cells))
	for i, c := range cells {
		r[i] = c
	}
	return r
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

// oneLine shortens a text for a table.
func oneLine(s string, most int) string {
	s = strings.Join(strings.Fields(s), " ")
	if runes := []rune(s); len(runes) > most {
		return string(runes[:most-1]) + "…"
	}
	return s
}

func segments(n int) string {
	if n == 1 {
		return "1 segment"
	}
	return fmt.Sprintf("%d segments", n)
}
