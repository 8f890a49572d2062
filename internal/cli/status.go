package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/mattn/go-runewidth"
)

// status is the place on a terminal where something shows that changes: what is shown
// next takes the place of it. Where there is no terminal there is no such place.
type status struct {
	out   *visible
	lines int
}

func statusOn(w io.Writer) *status {
	out, _ := w.(*visible)
	return &status{out: out}
}

// on reports whether anything shows.
func (s *status) on() bool { return s.out != nil }

// show shows lines in the place of those before, each as far as it fits.
func (s *status) show(text string) {
	if s.out == nil {
		return
	}
	s.clear()
	width := widthOf(s.out)
	if width <= 0 {
		width = 80
	}
	for line := range strings.Lines(text) {
		fmt.Fprintln(s.out, runewidth.Truncate(strings.TrimSuffix(line, "\n"), width-1, "…"))
		s.lines++
	}
}

// clear takes away what is shown.
func (s *status) clear() {
	if s.lines > 0 {
		// Up to its first line, and nothing from there on.
		fmt.Fprintf(s.out.file, "\x1b[%dA\x1b[J", s.lines)
		s.lines = 0
	}
}
