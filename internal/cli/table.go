package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/mattn/go-runewidth"
	"golang.org/x/term"
)

// grid is a result in columns.
type grid struct {
	head  []string
	usual []string // the columns that a table has if none are chosen; nil: all
	rows  [][]string
	right []string // the columns in which figures stand below each other
	// goesOn is that rows went before: in CSV the head stands there already.
	goesOn bool
}

// chosen is a grid of these columns, in this order, and those of them that it does
// not have.
func (s grid) chosen(columns []string) (of grid, unknown []string) {
	var at []int
	for _, name := range columns {
		i := slices.IndexFunc(s.head, func(h string) bool { return strings.EqualFold(h, strings.TrimSpace(name)) })
		if i < 0 {
			unknown = append(unknown, strings.TrimSpace(name))
			continue
		}
		at = append(at, i)
	}
	if len(at) == 0 {
		return s, unknown
	}
	pick := func(cells []string) []string {
		some := make([]string, len(at))
		for i, from := range at {
			some[i] = cells[from]
		}
		return some
	}
	of.head, of.right, of.goesOn = pick(s.head), s.right, s.goesOn
	for _, r := range s.rows {
		of.rows = append(of.rows, pick(r))
	}
	return of, unknown
}

// between is how much stands between two columns.
const between = 3

// least is how narrow a column becomes at most that gives way.
const least = 16

// giving are the columns that give way where there is too little room: what they hold
// can be long, and its beginning is of use.
var giving = []string{"text", "note", "about", "about or why", "before → after", "address", "goes through", "gives", "quiet",
	"check", "fields", "needs", "may have", "part", "senders", "gateways", "countries", "registered", "default for"}

// staying are the columns that are never cut or left out: what one looks for.
var staying = []string{"state", "cause", "said", "fares", "price", "name", "id"}

// fit makes a table fit into a width: ids are cut to a start that tells them apart,
// columns that can give way do, and then columns are left out, from the last on.
// State and cause stay whole.
func fit(s grid, width int) (fits grid, leftOut []string) {
	fits = grid{head: slices.Clone(s.head), right: s.right}
	for _, r := range s.rows {
		fits.rows = append(fits.rows, slices.Clone(r))
	}
	widths := func() (each []int, all int) {
		for i, h := range fits.head {
			w := runewidth.StringWidth(h)
			for _, r := range fits.rows {
				w = max(w, runewidth.StringWidth(r[i]))
			}
			each = append(each, w)
			all += w + between
		}
		return each, all - between
	}
	if _, all := widths(); all <= width {
		return fits, nil
	}
	if i := slices.Index(fits.head, "id"); i >= 0 {
		shorten(fits.rows, i)
	}
	var each []int
	for {
		var all int
		each, all = widths()
		for all > width { // the widest that can gives way first
			widest := -1
			for i, h := range fits.head {
				if slices.Contains(giving, h) && each[i] > max(least, runewidth.StringWidth(h)) && (widest < 0 || each[i] > each[widest]) {
					widest = i
				}
			}
			if widest < 0 {
				break
			}
			each[widest]--
			all--
		}
		if all <= width {
			break
		}
		last := -1
		for i, h := range fits.head {
			if i > 0 && !slices.Contains(staying, h) {
				last = i
			}
		}
		if last < 0 {
			break // nothing else can go
		}
		leftOut = append(leftOut, fits.head[last])
		fits.head = slices.Delete(fits.head, last, last+1)
		for i, r := range fits.rows {
			fits.rows[i] = slices.Delete(r, last, last+1)
		}
	}
	for _, r := range fits.rows {
		for i := range r {
			r[i] = runewidth.Truncate(r[i], each[i], "…")
		}
	}
	slices.Reverse(leftOut)
	return fits, leftOut
}

// shorten cuts ids to the shortest start that tells them apart.
func shorten(rows [][]string, at int) {
	const fewest = 13 // of a UUIDv7, the millisecond
	for n := fewest; ; n++ {
		seen := map[string]string{}
		distinct, whole := true, true
		for _, r := range rows {
			id := r[at]
			start := id[:min(n, len(id))]
			if other, known := seen[start]; known && other != id {
				distinct = false
			}
			seen[start] = id
			whole = whole && n+1 >= len(id)
		}
		if whole {
			return
		}
		if !distinct {
			continue
		}
		for _, r := range rows {
			if n+1 < len(r[at]) {
				r[at] = r[at][:n] + "…"
			}
		}
		return
	}
}

// write writes the grid as a table, and returns the columns that it had to leave out
// to fit into a width; 0 is as wide as it likes.
func (s grid) write(out io.Writer, width int) (leftOut []string) {
	if width > 0 {
		s, leftOut = fit(s, width)
	}
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box = table.BoxStyle{PaddingRight: strings.Repeat(" ", between)}
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	var figures []table.ColumnConfig
	for i, h := range s.head {
		if slices.Contains(s.right, h) {
			figures = append(figures, table.ColumnConfig{Number: i + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
		}
	}
	t.SetColumnConfigs(figures)
	t.AppendHeader(row(s.head))
	for _, r := range s.rows {
		t.AppendRow(row(r))
	}
	for line := range strings.SplitSeq(t.Render(), "\n") {
		fmt.Fprintln(out, strings.TrimRight(line, " "))
	}
	return leftOut
}

func row(cells []string) table.Row {
	r := make(table.Row, len(cells))
	for i, c := range cells {
		r[i] = c
	}
	return r
}

// widthOf is how wide the terminal is that is written to; 0 if it is none.
func widthOf(out io.Writer) int {
	if v, ok := out.(*visible); ok {
		if columns, _, err := term.GetSize(int(v.file.Fd())); err == nil {
			return columns
		}
	}
	return 0
}
