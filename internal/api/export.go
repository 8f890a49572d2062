package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/sheet"
)

// An export is the pages of a list, one after the other: it is asked for as anybody would ask, with the same filters,
// and its fields are columns. So every list can be exported, and says the same as in the API.

// exportable are the lists, as they are called below /v1.
var exportable = []string{
	"messages",
	"events",
	"strays",
	"statements",
	"statements/*/lines",
	"statements/*/ours",
	"batches",
	"batches/*/rows",
	"opt-outs",
	"inbound", "conversations", "conversations/*",
	"changes",
	"recipient-lists",
	"recipient-lists/*/recipients",
	"receivers",
	"gateways",
	"senders",
	"templates",
	"rules",
	"keys",
	"attention",
}

// formats are the formats by the words of the API, with what a browser is told.
var formats = map[string]struct {
	format sheet.Format
	media  string
}{
	"csv":   {sheet.CSV, "text/csv; charset=utf-8"},
	"jsonl": {sheet.JSONLines, "application/jsonl"},
	"xlsx":  {sheet.XLSX, "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"},
}

const (
	columnsMost = 200
	pageBytes   = 64 << 20 // of a page of a list
	pagesMost   = 2        // that are made at the same time
)

// export streams a list.
func (a *API) export(c *gin.Context) {
	list := strings.Trim(c.Param("list"), "/")
	if !slices.ContainsFunc(exportable, func(pattern string) bool { ok, _ := path.Match(pattern, list); return ok }) {
		a.refuse(c, &nothing{"list", list, exportable})
		return
	}
	q := c.Request.URL.Query()
	word := q.Get("format")
	if word == "" {
		word = "csv"
	}
	f, known := formats[word]
	var faults fault.Faults
	if !known {
		faults.Add("format", fmt.Sprintf("%q is no format", word), "csv, xlsx or jsonl")
	}
	var columns []string
	if given := q.Get("columns"); given != "" {
		columns = strings.Split(given, ",")
	}
	if len(columns) > columnsMost || slices.Contains(columns, "") {
		faults.Add(
			"columns",
			"there are too many, or one without a name",
			fmt.Sprintf("1 to %d names of fields, with commas between", columnsMost),
		)
	}
	for _, name := range []string{"cursor", "limit"} {
		if q.Has(name) {
			faults.Add(name, "an export has all pages", "nothing")
		}
		q.Del(name)
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	q.Del("format")
	q.Del("columns")
	name := strings.NewReplacer("/", "-", "*", "").Replace(list)
	err := a.writeList(c, list, q, f.format, columns, func() {
		c.Header("Content-Type", f.media)
		c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s.%s"`, path.Base(name), word))
		c.Header("Trailer", "Result")
		c.Status(http.StatusOK)
	})
	switch {
	case err == nil:
		c.Writer.Header().Set("Result", "whole")
	case !c.Writer.Written():
		a.refuse(c, err)
	case c.Request.Context().Err() == nil:
		a.log.Error("exporting a list", "list", list, "error", err)
		panic(http.ErrAbortHandler) // whoever reads sees that it is not whole
	}
}

// writeList writes all pages of a list. begin is called when it is known that there is something to write.
func (a *API) writeList(c *gin.Context, list string, q url.Values, format sheet.Format, columns []string, begin func()) error {
	var w sheet.Writer
	for cursor := ""; ; {
		p, err := a.pageOfList(c, list, q, cursor)
		if err != nil {
			return err
		}
		if w == nil {
			if columns, err = chosenColumns(p.Items, columns); err != nil {
				return err
			}
			begin()
			if w, err = sheet.NewWriter(c.Writer, format); err != nil {
				return err
			}
			head := make([]any, len(columns))
			for i, name := range columns {
				head[i] = name
			}
			if err := w.Row(head); err != nil {
				return err
			}
		}
		for _, item := range p.Items {
			cells, err := cellsOf(item, columns, format)
			if err != nil {
				return err
			}
			if err := w.Row(cells); err != nil {
				return err
			}
		}
		if cursor = p.Next; cursor == "" {
			return w.Close()
		}
	}
}

// listPage is a page of any list.
type listPage struct {
	Items []json.RawMessage `json:"items"`
	Next  string            `json:"next"`
}

// pageOfList asks for a page as whoever asks for the export would.
func (a *API) pageOfList(c *gin.Context, list string, q url.Values, cursor string) (p listPage, err error) {
	values := url.Values{}
	for name, all := range q {
		values[name] = all
	}
	if cursor != "" {
		values.Set("cursor", cursor)
	}
	if paged(list) {
		values.Set("limit", fmt.Sprint(pageMost))
	}
	request, err := http.NewRequestWithContext(c.Request.Context(), http.MethodGet, "/v1/"+list+"?"+values.Encode(), http.NoBody)
	if err != nil {
		return p, fmt.Errorf("asking for a page of %s: %w", list, err)
	}
	request.Header = c.Request.Header.Clone()
	request.Host, request.RemoteAddr = c.Request.Host, c.Request.RemoteAddr
	select {
	case a.pages <- struct{}{}: // whoever reads an export slowly holds up nobody meanwhile
		defer func() { <-a.pages }()
	case <-c.Request.Context().Done():
		return p, c.Request.Context().Err()
	}
	answer := &keeper{header: http.Header{}, status: http.StatusOK}
	a.router.ServeHTTP(answer, request)
	if answer.status != http.StatusOK {
		var problem client.Problem
		if json.Unmarshal(answer.body.Bytes(), &problem) == nil && problem.Title != "" {
			return p, &refused{problem}
		}
		return p, fmt.Errorf("a page of %s was answered %d", list, answer.status)
	}
	if err := json.Unmarshal(answer.body.Bytes(), &p); err != nil {
		return p, fmt.Errorf("reading a page of %s: %w", list, err)
	}
	return p, nil
}

// paged reports whether a list comes in pages: others take no limit.
func paged(list string) bool {
	return !slices.Contains(
		[]string{"recipient-lists", "receivers", "gateways", "senders", "templates", "rules", "keys", "attention"},
		list,
	)
}

// refused is a refusal of the list itself, which is that of the export.
type refused struct{ problem client.Problem }

// Error says what it says.
func (r *refused) Error() string { return r.problem.Title }

// keeper keeps an answer.
type keeper struct {
	header http.Header
	status int
	body   bytes.Buffer
}

// Header, WriteHeader and Write make it an [http.ResponseWriter].
func (k *keeper) Header() http.Header { return k.header }

// WriteHeader keeps the status.
func (k *keeper) WriteHeader(status int) { k.status = status }

// Write keeps what is written, to a bound.
func (k *keeper) Write(p []byte) (int, error) {
	if k.body.Len()+len(p) > pageBytes {
		return 0, errors.New("a page is too long")
	}
	return k.body.Write(p)
}

// chosenColumns are those that were asked for, each of which the first page has to have, or all that it has.
func chosenColumns(items []json.RawMessage, columns []string) ([]string, error) {
	var there []string
	seen := map[string]bool{}
	for _, item := range items {
		names, _, err := members(item)
		if err != nil {
			return nil, err
		}
		for _, name := range names {
			if !seen[name] {
				seen[name] = true
				there = append(there, name)
			}
		}
	}
	if columns == nil {
		return there, nil
	}
	for i, name := range columns {
		columns[i] = strings.TrimSpace(name)
		field, _, _ := strings.Cut(columns[i], ".")
		if len(items) > 0 && !seen[field] {
			return nil, fault.New("columns", fmt.Sprintf("there is no column %q", name), strings.Join(there, ", ")+
				"; what stands in one that is an object is named with a dot, such as labels.shop")
		}
	}
	return columns, nil
}

// members are the fields of an object, in their order.
func members(item json.RawMessage) (names []string, values map[string]json.RawMessage, err error) {
	decoder := json.NewDecoder(bytes.NewReader(item))
	if _, err := decoder.Token(); err != nil {
		return nil, nil, fmt.Errorf("reading what a list holds: %w", err)
	}
	values = map[string]json.RawMessage{}
	for decoder.More() {
		token, err := decoder.Token()
		if err != nil {
			return nil, nil, fmt.Errorf("reading what a list holds: %w", err)
		}
		name, _ := token.(string)
		var value json.RawMessage
		if err := decoder.Decode(&value); err != nil {
			return nil, nil, fmt.Errorf("reading what a list holds: %w", err)
		}
		names, values[name] = append(names, name), value
	}
	return names, values, nil
}

// cellsOf are the cells of an item. In JSON Lines they are as the API gives them.
func cellsOf(item json.RawMessage, columns []string, format sheet.Format) ([]any, error) {
	var values map[string]json.RawMessage
	if err := json.Unmarshal(item, &values); err != nil {
		return nil, fmt.Errorf("reading what a list holds: %w", err)
	}
	cells := make([]any, len(columns))
	for i, name := range columns {
		value := values[name]
		if field, within, dotted := strings.Cut(name, "."); dotted && value == nil {
			var object map[string]json.RawMessage
			if json.Unmarshal(values[field], &object) == nil {
				value = object[within]
			}
		}
		switch {
		case value == nil:
		case format == sheet.JSONLines:
			cells[i] = value
		case format == sheet.XLSX && name != "text" && name != "reference": // which are somebody's own words
			cells[i] = typed(value)
		default:
			cells[i] = cellOf(value)
		}
	}
	return cells, nil
}

// typed is a value as a cell of a workbook, in which times and amounts are such.
func typed(value json.RawMessage) any {
	if value[0] == '{' {
		var amount struct{ Amount, Currency string }
		decoder := json.NewDecoder(bytes.NewReader(value))
		decoder.DisallowUnknownFields()
		if decoder.Decode(&amount) == nil && amount.Currency != "" && amount.Amount != "" {
			return sheet.Amount{Number: amount.Amount, Currency: amount.Currency}
		}
	}
	cell := cellOf(value)
	if word, ok := cell.(string); ok && len(word) >= len("2026-12-03T09:00:00Z") && len(word) <= 40 && word[4] == '-' && word[10] == 'T' {
		if at, err := time.Parse(time.RFC3339, word); err == nil && at.Year() >= 1900 {
			return at
		}
	}
	return cell
}

// cellOf is a value as a cell: an amount with its currency, words of a list with commas between, labels as name=value;
// whatever else is no word, number or switch as JSON.
func cellOf(value json.RawMessage) any {
	switch first := value[0]; { // most are plain
	case first == '"':
		var word string
		if json.Unmarshal(value, &word) == nil {
			return word
		}
	case first == '-' || first >= '0' && first <= '9':
		return json.Number(value)
	case first == 't' || first == 'f':
		return first == 't'
	case first == 'n':
		return nil
	}
	decoder := json.NewDecoder(bytes.NewReader(value))
	decoder.UseNumber()
	var v any
	if decoder.Decode(&v) != nil {
		return nil
	}
	switch v := v.(type) {
	case []any:
		words := make([]string, len(v))
		for i, one := range v {
			switch one := one.(type) {
			case string:
				words[i] = one
			case json.Number:
				words[i] = one.String()
			default:
				return string(value)
			}
		}
		return strings.Join(words, ", ")
	case map[string]any:
		return objectCell(v, value)
	}
	return v
}

func objectCell(v map[string]any, value json.RawMessage) any {
	amount, isAmount := v["amount"].(string)
	currency, isCurrency := v["currency"].(string)
	if isAmount && isCurrency && len(v) == 2 {
		return strings.TrimSpace(amount + " " + currency)
	}
	names, _, err := members(value)
	if err != nil {
		return string(value)
	}
	pairs := make([]string, len(names))
	for i, name := range names {
		word, isWord := v[name].(string)
		if !isWord {
			return string(value)
		}
		pairs[i] = name + "=" + word
	}
	return strings.Join(pairs, ", ")
}
