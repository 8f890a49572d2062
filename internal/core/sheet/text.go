package sheet

import (
	"bufio"
	"bytes"
	"io"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"calmpigeon.example/internal/core/charset"
)

// decoded reads text as UTF-8, whatever it is written in: what the hint says, else by
// its mark, its zeros, and whether it is UTF-8; else windows-1252, which sheets are
// written in that are not. An octet that is no UTF-8 further on is read as
// windows-1252, and counted. A lone CR is a line end where there is no LF.
func (l *List) decoded(in io.Reader, begin []byte, hint Hint) io.Reader {
	utf16 := func(order unicode.Endianness) io.Reader {
		return unicode.UTF16(order, unicode.UseBOM).NewDecoder().Reader(in)
	}
	for _, mark := range []string{"\ufeff", "\xff\xfe", "\xfe\xff"} {
		l.Mark = l.Mark || bytes.HasPrefix(begin, []byte(mark))
	}
	var out io.Reader
	switch {
	case hint.Encoding != "" && charset.Known(hint.Encoding) && hint.Encoding != "utf-8":
		l.Encoding, out = hint.Encoding, charset.Reader(in, hint.Encoding)
	case bytes.HasPrefix(begin, []byte{0xff, 0xfe}), zeros(begin, 1):
		l.Encoding, out = "utf-16", utf16(unicode.LittleEndian)
	case bytes.HasPrefix(begin, []byte{0xfe, 0xff}), zeros(begin, 0):
		l.Encoding, out = "utf-16", utf16(unicode.BigEndian)
	case validBegin(begin):
		l.Encoding, out = "utf-8", &mending{in: bufio.NewReader(skipMark(in, begin)), mended: &l.Mended}
	default:
		l.Encoding, out = "windows-1252", charmap.Windows1252.NewDecoder().Reader(in)
	}
	return &lineEnds{in: bufio.NewReader(out), lone: bytes.IndexByte(begin, '\r') >= 0 && bytes.IndexByte(begin, '\n') < 0}
}

// zeros reports whether about every other octet is 0, beginning with this one: Latin
// text in UTF-16.
func zeros(begin []byte, from int) bool {
	n, all := 0, 0
	for i := from; i < len(begin); i += 2 {
		all++
		if begin[i] == 0 {
			n++
		}
	}
	return all >= 4 && n > all/2
}

// validBegin reports whether the beginning of a text is UTF-8; its last character may
// be cut.
func validBegin(begin []byte) bool {
	for cut := 0; cut < utf8.UTFMax && cut <= len(begin); cut++ {
		if utf8.Valid(begin[:len(begin)-cut]) {
			return cut == 0 || len(begin) == peekMost
		}
	}
	return false
}

func skipMark(in io.Reader, begin []byte) io.Reader {
	const mark = "\ufeff"
	if bytes.HasPrefix(begin, []byte(mark)) {
		io.CopyN(io.Discard, in, int64(len(mark))) // it was seen already
	}
	return in
}

// mending reads octets that are no UTF-8 as windows-1252.
type mending struct {
	in     *bufio.Reader
	mended *int
	rest   []byte
}

func (m *mending) Read(p []byte) (int, error) {
	for len(m.rest) == 0 {
		r, n, err := m.in.ReadRune()
		if err != nil {
			return 0, err
		}
		for {
			if r == utf8.RuneError && n == 1 {
				*m.mended++
				m.in.UnreadRune()
				octet, _ := m.in.ReadByte()
				r = charmap.Windows1252.DecodeByte(octet)
			}
			m.rest = utf8.AppendRune(m.rest, r)
			if m.in.Buffered() < utf8.UTFMax || len(m.rest) > len(p) {
				break
			}
			if r, n, err = m.in.ReadRune(); err != nil {
				break
			}
		}
	}
	n := copy(p, m.rest)
	m.rest = m.rest[:copy(m.rest, m.rest[n:])]
	return n, nil
}

// lineEnds makes LF of line ends that are a lone CR.
type lineEnds struct {
	in   *bufio.Reader
	lone bool
}

func (l *lineEnds) Read(p []byte) (int, error) {
	n, err := l.in.Read(p)
	if l.lone {
		for i := range p[:n] {
			if p[i] == '\r' {
				p[i] = '\n'
			}
		}
	}
	return n, err
}
