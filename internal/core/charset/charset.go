// Package charset reads text that is not UTF-8, and tells what it looks like.
package charset

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Names are what text can be written in.
var Names = []string{"utf-8", "windows-1252", "latin-1", "windows-1251", "windows-1253", "windows-1254", "utf-16"}

func named(name string) (encoding.Encoding, bool) {
	switch strings.ToLower(name) {
	case "windows-1252", "cp1252":
		return charmap.Windows1252, true
	case "latin-1", "latin1", "iso-8859-1":
		return charmap.ISO8859_1, true
	case "windows-1251":
		return charmap.Windows1251, true
	case "windows-1253":
		return charmap.Windows1253, true
	case "windows-1254":
		return charmap.Windows1254, true
	case "utf-16":
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM), true
	}
	return nil, false
}

// Known reports whether text written in what is named can be read.
func Known(name string) bool {
	_, known := named(name)
	return known || strings.EqualFold(name, "utf-8")
}

// Decode reads text that is written in what is named; UTF-8 if that is empty. What
// is none is an error that says what it looks like.
func Decode(text []byte, name string) (string, error) {
	if name == "" || strings.EqualFold(name, "utf-8") {
		text = bytes.TrimPrefix(text, []byte("\ufeff"))
		if err := Check(text); err != nil {
			return "", err
		}
		return string(text), nil
	}
	e, known := named(name)
	if !known {
		return "", fmt.Errorf("%q: accepted are %s", name, strings.Join(Names, ", "))
	}
	decoded, err := e.NewDecoder().Bytes(text)
	if err != nil {
		return "", fmt.Errorf("it is not written in %s: %w", name, err)
	}
	return string(decoded), nil
}

// Reader reads what is written in what is named as UTF-8. A name that is not [Known]
// reads it as it is.
func Reader(in io.Reader, name string) io.Reader {
	if e, known := named(name); known {
		return e.NewDecoder().Reader(in)
	}
	return in
}

// Writer writes UTF-8 as what is named, with a mark where that needs one; a character that it
// does not have as what stands for such. A name that is not [Known] writes it as it is. It has
// to be closed.
func Writer(out io.Writer, name string) io.WriteCloser {
	e, known := named(name)
	if !known {
		e = encoding.Nop
	}
	return transform.NewWriter(out, encoding.ReplaceUnsupported(e.NewEncoder()))
}

// Check returns an error for what is not UTF-8, which says where, and what it looks
// like.
func Check(text []byte) error {
	if utf8.Valid(text) {
		return nil
	}
	at := 0
	for rest := text; ; {
		r, n := utf8.DecodeRune(rest)
		if r == utf8.RuneError && n <= 1 {
			break
		}
		at += n
		rest = rest[n:]
	}
	return fmt.Errorf("it is not UTF-8: byte %d is %#02x. %s", at+1, text[at], looksLike(text))
}

// looksLike guesses: by the mark or the zeros of UTF-16, else by what the bytes
// would be in the code page that is most in use.
func looksLike(text []byte) string {
	zeros := bytes.Count(text, []byte{0})
	if bytes.HasPrefix(text, []byte{0xff, 0xfe}) || bytes.HasPrefix(text, []byte{0xfe, 0xff}) || zeros > len(text)/4 {
		return "It looks like utf-16"
	}
	read, err := charmap.Windows1252.NewDecoder().Bytes(text)
	if err != nil || bytes.ContainsRune(read, utf8.RuneError) {
		return "It looks like no text"
	}
	sample := []rune(string(read))
	if len(sample) > 30 {
		sample = append(sample[:29], '…')
	}
	return fmt.Sprintf("It looks like windows-1252, in which it reads %q", string(sample))
}
