package sheet

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"calmpigeon.example/internal/core/fault"
)

// The bounds of a workbook, in octets.
const (
	packedMost    = 128 << 20 // of the file
	directoryMost = 2 << 20   // of the archive's directory
	smallMost     = 4 << 20   // of a part that names others, unpacked
	sheetMost     = 2 << 30   // of a sheet, unpacked
	textsMost     = 1 << 30   // of the shared strings, unpacked

	// ratioMost is how many times its packed size a part may have unpacked, where that is more than
	// ratioFrom. Sheets of a million rows that are all alike come to about forty times.
	ratioMost = 200
	ratioFrom = 16 << 20
)

// sheetsMost is how many sheets a workbook may have.
const sheetsMost = 1000

// Book is a workbook (ISO/IEC 29500): an archive of parts, of which those that a sheet needs are
// opened, each within its bound, and no others.
type Book struct {
	archive *zip.Reader
	sheets  []bookSheet
	texts   *zip.File // the shared strings; nil: there are none

	stylesPart *zip.File // nil: there is none
	epoch1904  bool      // days are counted from 1904
	language   string    // that it says it is in; empty: it says none
}

type bookSheet struct {
	name string
	part *zip.File
}

// OpenBook reads which sheets a workbook of size octets has. Errors wrap [ErrList].
func OpenBook(at io.ReaderAt, size int64) (*Book, error) {
	if size > packedMost {
		return nil, fault.Because(ErrList, "the workbook is larger than %d octets", packedMost)
	}
	directory := &sparing{at: at, left: directoryMost}
	archive, err := zip.NewReader(directory, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) { // no part becomes a file
		return nil, fault.Because(ErrList, "it cannot be read as XLSX: %w", err)
	}
	directory.all = true
	b := &Book{archive: archive}
	top, err := b.relations("")
	if err != nil {
		return nil, err
	}
	workbook := "xl/workbook.xml"
	for _, r := range top {
		switch {
		case strings.HasSuffix(r.Type, "/officeDocument"):
			workbook = r.target("")
		case strings.HasSuffix(r.Type, "/core-properties"):
			b.language = b.languageIn(r.target(""))
		}
	}
	var named struct {
		Sheets []struct {
			Name string     `xml:"name,attr"`
			All  []xml.Attr `xml:",any,attr"`
		} `xml:"sheets>sheet"`
		Properties struct {
			Epoch1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
	}
	if err := b.read(workbook, &named); err != nil {
		return nil, err
	}
	parts, err := b.relations(workbook)
	if err != nil {
		return nil, err
	}
	if len(named.Sheets) > sheetsMost {
		return nil, fault.Because(ErrList, "the workbook has %d sheets, at most %d", len(named.Sheets), sheetsMost)
	}
	b.epoch1904 = named.Properties.Epoch1904 == "1" || named.Properties.Epoch1904 == "true"
	byID := make(map[string]relation, len(parts))
	for _, r := range parts {
		byID[r.ID] = r
		switch {
		case strings.HasSuffix(r.Type, "/sharedStrings"):
			b.texts = b.part(r.target(workbook))
		case strings.HasSuffix(r.Type, "/styles"):
			b.stylesPart = b.part(r.target(workbook))
		}
	}
	for _, s := range named.Sheets {
		for _, attribute := range s.All {
			r, ok := byID[attribute.Value]
			if attribute.Name.Local != "id" || !ok || !strings.HasSuffix(r.Type, "/worksheet") { // a chart has a sheet of its own
				continue
			}
			if part := b.part(r.target(workbook)); part != nil {
				b.sheets = append(b.sheets, bookSheet{s.Name, part})
			}
		}
	}
	if len(b.sheets) == 0 {
		return nil, fault.Because(ErrList, "it has no sheets")
	}
	return b, nil
}

// languageIn is the language that the properties of a workbook name; empty if they cannot be read, since nothing else
// depends on them.
func (b *Book) languageIn(part string) string {
	var properties struct {
		Language string `xml:"language"`
	}
	if b.part(part) == nil || b.read(part, &properties) != nil {
		return ""
	}
	return strings.TrimSpace(properties.Language)
}

// Sheets are the names of the sheets with cells, in their order.
func (b *Book) Sheets() []string {
	names := make([]string, len(b.sheets))
	for i, s := range b.sheets {
		names[i] = s.name
	}
	return names
}

// sheet finds a sheet; the first if name is empty.
func (b *Book) sheet(name string) (bookSheet, error) {
	for _, s := range b.sheets {
		if name == "" || s.name == name {
			return s, nil
		}
	}
	const told = 20
	names := b.Sheets()
	said := strings.Join(names[:min(len(names), told)], ", ")
	if len(names) > told {
		said += fmt.Sprintf(" and %d more", len(names)-told)
	}
	return bookSheet{}, fault.Because(ErrList, "there is no sheet %.100q; there are %s", name, said)
}

// relation is where another part is (ISO/IEC 29500-2, 9.3).
type relation struct {
	ID     string `xml:"Id,attr"`
	Type   string `xml:"Type,attr"`
	Target string `xml:"Target,attr"`
}

// target is the name of the part that a part refers to.
func (r relation) target(from string) string {
	if strings.HasPrefix(r.Target, "/") {
		return r.Target[1:]
	}
	return path.Join(path.Dir(from), r.Target)
}

// relations reads to which parts a part refers; of "", to which the workbook does.
func (b *Book) relations(of string) ([]relation, error) {
	var all struct {
		All []relation `xml:"Relationship"`
	}
	err := b.read(path.Join(path.Dir(of), "_rels", path.Base("/"+of)+".rels"), &all)
	return all.All, err
}

// part finds a part by its name, in which capital letters count for nothing; nil if there is none.
func (b *Book) part(name string) *zip.File {
	for _, file := range b.archive.File {
		if strings.EqualFold(strings.ReplaceAll(file.Name, `\`, "/"), name) {
			return file
		}
	}
	return nil
}

// read reads a small part.
func (b *Book) read(name string, into any) error {
	part := b.part(name)
	if part == nil {
		return fault.Because(ErrList, "the workbook has no part %.100s", name)
	}
	in, err := unpack(part, smallMost)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := xml.NewDecoder(in).Decode(into); err != nil {
		return fault.Because(ErrList, "part %.100s of the workbook: %w", name, err)
	}
	return nil
}

// sparing is a file of which only so much may be read, until all may. What reads an archive's
// directory keeps all that it finds in it.
type sparing struct {
	at   io.ReaderAt
	left int
	all  bool
}

// ReadAt reads, if it may.
func (s *sparing) ReadAt(p []byte, off int64) (int, error) {
	if s.all {
		return s.at.ReadAt(p, off)
	}
	if s.left -= len(p); s.left < 0 {
		return 0, errors.New("its directory is too long")
	}
	return s.at.ReadAt(p, off)
}

// unpacking is a part that is read, within its bound.
type unpacking struct {
	io.ReadCloser
	name string
	left int64
}

// unpack opens a part that has at most so many octets. It counts them while they are read, because the
// archive's directory can lie about them.
func unpack(part *zip.File, most int64) (*unpacking, error) {
	most = min(most, max(ratioFrom, ratioMost*int64(min(part.CompressedSize64, packedMost)))) // #nosec G115 -- bounded
	u := &unpacking{name: part.Name, left: most}
	if part.UncompressedSize64 > uint64(most) { // #nosec G115 -- positive
		return nil, u.tooLarge()
	}
	var err error
	if u.ReadCloser, err = part.Open(); err != nil {
		return nil, fault.Because(ErrList, "part %.100s of the workbook: %w", part.Name, err)
	}
	return u, nil
}

func (u *unpacking) tooLarge() error {
	return fault.Because(ErrList, "part %.100s of the workbook unpacks to more than a workbook of its size may have", u.name)
}

// Read reads on.
func (u *unpacking) Read(p []byte) (int, error) {
	n, err := u.ReadCloser.Read(p)
	if u.left -= int64(n); u.left < 0 {
		return 0, u.tooLarge()
	}
	return n, err
}
