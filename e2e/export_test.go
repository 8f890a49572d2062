package e2e

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/sheet"
)

// Every list comes out as a whole, in every format, with the columns that one wants.
func TestListsAreExported(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline")
	must[client.Receiver](t)(
		h.Client.AddReceiver(t.Context(), client.ReceiverSettings{Name: "shop", Address: new("http://127.0.0.1:1/hook")}),
	)
	drafts := make([]client.Draft, 1200) // more than two pages
	for i := range drafts {
		drafts[i] = client.Draft{
			To:        fmt.Sprintf("+4477009%05d", i%1000),
			Text:      "=1+1",
			Kind:      "transactional",
			Reference: fmt.Sprintf("r-%d", i),
			Labels:    map[string]string{"pier": "east"},
		}
	}
	refused := 0
	for i := 0; i < len(drafts); i += 400 {
		o := must[client.Outcomes](t)(h.Client.SendList(t.Context(), drafts[i:i+400], ""))
		refused += o.Refused
	}
	if refused > 0 {
		t.Fatalf("%d were refused", refused)
	}
	export := func(e client.Export) []byte {
		t.Helper()
		var out bytes.Buffer
		if err := h.Client.Export(t.Context(), e, &out); err != nil {
			t.Fatalf("%+v: %v", e, err)
		}
		return out.Bytes()
	}
	rows := must[[][]string](t)(csv.NewReader(bytes.NewReader(export(client.Export{List: "messages",
		Columns: []string{"reference", "to", "text", "segments", "labels.pier", "weak"}}))).ReadAll())
	if len(rows) != 1201 || strings.Join(rows[0], " ") != "reference to text segments labels.pier weak" {
		t.Fatalf("%d rows under %q", len(rows), rows[0])
	}
	seen := map[string]bool{}
	for _, row := range rows[1:] {
		seen[row[0]] = true
		if !strings.HasPrefix(row[1], "+4477009") || row[2] != "'=1+1" || row[3] != "1" || row[4] != "east" || row[5] != "false" {
			t.Fatalf("%q", row)
		}
	}
	if len(seen) != 1200 {
		t.Errorf("%d of them are different", len(seen))
	}
	book := must[*sheet.List](t)(sheet.Open(bytes.NewReader(export(client.Export{List: "messages", Format: "xlsx",
		Filters: url.Values{"reference": {"r-7"}}})), sheet.Hint{}))
	defer book.Close()
	for row, err := range book.Rows() {
		at := slices.Index(book.Head(), "text")
		if err != nil || at < 0 || row.Cells[at] != "=1+1" {
			t.Errorf("%q, %v", row.Cells, err)
		}
	}
	chosen := export(client.Export{List: "messages", Format: "jsonl", Columns: []string{"id", "labels", "price.amount"}})
	for line := range strings.Lines(string(chosen)) {
		var one struct {
			ID     string
			Labels map[string]string
		}
		if err := json.Unmarshal([]byte(line), &one); err != nil || one.ID == "" || one.Labels["pier"] != "east" {
			t.Fatalf("%s: %v", line, err)
		}
	}
	// All lists, as they are.
	for _, list := range []string{"messages", "events", "strays", "statements", "batches", "opt-outs", "inbound", "changes", "recipient-lists",
		"receivers", "gateways", "senders", "templates", "rules", "keys", "attention"} {
		export(client.Export{List: list})
	}
	file := filepath.Join(t.TempDir(), "all.xlsx")
	code, _, errOut := h.pigeon(
		"",
		"export",
		"messages",
		"--since",
		"1h",
		"--where",
		"kind=transactional",
		"--columns",
		"id,state",
		"--file",
		file,
	)
	if info, err := os.Stat(file); code != 0 || err != nil || info.Size() < 10_000 || !strings.Contains(errOut, "all.xlsx has ") {
		t.Errorf("%d, %s, %v, %v", code, errOut, info, err)
	}
	if left := must[[]os.DirEntry](t)(os.ReadDir(filepath.Dir(file))); len(left) != 1 {
		t.Errorf("there are %v", left)
	}
	for name, tt := range map[string]struct {
		e      client.Export
		status int
		field  string
	}{
		"no such list":   {client.Export{List: "lists"}, 404, ""},
		"a stream":       {client.Export{List: "messages/follow"}, 404, ""},
		"itself":         {client.Export{List: "exports/messages"}, 404, ""},
		"above":          {client.Export{List: "messages/../keys"}, 404, ""},
		"no such format": {client.Export{List: "messages", Format: "pdf"}, 422, "format"},
		"no such column": {client.Export{List: "messages", Columns: []string{"id", "body"}}, 422, "columns"},
		"no such filter": {client.Export{List: "messages", Filters: url.Values{"color": {"red"}}}, 422, "color"},
		"a page":         {client.Export{List: "messages", Filters: url.Values{"limit": {"5"}}}, 422, "limit"},
		"no statement":   {client.Export{List: "statements/019abd5e-0000-7000-8000-000000000000/lines"}, 404, ""},
	} {
		var p *client.Problem
		var out bytes.Buffer
		if err := h.Client.Export(t.Context(), tt.e, &out); !errors.As(err, &p) || p.Status != tt.status ||
			tt.field != "" && (len(p.Errors) == 0 || p.Errors[0].Field != tt.field) || out.Len() > 0 {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := client.New(h.URL, "pigeon_nobody_x").Export(t.Context(), client.Export{List: "messages"}, &bytes.Buffer{}); err == nil ||
		!strings.Contains(err.Error(), "key") {
		t.Errorf("with a key that is none: %v", err)
	}
	// In the console it is a link, with the filters of the page.
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/messages?span=all&kind=transactional#key=" + h.Key))
	b.shows(".export", "CSV")
	link := must[string](t)(chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.querySelector(".export a").getAttribute("href")`)))
	if link != "/v1/exports/messages?kind=transactional&format=csv" {
		t.Errorf("the link is %s", link)
	}
}
