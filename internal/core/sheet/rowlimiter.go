package sheet

import (
	"bufio"
	"io"

	"calmpigeon.example/internal/core/fault"
)

// rowLimiter passes CSV on (RFC 4180) and cuts off what a record has beyond rowMost octets, so that
// whoever reads records from it never holds a longer one. It follows cells as [csv.Reader] does.
type rowLimiter struct {
	in      *bufio.Reader
	comma   string
	special [256]bool // octets that may begin or end something

	state    cellState
	matched  int // octets of the comma that were met
	size     int // octets of the record
	line     int // that is read
	began    int // the line at which the record began
	skipping bool
	end      string // that takes the place of what was cut off
	current  *cut   // the last one
	cuts     []*cut // of which was not told yet
	last     *cut   // of which was told last
	gone     int    // lines that were cut off before it, or passed over at the beginning
}

// cut is a record that was cut off.
type cut struct {
	line    int // at which it begins
	skipped int // line ends that were cut off with it
}

// cellState is where in a record an octet stands.
type cellState int

const (
	cellBegins cellState = iota
	cellPlain
	cellQuoted
	quoteMet   // in a quoted cell: its end, or one of two
	returnMet  // after that quote
	cellBroken // a quote where none may stand: the line is passed over
)

// newRowLimiter cuts records of a file from the line after so many on.
func newRowLimiter(in *bufio.Reader, comma rune, before int) *rowLimiter {
	c := &rowLimiter{in: in, comma: string(comma), line: before + 1, began: before + 1, gone: before}
	for _, b := range []byte("\"\n\r" + c.comma) {
		c.special[b] = true
	}
	return c
}

// Read reads on.
func (c *rowLimiter) Read(p []byte) (int, error) {
	for {
		if c.end != "" {
			n := copy(p, c.end)
			c.end = c.end[n:]
			return n, nil
		}
		if _, err := c.in.Peek(1); err != nil {
			if c.skipping && err == io.EOF && c.state == cellQuoted {
				return 0, c.unended()
			}
			return 0, err
		}
		chunk, err := c.in.Peek(min(c.in.Buffered(), len(p)))
		if err != nil || len(chunk) == 0 {
			return 0, err
		}
		n, err := c.pass(chunk)
		if err != nil {
			return 0, err
		}
		passed := 0
		if !c.skipping {
			passed = copy(p, chunk[:n])
		}
		c.in.Discard(n)
		switch {
		case c.skipping && c.size == 0: // the record is over
			c.skipping = false
		case !c.skipping && c.size > rowMost:
			c.skipping = true
			c.current = &cut{line: c.began}
			c.cuts = append(c.cuts, c.current)
			if c.end = "\n"; c.state == cellQuoted {
				c.end = "\"\n"
			}
		}
		if passed > 0 {
			return passed, nil
		}
	}
}

// pass follows octets to where something else becomes of them: the record is too long, or one that
// is cut off is over. It returns how many they are.
func (c *rowLimiter) pass(chunk []byte) (int, error) {
	for i := 0; i < len(chunk); i++ {
		if c.matched == 0 && (c.state == cellPlain || c.state == cellQuoted) {
			i += c.plain(chunk[i:])
			if c.size > rowMost && !c.skipping || i == len(chunk) {
				return i, nil
			}
		}
		b := chunk[i]
		c.size++
		if b == '\n' {
			c.line++
			if c.state != cellQuoted {
				c.state, c.matched, c.size, c.began = cellBegins, 0, 0, c.line
				if c.skipping {
					return i + 1, nil
				}
				continue
			}
			if c.skipping {
				c.current.skipped++
			}
		} else if wrong := c.step(b); wrong && c.skipping && c.line-c.began > linesMost {
			return i + 1, c.unended()
		}
		if c.size > rowMost && !c.skipping {
			return i + 1, nil
		}
	}
	return len(chunk), nil
}

// plain follows octets of a cell that mean nothing but themselves, and returns how many they are.
func (c *rowLimiter) plain(chunk []byte) int {
	if !c.skipping {
		chunk = chunk[:min(len(chunk), rowMost+1-c.size)]
	}
	n := 0
	for n < len(chunk) && !c.special[chunk[n]] {
		n++
	}
	c.size += n
	return n
}

// step follows one octet that ends no line; wrong is whether it stands after the quote that ends a
// cell.
func (c *rowLimiter) step(b byte) (wrong bool) {
	switch c.state {
	case cellBegins:
		if b == '"' {
			c.state, c.matched = cellQuoted, 0
			return false
		}
		c.state = cellPlain
		c.metComma(b)
	case cellPlain:
		if b == '"' {
			c.state = cellBroken
			return false
		}
		c.metComma(b)
	case cellQuoted:
		if b == '"' {
			c.state = quoteMet
		}
	case quoteMet, returnMet:
		switch {
		case c.state == quoteMet && c.matched == 0 && b == '"':
			c.state = cellQuoted
		case c.state == quoteMet && c.matched == 0 && b == '\r':
			c.state = returnMet
		case c.state == quoteMet && b == c.comma[c.matched]:
			c.metComma(b)
		default:
			c.state = cellBroken
			return true
		}
	}
	return false
}

// metComma follows what separates cells.
func (c *rowLimiter) metComma(b byte) {
	if b != c.comma[c.matched] {
		c.matched = 0
	}
	if b == c.comma[c.matched] {
		if c.matched++; c.matched == len(c.comma) {
			c.state, c.matched = cellBegins, 0
		}
	}
}

// lineOf is the line at which a record began, of which whoever reads knows only where it came to
// begin; isCut is whether it was cut off. It is asked for one record after the other.
func (c *rowLimiter) lineOf(came int) (line int, isCut bool) {
	if c.last != nil {
		c.gone += c.last.skipped
		c.last = nil
	}
	line = came + c.gone
	if isCut = len(c.cuts) > 0 && c.cuts[0].line == line; isCut {
		c.last, c.cuts = c.cuts[0], c.cuts[1:]
	}
	return line, isCut
}

func (c *rowLimiter) unended() error {
	return fault.Because(ErrList, "line %d: a quote that begins there does not end", c.began)
}
