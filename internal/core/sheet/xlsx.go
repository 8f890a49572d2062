package sheet

import (
	"io"
	"math/big"
	"slices"
	"strings"

	"calmpigeon.example/internal/core/fault"

	"github.com/xuri/excelize/v2"
)

const (
	packedMost   = 128 << 20 // octets of a file as it is packed
	unpackedMost = 4 << 30   // and unpacked: it is refused before
	inMemory     = 16 << 20  // of a part, until it goes to a temporary file
)

// openXLSX reads a sheet of a workbook (ISO/IEC 29500). Numbers come as they are held,
// not as they are shown: 447700900123 and not 4.477E+11.
func (l *List) openXLSX(in io.Reader, hint Hint) error {
	file, err := excelize.OpenReader(io.LimitReader(in, packedMost), excelize.Options{
		RawCellValue: true, UnzipSizeLimit: unpackedMost, UnzipXMLSizeLimit: inMemory,
	})
	if err != nil {
		return fault.Because(ErrList, "it cannot be read as XLSX: %w", err)
	}
	l.close = file.Close
	l.Sheets = file.GetSheetList()
	switch {
	case len(l.Sheets) == 0:
		err = fault.Because(ErrList, "it has no sheets")
	case hint.Sheet == "":
		l.Sheet = l.Sheets[0]
	case slices.Contains(l.Sheets, hint.Sheet):
		l.Sheet = hint.Sheet
	default:
		err = fault.Because(ErrList, "there is no sheet %q; there are %s", hint.Sheet, strings.Join(l.Sheets, ", "))
	}
	var rows *excelize.Rows
	if err == nil {
		rows, err = file.Rows(l.Sheet)
	}
	if err != nil {
		file.Close()
		return err
	}
	l.close = func() error {
		rows.Close()
		return file.Close()
	}
	at := 0
	l.next = func() (Row, error) {
		for rows.Next() {
			at++
			cells, err := rows.Columns(excelize.Options{RawCellValue: true})
			if err != nil {
				return Row{}, fault.Because(ErrList, "row %d: %w", at, err)
			}
			if !slices.ContainsFunc(cells, func(c string) bool { return strings.TrimSpace(c) != "" }) {
				continue // sheets are full of rows that nobody has written in
			}
			for i := range cells {
				cells[i] = written(cells[i])
			}
			return Row{Line: at, Cells: cells}, nil
		}
		if err := rows.Error(); err != nil {
			return Row{}, fault.Because(ErrList, "row %d: %w", at+1, err)
		}
		return Row{}, io.EOF
	}
	if err := l.begin(hint); err != nil {
		l.Close()
		return err
	}
	return nil
}

// written is a number as people write it, where the file has it with an exponent. With
// so few digits that some may have been lost in a sheet before it stays as it is.
func written(cell string) string {
	const fewest = 8 // digits
	mantissa, _, exponent := strings.Cut(strings.ToLower(cell), "e")
	if !exponent || len(cell) > 40 || strings.Trim(cell, "0123456789.eE+-") != "" || len(strings.Trim(mantissa, ".+-")) <= fewest {
		return cell
	}
	number, ok := new(big.Float).SetPrec(200).SetString(cell)
	if !ok || !number.IsInt() || number.MantExp(nil) > 64 {
		return cell
	}
	return number.Text('f', 0)
}
