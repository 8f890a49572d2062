package batches

import (
	"bytes"
	"testing"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// A result is written as the list came, so whatever read the list reads the result.
func TestResultIsWrittenAsTheListCame(t *testing.T) {
	t.Parallel()
	for name, found := range map[string]batch.Found{
		"UTF-8":             {Encoding: "utf-8", Comma: ";"},
		"UTF-8 with a mark": {Encoding: "utf-8", Mark: true, Comma: ","},
		"UTF-16":            {Encoding: "utf-16", Mark: true, Comma: "\t"},
		"windows-1252":      {Encoding: "windows-1252", Comma: ";"},
		"latin-1":           {Encoding: "latin-1", Comma: ";"},
		"Greek":             {Encoding: "windows-1253", Comma: ","},
	} {
		cell := map[bool]string{true: "Ελένη", false: "Zoë"}[found.Encoding == "windows-1253"]
		found.Columns = []batch.Column{{Head: "mobile"}, {Head: "name"}}
		var out bytes.Buffer
		rows := func(yield func(Row, error) bool) {
			check := batch.Check{Reason: batch.Repeated, Say: "twice"}
			yield(Row{N: 1, Cells: []string{"+447700900123", cell}, Check: check, Checked: true}, nil)
		}
		if err := WriteResult(&out, store.Batch{Found: found}, "csv", rows); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		hint := sheet.Hint{}
		if name == "Greek" {
			hint.Encoding = found.Encoding
		}
		list, err := sheet.Open(bytes.NewReader(out.Bytes()), hint)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if list.Mark != found.Mark || string(list.Delimiter) != found.Comma {
			t.Errorf("%s comes back as %+v", name, list.Found)
		}
		for row, err := range list.Rows() {
			if err != nil || row.Cells[1] != cell || row.Cells[len(row.Cells)-2] != "twice" || row.Cells[len(row.Cells)-1] != "1" {
				t.Errorf("%s: %v, %v", name, row, err)
			}
		}
	}
}
