package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"calmpigeon.example/client"
)

// A list is taken message by message, each with its outcome; repeated with its key it
// sends nothing more.
func TestListOfMessages(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	list := func(body, key string) (int, client.Outcomes, client.Problem) {
		t.Helper()
		response, said := h.request("POST", "/v1/messages", body, "Idempotency-Key", key)
		var o client.Outcomes
		var p client.Problem
		for _, into := range []any{&o, &p} {
			if err := json.Unmarshal([]byte(said), into); err != nil {
				t.Fatalf("%v: %s", err, said)
			}
		}
		return response.StatusCode, o, p
	}
	total := func() int64 { return must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})).Total }

	mixed := `{"text":"Berth 3","kind":"bulk","messages":[{"to":"+447700900123"},{"to":"+447700900144","text":"Berth 4","reference":"r-2"},` +
		`{"to":"nobody"},{"to":"+447700900101","txt":"x"},{"to":7},"x"]}`
	status, o, _ := list(mixed, "first")
	if status != http.StatusMultiStatus || o.Taken != 2 || o.Refused != 4 || len(o.Items) != 6 {
		t.Fatalf("%d: %+v", status, o)
	}
	if m := o.Items[0].Message; m == nil || m.Text != "Berth 3" || m.Kind != "bulk" || m.To != "+447700900123" {
		t.Errorf("the first: %+v", o.Items[0])
	}
	if m := o.Items[1].Message; m == nil || m.Text != "Berth 4" || m.Reference != "r-2" || m.Kind != "bulk" {
		t.Errorf("the second: %+v", o.Items[1])
	}
	for i, field := range map[int]string{2: "to", 3: "messages[3].txt", 4: "messages[4].to", 5: "messages[5]"} {
		if p := o.Items[i].Problem; o.Items[i].Index != i || p == nil || p.Status < 400 || len(p.Errors) == 0 ||
			p.Errors[0].Field != field {
			t.Errorf("number %d: %+v", i, o.Items[i].Problem)
		}
	}
	before := total()
	if status, again, _ := list(mixed, "first"); status != http.StatusMultiStatus || again.Items[0].Message == nil ||
		again.Items[0].Message.ID != o.Items[0].Message.ID || !again.Items[0].Message.Again || total() != before {
		t.Errorf("repeated: %d %+v, %d in all", status, again, total())
	}
	if status, o, _ := list(`{"messages":[{"to":"+447700900123","text":"a"},{"to":"+447700900144","text":"b"}]}`, ""); status != 202 ||
		o.Taken != 2 {
		t.Errorf("all of it: %d %+v", status, o)
	}
	before = total()
	if status, _, p := list(`{"messages":[{"to":"x","text":"a"}]}`, ""); status != 422 || len(p.Items) != 1 || p.Items[0].Problem == nil {
		t.Errorf("none of it: %d %+v", status, p)
	}
	for name, body := range map[string]string{
		"nothing":                `{"messages":[]}`,
		"no list":                `{"messages":{}}`,
		"too many":               `{"messages":[` + strings.Repeat(`{},`, 1000) + `{}]}`,
		"a number for all":       `{"to":"+447700900123","messages":[{"text":"x"}]}`,
		"a rehearsal":            `{"dry_run":true,"messages":[{"to":"+447700900123","text":"x"}]}`,
		"a field that is none":   `{"texxt":"x","messages":[{"to":"+447700900123"}]}`,
		"a rehearsal within one": `{"messages":[{"to":"+447700900123","text":"x","dry_run":true}]}`,
	} {
		if status, _, p := list(body, ""); status != 422 || len(p.Errors) == 0 && len(p.Items) == 0 {
			t.Errorf("%s: %d %+v", name, status, p)
		}
	}
	if total() != before {
		t.Errorf("something was sent of what was refused")
	}

	// The client sends any number, some hundred a request.
	n, refused := 0, 0
	drafts := func(yield func(client.Draft) bool) {
		for i := range 1203 {
			to := fmt.Sprintf("+4477009%05d", i)
			if i%400 == 399 {
				to = "x"
			}
			if !yield(client.Draft{To: to, Text: "Berth 3", Kind: "bulk"}) {
				return
			}
		}
	}
	for o, err := range h.Client.SendAll(t.Context(), drafts, "many") {
		if err != nil {
			t.Fatal(err)
		}
		if o.Index != n || (o.Problem != nil) != (n%400 == 399) || (o.Message == nil) == (o.Problem == nil) {
			t.Fatalf("outcome %d: %+v", n, o)
		}
		if n++; o.Problem != nil {
			refused++
		}
	}
	if n != 1203 || refused != 3 || total() != before+1200 {
		t.Errorf("%d outcomes, %d refused, %d in all", n, refused, total())
	}
	for range h.Client.SendAll(t.Context(), drafts, "many") {
	}
	if total() != before+1200 {
		t.Errorf("repeated, there are %d", total())
	}
}

// A form is taken from whoever has a key, with the usual mistakes told.
func TestForms(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	const kind = "application/x-www-form-urlencoded"
	for name, tt := range map[string]struct {
		kind, body  string
		status      int
		field, says string
	}{
		"as it should be":       {kind, "to=%2B447700900123&text=Gr%C3%B6%C3%9Fe+3&kind=bulk&valid_for=5m&flash=false", 202, "", "Größe 3"},
		"in windows-1252":       {kind + "; charset=windows-1252", "to=%2B447700900123&text=Gr%F6%DFe", 202, "", "Größe"},
		"not UTF-8":             {kind, "to=%2B447700900123&text=Gr%F6%DFe", 422, "text", "windows-1252"},
		"a plus that is none":   {kind, "to=+447700900123&text=x", 422, "to", "begins with a space"},
		"a field that is none":  {kind, "to=%2B447700900123&txt=x", 422, "txt", "no such field"},
		"a field twice":         {kind, "to=%2B447700900123&text=x&text=y", 422, "text", "given twice"},
		"no form":               {kind, "to=%zz", 422, "body", "it is no form"},
		"a switch that is none": {kind, "to=%2B447700900123&text=x&flash=maybe", 422, "flash", "neither"},
		"a number that is none": {kind, "to=12&text=x", 422, "to", "country"},
		"nothing":               {kind, "", 422, "to", "empty"},
	} {
		response, said := h.request("POST", "/v1/messages", tt.body, "Content-Type", tt.kind)
		var p client.Problem
		json.Unmarshal([]byte(said), &p)
		if response.StatusCode != tt.status || !strings.Contains(said, tt.says) ||
			tt.field != "" && (len(p.Errors) == 0 || p.Errors[0].Field != tt.field) {
			t.Errorf("%s: %s %s", name, response.Status, said)
		}
	}
	// Not with a cookie: pages of other sites can send a form.
	response, err := http.Post(h.URL+"/v1/session", "application/json", strings.NewReader(fmt.Sprintf(`{"key":%q}`, h.Key)))
	if err != nil {
		t.Fatal(err)
	}
	response.Body.Close()
	request, err := http.NewRequestWithContext(t.Context(), "POST", h.URL+"/v1/messages", strings.NewReader("to=%2B447700900123&text=x"))
	if err != nil {
		t.Fatal(err)
	}
	request.AddCookie(response.Cookies()[0])
	request.Header.Set("Content-Type", kind)
	request.Header.Set("Origin", h.URL)
	answer, err := http.DefaultClient.Do(request)
	if err != nil {
		t.Fatal(err)
	}
	answer.Body.Close()
	if answer.StatusCode != 400 {
		t.Errorf("with a cookie: %s", answer.Status)
	}
}

func TestSendFromAFile(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	file := filepath.Join(t.TempDir(), "orders.jsonl")
	lines := "\ufeff{\"to\":\"+447700900123\",\"text\":\"Berth 3\"}\n\n{\"to\":\"07700 900144\"}\nnope\n{\"to\":\"x\"}\n" +
		"{\"to\":\"+447700900101\",\"txt\":\"y\"}\n"
	if err := os.WriteFile(file, []byte(lines), 0o600); err != nil {
		t.Fatal(err)
	}
	args := []string{"send", "--from", file, "--country", "GB", "--kind", "bulk", "--idempotency-key", "orders"}
	code, out, errOut := h.pigeon("", append(args, "-o", "csv")...)
	if code != 3 || !strings.Contains(errOut, "1 message taken, 4 refused") || !strings.Contains(errOut, "message 3: This is no message") ||
		!strings.Contains(errOut, "message 4: ") || strings.Count(out, "\n") != 6 {
		t.Errorf("%d\n%s\n%s", code, out, errOut)
	}
	// What the options say holds for all that do not say otherwise; repeated, nothing
	// is sent twice.
	code, out, errOut = h.pigeon(
		`[{"to":"+447700900123","text":"Berth 3"},{"to":"07700 900144"}]`,
		"send",
		"--from",
		"-",
		"--country",
		"GB",
		"--template",
		"t",
	)
	if code != 3 || !strings.Contains(errOut, "0 messages taken, 2 refused") {
		t.Errorf("a template that there is not: %d\n%s\n%s", code, out, errOut)
	}
	before := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})).Total
	if code, _, _ := h.pigeon("", args...); code != 3 {
		t.Errorf("repeated: %d", code)
	}
	if after := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})).Total; after != before || before != 1 {
		t.Errorf("%d were sent, and repeated %d", before, after)
	}
	for name, tt := range map[string]struct {
		args []string
		says string
	}{
		"both":     {[]string{"send", "+447700900123", "x", "--from", file}, "no number, no text"},
		"no file":  {[]string{"send", "--from", "/nowhere"}, "there is no file /nowhere"},
		"neither":  {[]string{"send"}, "or --from FILE"},
		"its wait": {[]string{"send", "--from", file, "--wait"}, "neither --wait"},
	} {
		if code, _, errOut := h.pigeon("", tt.args...); code != 2 || !strings.Contains(errOut, tt.says) {
			t.Errorf("%s: %d %s", name, code, errOut)
		}
	}
	if code, _, errOut := h.pigeon("[{\"to\":\"+447700900123\",\"text\":\"x\"}", "send", "--from", "-"); code != 1 ||
		!strings.Contains(errOut, "does not end") {
		t.Errorf("a list that is cut: %d %s", code, errOut)
	}
}
