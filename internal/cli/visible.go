package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"unicode"
	"unicode/utf8"
)

// visible writes to a terminal, with characters that a terminal would obey, or
// that turn the order of others round, as escapes. Texts come from whoever wrote
// them.
type visible struct {
	file *os.File
	rest []byte // of a character whose end has not come yet
}

// shown is where results go: made visible where that is a terminal, and as they are
// anywhere else.
func shown(w io.Writer) io.Writer {
	if file, ok := w.(*os.File); ok && onTerminal(file) {
		return &visible{file: file}
	}
	return w
}

// Write writes p.
func (v *visible) Write(p []byte) (int, error) {
	all := append(v.rest, p...)
	v.rest = nil
	var out bytes.Buffer
	for len(all) > 0 {
		r, n := utf8.DecodeRune(all)
		if r == utf8.RuneError && n <= 1 {
			if !utf8.FullRune(all) {
				v.rest = bytes.Clone(all)
				break
			}
			fmt.Fprintf(&out, `\x%02x`, all[0])
			all = all[1:]
			continue
		}
		out.WriteString(escape(r))
		all = all[n:]
	}
	if _, err := v.file.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(p), nil
}

// escape is a character as it is shown.
func escape(r rune) string {
	switch {
	case r == '\n', r == '\t':
	case unicode.Is(unicode.Cc, r), unicode.Is(unicode.Bidi_Control, r), r == '\u2028', r == '\u2029', r == '\uFEFF':
		return fmt.Sprintf(`\u%04x`, r)
	}
	return string(r)
}
