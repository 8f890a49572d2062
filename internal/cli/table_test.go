package cli

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"
)

func manyMessages() grid {
	return grid{
		head: []string{"id", "state", "cause", "to", "text", "created", "sender", "gateway", "segments"},
		rows: [][]string{
			{
				"019ac000-1111-7aaa-8000-000000000001",
				"● delivered",
				"",
				"+447700900123",
				"Crossing 0740 now leaves from berth 3",
				"07:40:00",
				"Lanternholm",
				"harbourline",
				"1",
			},
			{
				"019ac000-1111-7aaa-9000-000000000002",
				"⊗ undeliverable",
				"invalid_number",
				"+306900000000",
				strings.Repeat("Το δρομολόγιο ", 9),
				"07:40:00",
				"Lanternholm",
				"harbourline",
				"3",
			},
			{
				"019ac000-1112-7bbb-8000-000000000003",
				"◌ doubtful (contested)",
				"content_refused",
				"+48500000000",
				"x",
				"2026-11-15 07:40:00",
				"80123",
				"stillwater",
				"1",
			},
		},
	}
}

// However narrow a terminal is, a table fits it; state and cause are whole, and ids
// can be told apart.
func TestTablesFitTheTerminal(t *testing.T) {
	t.Parallel()
	s := manyMessages()
	for width := 75; width <= 260; width++ {
		var out bytes.Buffer
		leftOut := s.write(&out, width)
		lines := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
		if len(lines) != 4 {
			t.Fatalf("%d columns: %d lines\n%s", width, len(lines), &out)
		}
		for i, line := range lines {
			if n := runewidth.StringWidth(line); n > width {
				t.Errorf("%d columns: a line of %d: %s", width, n, line)
			}
			if i > 0 && (!strings.Contains(line, s.rows[i-1][1]) || !strings.Contains(line, s.rows[i-1][2])) {
				t.Errorf("%d columns: state or cause is cut in %s", width, line)
			}
		}
		starts := map[string]bool{}
		for _, line := range lines[1:] {
			id, _, _ := strings.Cut(line, " ")
			starts[strings.TrimSuffix(id, "…")] = true
		}
		if len(starts) != 3 {
			t.Errorf("%d columns: ids are not told apart\n%s", width, &out)
		}
		if slices.Contains(leftOut, "state") || slices.Contains(leftOut, "cause") || (width > 200) != (len(leftOut) == 0) && width > 230 {
			t.Errorf("%d columns: %v are left out", width, leftOut)
		}
	}
	var piped bytes.Buffer
	if leftOut := s.write(&piped, 0); leftOut != nil || !strings.Contains(piped.String(), s.rows[1][4]) ||
		!strings.Contains(piped.String(), s.rows[2][0]) {
		t.Errorf("in a pipe something is cut, or %v left out\n%s", leftOut, &piped)
	}
}

func TestColumnsAreChosen(t *testing.T) {
	t.Parallel()
	s, unknown := manyMessages().chosen([]string{"Cause", " to", "colour"})
	if !slices.Equal(s.head, []string{"cause", "to"}) || !slices.Equal(s.rows[1], []string{"invalid_number", "+306900000000"}) ||
		!slices.Equal(unknown, []string{"colour"}) {
		t.Errorf("%v, %v", s, unknown)
	}
	if s, _ := manyMessages().chosen([]string{"colour"}); len(s.head) != 9 {
		t.Errorf("of nothing there is: %v", s.head)
	}
}
