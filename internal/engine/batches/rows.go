package batches

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/store"
)

// textOf makes the text of a batch a template, where it has fields; nil if it has none.
func textOf(w batch.Wants) (*template.Template, error) {
	if !strings.ContainsAny(w.Text, "{}") {
		return nil, nil
	}
	language := cmp.Or(w.Language, "en")
	t := &template.Template{Name: "text", Language: language, Texts: map[string]string{language: w.Text}}
	return t, t.Check()
}

// rows makes drafts of the rows of a batch.
type rows struct {
	wants  batch.Wants
	id     string
	own    *template.Template // the text, if it has fields
	stored *template.Template // the template as it was rehearsed, if one is named
	at     map[sheet.Role]int // the columns of roles
	fields []field            // that the text may name
	needs  []string           // that it must
}

// field is a field of the text, and the column that holds it.
type field struct {
	name   string
	column int
	as     template.As // how the text writes it
}

// reading makes ready to read the rows of a batch as its columns say.
func (b *Batches) reading(one *store.Batch) (*rows, error) {
	r := &rows{wants: one.Wants, id: one.ID.String(), at: map[sheet.Role]int{}}
	for i, c := range one.Found.Columns {
		if c.Role != "" {
			r.at[c.Role] = i
		}
	}
	var err error
	if r.own, err = textOf(one.Wants); err != nil {
		return nil, err
	}
	if r.stored, err = b.worded(one.Wants); err != nil {
		return nil, err
	}
	tmpl := cmp.Or(r.own, r.stored)
	if tmpl == nil {
		return r, nil
	}
	must, may := tmpl.Needs()
	r.needs = must
	for _, name := range append(must, may...) {
		if at := columnOf(one.Found.Columns, name); at >= 0 {
			r.fields = append(r.fields, field{name, at, tmpl.Fields[name].As})
		}
	}
	return r, nil
}

// worded is the template of a batch: as it was when it was rehearsed, else as it is; nil if
// it has none.
func (b *Batches) worded(w batch.Wants) (*template.Template, error) {
	if w.Template == "" {
		return nil, nil
	}
	if w.Wording != "" {
		return template.Read([]byte(w.Wording))
	}
	record, ok := b.Roster.Book().Template(w.Template)
	if !ok {
		return nil, fault.New("template", fmt.Sprintf("%q is not a template here", w.Template), "one that is stored")
	}
	return record.Template, nil
}

// word keeps the template of a batch as it is now.
func (b *Batches) word(w *batch.Wants) error {
	w.Wording = ""
	t, err := b.worded(*w)
	if err != nil || t == nil {
		return err
	}
	source, err := t.Write()
	w.Wording = string(source)
	return err
}

// columnOf is the column that holds a field: one that is called so, that may be called
// so, or whose role that is; -1 if there is none.
func columnOf(columns []batch.Column, name string) int {
	for _, is := range []func(batch.Column) bool{
		func(c batch.Column) bool { return c.Head == name },
		func(c batch.Column) bool { return c.Field == name },
		func(c batch.Column) bool { return strings.EqualFold(c.Head, name) },
		func(c batch.Column) bool { return string(c.Role) == name },
	} {
		if at := slices.IndexFunc(columns, is); at >= 0 {
			return at
		}
	}
	return -1
}

// fits checks that what a batch sends and the columns of its list go together.
func (b *Batches) fits(one *store.Batch, faults *fault.Faults) {
	r, err := b.reading(one)
	if err != nil {
		faults.Add("text", fault.Why(err), "a text, or a template that is stored")
		return
	}
	heads := make([]string, len(one.Found.Columns))
	for i, c := range one.Found.Columns {
		heads[i] = c.Head
	}
	accepted := "one of its columns: " + strings.Join(heads, ", ")
	if _, ok := r.at[sheet.To]; !ok {
		faults.Add("columns.to", "no column holds numbers", accepted)
	}
	if _, times := r.at[sheet.At]; one.Wants.OwnTimes && !times {
		faults.Add("columns.at", "no column holds times", accepted)
	}
	_, texts := r.at[sheet.Text]
	if one.Wants.Text == "" && one.Wants.Template == "" && !texts {
		faults.Add("text", "there is none", "a text, a template, or a column with a text for each row")
	}
	for _, name := range r.needs {
		if !slices.ContainsFunc(r.fields, func(f field) bool { return f.name == name }) {
			faults.Add("columns."+name, fmt.Sprintf("the text names {%s}, and no column is called so", name), accepted)
		}
	}
}

// cell is what stands in the column of a role.
func (r *rows) cell(row *sheet.Row, role sheet.Role) string {
	at, ok := r.at[role]
	if !ok || at >= len(row.Cells) {
		return ""
	}
	return strings.TrimSpace(row.Cells[at])
}

// timed reports whether a row asks for a time at which it goes.
func (r *rows) timed(row *sheet.Row) bool {
	return r.wants.SendAt != "" || r.wants.OwnTimes && r.cell(row, sheet.At) != ""
}

// draft is the message that a row asks for.
func (r *rows) draft(row *sheet.Row) intake.Draft {
	w := &r.wants
	d := intake.Draft{
		To: r.cell(row, sheet.To), Text: w.Text, Sender: w.Sender, Kind: cmp.Or(w.Kind, "bulk"), Gateway: w.Gateway, ValidFor: w.ValidFor,
		Country: cmp.Or(r.cell(row, sheet.Country), w.Country), Reference: r.cell(row, sheet.Reference),
		Language: cmp.Or(r.cell(row, sheet.Language), w.Language), Cure: w.Cure, Flash: w.Flash, Long: w.Long, AtAnyHour: w.AtAnyHour,
		KeyLabels: w.AllLabels, Draw: fmt.Sprintf("%s/%d", r.id, row.N),
	}
	d.SendAt = w.SendAt
	if at := r.cell(row, sheet.At); at != "" && w.OwnTimes {
		d.SendAt = at // is refused, if it is no time
		t, ok := row.HeldAt(r.at[sheet.At]).Time()
		if !ok {
			t, ok = sheet.ParseTime(at)
		}
		if ok && t.Year() > 0 {
			d.SendAt = t.Format("2006-01-02T15:04:05")
		}
	}
	if text := r.cell(row, sheet.Text); text != "" {
		d.Text, d.Language = text, ""
		return d
	}
	switch {
	case r.own != nil:
		d.Own, d.Language = r.own, ""
	case r.stored != nil:
		d.Own = r.stored
		// A language that the template does not have is answered with its own.
		if d.Language != "" && !r.stored.Speaks(d.Language) {
			d.Language = ""
		}
	}
	if len(r.fields) > 0 {
		d.Fields = make(map[string]any, len(r.fields))
		for _, f := range r.fields {
			if f.column < len(row.Cells) {
				if value := strings.TrimSpace(f.as.OfCell(row.Cells[f.column], row.HeldAt(f.column))); value != "" {
					d.Fields[f.name] = value
				}
			}
		}
	}
	return d
}
