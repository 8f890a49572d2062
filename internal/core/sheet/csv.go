package sheet

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"calmpigeon.example/internal/core/fault"
)

var delimiterWords = map[rune]string{',': "commas", ';': "semicolons", '\t': "tabs", '|': "bars"}

// delimiters in the order in which they are preferred.
var delimiters = []rune{',', ';', '\t', '|'}

// openCSV reads a sheet in CSV (RFC 4180), also with other delimiters. A first line
// such as sep=; says which.
func (l *List) openCSV(text io.Reader, hint Hint) error {
	ahead := bufio.NewReaderSize(text, peekMost)
	begin, _ := ahead.Peek(peekMost)
	skipped := 0
	if line, _, ok := bytes.Cut(begin, []byte("\n")); ok && len(line) < 10 && bytes.HasPrefix(bytes.ToLower(line), []byte("sep=")) {
		ahead.Discard(len(line) + 1)
		begin = begin[len(line)+1:]
		skipped = 1
		if r, _ := utf8.DecodeRune(bytes.TrimSpace(line)[4:]); slices.Contains(delimiters, r) {
			l.Delimiter = r
		}
	}
	switch {
	case hint.Delimiter != 0:
		l.Delimiter = hint.Delimiter
	case l.Delimiter == 0:
		l.Delimiter = delimiterOf(string(begin))
	}
	if r := l.Delimiter; r == '"' || r == '\r' || r == '\n' || r == utf8.RuneError || !utf8.ValidRune(r) {
		return fault.Because(ErrList, "%q cannot stand between cells", r)
	}
	bounded := newRowLimiter(ahead, l.Delimiter, skipped)
	rows := csv.NewReader(bounded)
	rows.Comma, rows.FieldsPerRecord = l.Delimiter, -1
	l.next = func() (Row, error) {
		cells, err := rows.Read()
		var wrong *csv.ParseError
		switch {
		case errors.As(err, &wrong):
			line, long := bounded.lineOf(wrong.StartLine)
			row := Row{Line: line}
			if long {
				row.Wrong = tooLong
				return row, nil
			}
			if wrong.Line-wrong.StartLine > linesMost || errors.Is(err, csv.ErrQuote) && atEnd(ahead) {
				return row, fault.Because(ErrList, "line %d: a quote that begins there does not end", row.Line)
			}
			row.Wrong = "a quote stands where none may stand: one in a cell is written twice, in a cell in quotes"
			return row, nil
		case err != nil:
			return Row{}, err
		}
		at, _ := rows.FieldPos(0)
		line, long := bounded.lineOf(at)
		if long {
			return Row{Line: line, Wrong: tooLong}, nil
		}
		return Row{Line: line, Cells: cells}, nil
	}
	return l.begin(hint)
}

// linesMost is over how many lines a cell may go: more is a quote that was not meant.
const linesMost = 200

func atEnd(in *bufio.Reader) bool {
	_, err := in.Peek(1)
	return err != nil
}

// delimiterOf is what stands between cells: what every one of the first lines has, and
// the most of it.
func delimiterOf(begin string) rune {
	const lines = 20
	counts := map[rune][]int{}
	quoted, seen := false, 0
	count := map[rune]int{}
	flush := func() {
		for _, d := range delimiters {
			counts[d] = append(counts[d], count[d])
		}
		clear(count)
		seen++
	}
	empty := true
	for _, r := range begin {
		if seen == lines {
			break
		}
		switch {
		case r == '"':
			quoted = !quoted
			empty = false
		case r == '\n' && !quoted:
			if !empty {
				flush()
			}
			empty = true
		case !quoted && slices.Contains(delimiters, r):
			count[r]++
			empty = false
		case r != '\r':
			empty = false
		}
	}
	if seen == 0 {
		flush()
	}
	best, most := ',', 0
	for _, d := range delimiters {
		if least := slices.Min(counts[d]); least > most {
			best, most = d, least
		}
	}
	if most == 0 { // no line has to have any: that of the head
		for _, d := range delimiters {
			if n := counts[d][0]; n > most {
				best, most = d, n
			}
		}
	}
	return best
}

// openPasted reads numbers as they are pasted: one a line, or with commas, semicolons
// or tabs between.
func (l *List) openPasted(text io.Reader) {
	l.head = []string{"to"}
	lines := bufio.NewScanner(text)
	lines.Buffer(nil, rowMost)
	at := 0
	var waiting []string
	l.next = func() (Row, error) {
		for len(waiting) == 0 {
			if !lines.Scan() {
				if err := lines.Err(); err != nil {
					return Row{}, fault.Because(ErrList, "line %d: %w", at+1, err)
				}
				return Row{}, io.EOF
			}
			at++
			waiting = strings.FieldsFunc(lines.Text(), func(r rune) bool { return strings.ContainsRune(",;\t|", r) })
			waiting = slices.DeleteFunc(waiting, func(s string) bool { return strings.TrimSpace(s) == "" })
		}
		row := Row{Line: at, Cells: []string{strings.TrimSpace(waiting[0])}}
		waiting = waiting[1:]
		return row, nil
	}
}
