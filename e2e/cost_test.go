package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet/arrival"
)

// offline runs a command without a service and without a key.
func offline(t *testing.T, in string, args ...string) (code int, out, errOut string) {
	t.Helper()
	nowhere := &house{t: t, URL: "http://127.0.0.1:1"}
	return nowhere.pigeon(in, args...)
}

func TestWeighNeedsNoService(t *testing.T) {
	t.Parallel()
	code, out, errOut := offline(t, "", "weigh", "Don’t miss it: the 07:40 to Skerrow now leaves from berth 3 [gate B] – boarding closes")
	if code != 0 || errOut != "" {
		t.Fatalf("%d %s", code, errOut)
	}
	for _, want := range []string{"2 segments, UCS-2: 86 units, 67 a segment, 48 free in the last", "67 of 67", "19 of 67", "\n       ^\n", "right single quotation mark U+2019", "could be - (safe)",
		"With --cure safe: 1 segment of GSM 7-bit, 1 fewer", "│ Don't miss it"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	if _, out, _ := offline(t, "", "weigh", "Fare 48€ [incl.]"); !strings.Contains(out, "         ~ ~     ~") ||
		!strings.Contains(out, "nothing stands for it") {
		t.Errorf("doubles are not marked:\n%s", out)
	}
	if code, out, _ := offline(t, "Crossing 0740\n", "weigh", "-", "-o", "json"); code != 0 || !strings.Contains(out, `"units": 13`) {
		t.Errorf("from standard input: %d %s", code, out)
	}
	if code, out, _ := offline(t, "", "weigh", strings.Repeat("şa", 80), "--tables", "tr"); code != 0 ||
		!strings.Contains(out, "1 segment, GSM 7-bit with the Turkish locking shift table") && !strings.Contains(out, "2 segments") {
		t.Errorf("with tables: %d %s", code, out)
	}
	prices := filepath.Join(t.TempDir(), "prices.csv")
	if err := os.WriteFile(prices, []byte("country,price,currency,prefix\nGB,0.04,EUR,\nGB,0.03,EUR,447700\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	code, out, _ = offline(
		t,
		"",
		"weigh",
		strings.Repeat("a", 161),
		"--to",
		"GB,07700 900123,FR,nobody",
		"--country",
		"GB",
		"--prices",
		prices,
		"-o",
		"csv",
	)
	if code != 0 {
		t.Errorf("priced: %d %s", code, out)
	}
	_, out, _ = offline(
		t,
		"",
		"weigh",
		strings.Repeat("a", 161),
		"--to",
		"GB,07700 900123,FR,nobody",
		"--country",
		"GB",
		"--prices",
		prices,
	)
	for _, want := range []string{"GB              United Kingdom   2          0.08 EUR", "+447700900123   United Kingdom   2          0.06 EUR", "FR              France           2          unknown", "is a letter", "One to each: 0.14 EUR, and 2 of unknown price"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	for _, args := range [][]string{{"weigh"}, {"weigh", "x", "--encoding", "utf8"}, {"weigh", "x", "--tables", "hi"}, {"weigh", "x", "--cure", "full"}, {"weigh", "x", "--reference-bits", "4"}, {"weigh", "x", "--to", "GB"},
		{"weigh", "x", "--to", "GB", "--prices", "/nowhere.csv"}, {"weigh", "x", "--jsonl"}, {"number"}, {"number", "x", "--jsonl"}} {
		cmd := exec.Command(pigeon, args...)
		if out, err := cmd.CombinedOutput(); cmd.ProcessState.ExitCode() != 2 {
			t.Errorf("%v ends with %v: %s", args, err, out)
		}
	}
}

func TestLinesInLinesOut(t *testing.T) {
	t.Parallel()
	code, out, errOut := offline(
		t,
		`"Don’t"`+"\n"+`"[]"`+"\n"+`{"text":"αβ"}`+"\n"+`nonsense`+"\n"+`""`+"\n"+`"`+strings.Repeat("a", 161)+`"`+"\n",
		"weigh",
		"--jsonl",
	)
	type line struct {
		Encoding        string
		Units, Segments int
		Cuts            []int
		Problem         string
	}
	want := []line{
		{"ucs2", 5, 1, []int{7}, ""},
		{"gsm7", 4, 1, []int{2}, ""},
		{"ucs2", 2, 1, []int{4}, ""},
		{"", 0, 0, nil, "not a JSON"},
		{"gsm7", 0, 0, []int{}, "empty"},
		{"gsm7", 161, 2, []int{153, 161}, ""},
	}
	lines := bufio.NewScanner(strings.NewReader(out))
	for i, w := range want {
		var got line
		if !lines.Scan() || json.Unmarshal(lines.Bytes(), &got) != nil {
			t.Fatalf("line %d: %s", i+1, lines.Text())
		}
		if got.Encoding != w.Encoding || got.Units != w.Units || got.Segments != w.Segments || !slices.Equal(got.Cuts, w.Cuts) ||
			!strings.Contains(got.Problem, w.Problem) ||
			(w.Problem == "") != (got.Problem == "") {
			t.Errorf("line %d: %+v, want %+v", i+1, got, w)
		}
	}
	if code != 1 || lines.Scan() || !strings.Contains(errOut, "1 of 6 lines") {
		t.Errorf("ends with %d: %s %s", code, errOut, lines.Text())
	}

	_, out, _ = offline(
		t,
		`"07700 900123"`+"\n"+`{"text":"202 555 0143","country":"US"}`+"\n"+`"4.47701E+11"`+"\n",
		"number",
		"--jsonl",
		"--country",
		"GB",
	)
	var numbers []client.Number
	for decoder := json.NewDecoder(strings.NewReader(out)); ; {
		var n client.Number
		if err := decoder.Decode(&n); err == io.EOF {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		numbers = append(numbers, n)
	}
	if len(numbers) != 3 || numbers[0].E164 != "+447700900123" || !numbers[0].Valid || numbers[0].Country != "GB" ||
		numbers[1].E164 != "+12025550143" ||
		numbers[1].Country != "US" ||
		numbers[2].Valid ||
		!strings.Contains(numbers[2].Reason, "spreadsheet") {
		t.Errorf("got %s", out)
	}

	code, out, _ = offline(t, "07700 900123\n\nnobody\n", "number", "-", "--country", "GB", "-o", "csv")
	if code != 3 || !strings.Contains(out, "07700 900123,true,+447700900123,GB,,mobile,") || !strings.Contains(out, "nobody,false,") {
		t.Errorf("from standard input: %d %s", code, out)
	}
	if code, out, _ := offline(t, "", "number", "0044 (0) 7700 900123"); code != 0 ||
		!strings.Contains(out, "read 00 as +, dropped the trunk 0") ||
		!strings.Contains(out, "reserved for fiction by Ofcom") {
		t.Errorf("one number: %d %s", code, out)
	}
}

const prices = "country,prefix,kind,per,price,currency,from\nGB,,,segment,0.04,EUR,2026-01-01\nGB,,otp,message,0.05,EUR,2026-01-01\nGB,447700,bulk,segment,0.03,EUR,2026-01-01\n"

// A rehearsal makes every check and no message; what is sent then costs what
// was said, and what was replaced is in the evidence.
func TestRehearseThenSend(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	must[client.PriceList](t)(h.Client.PutPrices(t.Context(), "harbourline", client.PricesFile{Source: prices}, false))
	draft := client.Draft{
		To:      "07700 900123",
		Country: "GB",
		Text:    "Don’t miss it: crossing 0740 to Skerrow now leaves from berth 3, gate B – hurry",
		Cure:    "safe",
	}
	w := must[client.Weighing](t)(h.Client.Rehearse(t.Context(), draft))
	r := w.Recipients[0]
	if w.Segments != 1 || len(w.Replaced) != 2 || r.Number.E164 != "+447700900123" || r.Sender != "Lanternholm" ||
		r.Decision.Verdict != "allowed" ||
		r.Price == nil ||
		r.Price.Amount != "0.04" {
		t.Errorf("rehearsed: %+v\n%+v", w, r)
	}
	if tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})); tally.Total != 0 {
		t.Fatalf("a rehearsal sent something: %s", tally.Equation)
	}
	m := h.settled(h.send(draft).ID)
	if m.Text != w.Text || m.Given != draft.Text || m.To != "+447700900123" || m.Country != "GB" || m.Price == nil ||
		*m.Price != *r.Price ||
		m.State != "delivered" {
		t.Errorf("sent: %+v", m)
	}
	if note := m.Evidence[0].Note; !strings.Contains(note, "Replaced (safe): ’ by ' ×1") {
		t.Errorf("the evidence says %q", note)
	}
	if phones := h.Fleet.Phones.All("+447700900123", 5); len(phones) != 1 || phones[0].Texts[0].Text != w.Text {
		t.Errorf("the handset shows %+v", phones)
	}
	for kind, want := range map[string]string{"otp": "0.05 EUR", "bulk": "0.03 EUR", "transactional": "0.04 EUR"} {
		if m := h.send(client.Draft{To: "+447700900123", Text: "x", Kind: kind}); m.Price == nil || m.Price.String() != want {
			t.Errorf("%s costs %v, want %s", kind, m.Price, want)
		}
	}
	if m := h.send(client.Draft{To: "+33639980012", Text: "x"}); m.Price != nil {
		t.Errorf("a price that nobody knows is %v", m.Price)
	}
	m = h.send(client.Draft{To: "+442079460123", Text: "x"})
	if len(m.Warnings) != 1 || !strings.Contains(m.Warnings[0].Say, "a fixed line of United Kingdom") {
		t.Errorf("to a fixed line: %+v", m.Warnings)
	}

	// A key may replace for whoever sends with it; a draft has the last word.
	key := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "night shift", Cure: "strong"}))
	night := client.New(h.URL, key.Key)
	long := client.Draft{To: "+447700900123", Text: strings.Repeat("a", 158) + "[]"}
	if m := must[client.Message](t)(night.Send(t.Context(), long)); m.Segments != 1 || !strings.HasSuffix(m.Text, "()") {
		t.Errorf("with the key's cure: %d segments, %q", m.Segments, m.Text)
	}
	long.Cure = "off"
	if m := must[client.Message](t)(night.Send(t.Context(), long)); m.Segments != 2 || m.Given != "" {
		t.Errorf("with the draft's: %d segments, %q", m.Segments, m.Text)
	}
}

// Rules are data: they decide, can be changed, exported, changed in the file,
// and taken in again; other instances follow.
func TestRulesDecideAndCanBeChanged(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	second := h.beside()
	us := client.Draft{To: "+12025550143", Text: "Berth 3"}
	refused := func(d client.Draft, why string) {
		t.Helper()
		if _, err := h.Client.Send(t.Context(), d); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%+v gives %v; want it to say %q", d, err, why)
		}
	}
	refused(us, "takes no alphanumeric senders")
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: "+447700900000"}))
	refused(us, "no registration of +447700900000 is known")
	code, out, errOut := h.pigeon("", "sender", "set", "+447700900000", "--registration", "US=C-LANTERN1")
	if code != 0 || !strings.Contains(out, "US=C-LANTERN1") {
		t.Fatalf("%d %s %s", code, out, errOut)
	}
	if m := h.send(us); m.Sender != "+447700900000" || m.Country != "US" {
		t.Errorf("the numeric sender is taken: %+v", m)
	}
	us.Sender = "Lanternholm"
	refused(us, "rule US of 2026-11-01")
	if code, out, errOut := h.pigeon("", "sender", "rules", "set", "us",
		"--alphanumeric", "open", "--origin", "the gateway", "--date", "2026-11-20"); code != 0 ||
		!strings.Contains(out, "2026-11-20") {
		t.Fatalf("%d %s %s", code, out, errOut)
	}
	h.send(us)

	code, file, _ := h.pigeon("", "sender", "rules", "export")
	if code != 0 || !strings.Contains(file, "country: US") {
		t.Fatalf("exported: %d %.300s", code, file)
	}
	if code, out, _ := h.pigeon(file, "sender", "rules", "import", "-"); code != 0 || !strings.Contains(out, "unchanged") ||
		strings.Contains(out, "US") {
		t.Errorf("taken in as it was: %d %s", code, out)
	}
	changed := filepath.Join(t.TempDir(), "rules.yaml")
	if err := os.WriteFile(changed, []byte("date: 2026-11-21\norigin: a letter\nrules:\n  - {country: ZW, alphanumeric: closed}\n  - {country: GB, alphanumeric: open, texts: open, links: closed}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	link := client.Draft{To: "+447700900123", Text: "See https://ferry.example/3"}
	if code, out, errOut := h.pigeon("", "sender", "rules", "import", changed, "--dry-run"); code != 0 || !strings.Contains(out, "ZW") ||
		!strings.Contains(errOut, "Nothing was changed") {
		t.Errorf("a dry run: %d %s %s", code, out, errOut)
	}
	h.send(link)
	if code, out, _ := h.pigeon("", "sender", "rules", "import", changed); code != 0 || !strings.Contains(out, "ZW") ||
		!strings.Contains(out, "GB") {
		t.Errorf("taken in: %d %s", code, out)
	}
	refused(link, "lets no links through (rule GB of 2026-11-21)")
	eventually(t, "the other instance follows", func() bool {
		_, err := second.Client.Send(t.Context(), link)
		return err != nil && strings.Contains(err.Error(), "rule GB of 2026-11-21")
	})
	h.kill()
	h.restart()
	refused(link, "rule GB of 2026-11-21")
	if code, _, errOut := h.pigeon("", "sender", "rules", "reset", "GB"); code != 0 {
		t.Errorf("%d %s", code, errOut)
	}
	h.send(link)
	if code, out, _ := h.pigeon("", "sender", "rules", "show", "IN"); code != 0 || !strings.Contains(out, "India (IN)") ||
		!strings.Contains(out, "texts         registered") {
		t.Errorf("shown: %d %s", code, out)
	}
}

const berthTemplate = `name: berth
language: en
cure: safe
sender: Lanternholm
kind: bulk
texts:
  en: "Crossing {time} leaves from berth {berth}. {note|}"
  el: "Το δρομολόγιο {time} φεύγει από την αποβάθρα {berth}."
fields: {time: {as: time}, berth: {only: digits, most: 2}, note: {only: no_links}}
registered: [{country: SE, id: S-1, wording: "Crossing {5} leaves from berth {2}. "}]
`

func TestTemplates(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	file := filepath.Join(t.TempDir(), "berth.yaml")
	if err := os.WriteFile(file, []byte(berthTemplate), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, out, errOut := h.pigeon("", "template", "add", file); code != 0 || !strings.Contains(out, "time berth") {
		t.Fatalf("%d %s %s", code, out, errOut)
	}
	if code, _, errOut := h.pigeon("", "template", "add", file); code != 3 || !strings.Contains(errOut, "already") {
		t.Errorf("added twice: %d %s", code, errOut)
	}
	if code, _, errOut := h.pigeon("", "template", "add", file, "--replace"); code != 0 {
		t.Errorf("replaced: %d %s", code, errOut)
	}
	fields := map[string]any{"time": "07:40", "berth": 3}
	m := h.send(client.Draft{To: "+447700900123", Template: "berth", Fields: fields})
	if m.Text != "Crossing 07:40 leaves from berth 3. " || m.Template != "berth" || m.Kind != "bulk" {
		t.Errorf("got %+v", m)
	}
	// The language by the country, and by what is asked for.
	w := must[client.Weighing](
		t,
	)(
		h.Client.Weigh(t.Context(), client.WeighRequest{Template: "berth", Fields: fields, To: []string{"GR", "CY", "FR"}}),
	)
	var languages []string
	for _, r := range w.Recipients {
		languages = append(languages, r.Language)
	}
	if !slices.Equal(languages, []string{"el", "el", "en"}) {
		t.Errorf("languages %v", languages)
	}
	if m := h.send(client.Draft{To: "+447700900123", Template: "berth", Fields: fields, Language: "el"}); m.Encoding != "ucs2" {
		t.Errorf("in Greek: %+v", m)
	}
	// What is registered must be worded so.
	if m := h.send(client.Draft{To: "+46701740605", Template: "berth", Fields: fields}); m.Country != "SE" {
		t.Errorf("to Sweden: %+v", m)
	}
	for field, tt := range map[string]struct {
		change map[string]any
		says   string
	}{
		"fields.berth": {map[string]any{"berth": "3b"}, "template berth, text en: \"3b\" is not digits only"},
		"fields.time":  {map[string]any{"time": ""}, "it is missing"},
		"fields.note":  {map[string]any{"note": "see www.ferry.example"}, "a link"},
		"template":     {map[string]any{"note": "Sorry."}, "not worded as registered in SE under S-1"},
	} {
		with := map[string]any{"time": "07:40", "berth": 3}
		for k, v := range tt.change {
			with[k] = v
		}
		_, err := h.Client.Send(t.Context(), client.Draft{To: "+46701740605", Template: "berth", Fields: with})
		if err == nil || !strings.Contains(err.Error(), "\n  "+field+": ") || !strings.Contains(err.Error(), tt.says) {
			t.Errorf("%s: %v; want it to say %q", field, err, tt.says)
		}
	}
	if code, out, _ := h.pigeon("", "send", "+447700900123", "--template", "berth",
		"--field", "time=19:05", "--field", "berth=12", "--dry-run"); code != 0 ||
		!strings.Contains(out, "Crossing 19:05 leaves from berth 12.") ||
		!strings.Contains(out, "price     unknown") {
		t.Errorf("rehearsed: %d %s", code, out)
	}

	data := filepath.Join(t.TempDir(), "passengers.csv")
	if err := os.WriteFile(data, []byte("language,time,berth,note\nen,07:40,3,\nel,07:40,3,\nen,late,3,\nen,07:40,3,"+strings.Repeat("x", 200)+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	code, out, errOut := offline(t, "", "template", "check", file, "--data", data)
	if code != 3 || !strings.Contains(out, "4 rows, 4 segments in all, 1 cannot be sent") || !strings.Contains(out, "longest    4     2") ||
		!strings.Contains(errOut, `template "berth", row 3, text en, field time: "late"`) {
		t.Errorf("over data: %d\n%s%s", code, out, errOut)
	}
	passengers, err := os.ReadFile(data)
	if err != nil {
		t.Fatal(err)
	}
	span := must[client.TemplateSpan](
		t,
	)(
		h.Client.WeighTemplate(t.Context(), client.TemplateData{Template: "berth", Data: string(passengers)}),
	)
	if span.Rows != 4 || span.Failed != 1 || span.Segments != 4 || span.Longest.Row != 4 || span.Faults[0].Row != 3 ||
		span.Faults[0].Field != "time" ||
		span.Cost != nil {
		t.Errorf("over data: %+v", span)
	}
	must[client.PriceList](t)(h.Client.PutPrices(t.Context(), "harbourline", client.PricesFile{Source: prices}, false))
	span = must[client.TemplateSpan](
		t,
	)(
		h.Client.WeighTemplate(
			t.Context(),
			client.TemplateData{
				Template: "berth",
				Data:     "to,country,time,berth\n07700 900123,GB,07:40,3\n,gb,07:40,3\n+33639980012,,07:40,3\n",
			},
		),
	)
	if span.Cost == nil || span.Cost.Priced != 2 || span.Cost.Unknown != 1 || span.Cost.Sums[0].String() != "0.07 EUR" {
		t.Errorf("they cost %+v", span.Cost)
	}
	if code, out, _ := offline(t, "", "template", "check", file); code != 0 ||
		!strings.Contains(out, "It needs time, berth; it may have note.") {
		t.Errorf("checked: %d %s", code, out)
	}
	if code, _, errOut := h.pigeon("", "template", "remove", "berth"); code != 0 || !strings.Contains(errOut, "name: berth") {
		t.Errorf("removed: %d %s", code, errOut)
	}
	if _, err := h.Client.Template(t.Context(), "berth"); err == nil {
		t.Error("it is still there")
	}
}

func TestPriceLists(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	file := filepath.Join(t.TempDir(), "prices.csv")
	if err := os.WriteFile(file, []byte(prices), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, errOut := h.pigeon("", "gateway", "prices", "show", "harbourline"); code != 0 || !strings.Contains(errOut, "unknown") {
		t.Errorf("without a list: %d %s", code, errOut)
	}
	if code, _, errOut := h.pigeon("", "gateway", "prices", "import", "harbourline", file, "--dry-run"); code != 0 ||
		!strings.Contains(errOut, "Nothing was changed. The list has 3 prices") {
		t.Errorf("a dry run: %d %s", code, errOut)
	}
	if l := must[client.PriceList](t)(h.Client.Prices(t.Context(), "harbourline")); len(l.Prices) != 0 {
		t.Errorf("a dry run wrote %d prices", len(l.Prices))
	}
	if code, out, _ := h.pigeon("", "gateway", "prices", "import", "harbourline", file); code != 0 || !strings.Contains(out, "447700") {
		t.Errorf("taken in: %d %s", code, out)
	}
	if code, _, errOut := h.pigeon(prices+"UK,,,segment,1,EUR,\n", "gateway", "prices", "import", "harbourline", "-"); code != 3 ||
		!strings.Contains(errOut, `line 5: country "UK"`) {
		t.Errorf("with a mistake: %d %s", code, errOut)
	}
	code, out, _ := h.pigeon("", "gateway", "prices", "export", "harbourline")
	if code != 0 || !strings.Contains(out, "GB,447700,bulk,segment,0.03,EUR,2026-01-01") {
		t.Errorf("given out: %d %s", code, out)
	}
	h.kill()
	h.restart()
	if m := h.send(client.Draft{To: "+447700900123", Text: "x"}); m.Price == nil || m.Price.String() != "0.04 EUR" {
		t.Errorf("after a restart: %v", m.Price)
	}
}

// A sender with a pace of its own keeps it through all gateways and instances,
// holds nobody else up, and uses it fully; its passcodes go before its bulk.
func TestSenderKeepsItsOwnPace(t *testing.T) {
	t.Parallel()
	const limit, messages = 5, 30
	h := build(t)
	type request struct {
		at   time.Time
		text string
	}
	var mu sync.Mutex
	var slow []request
	others := 0
	gateway := stamped(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var body struct{ Text string }
		json.NewDecoder(r.Body).Decode(&body)
		mu.Lock()
		defer mu.Unlock()
		if strings.HasPrefix(body.Text, "other") {
			others++
		} else {
			slow = append(slow, request{arrival.Of(r), body.Text})
		}
		fmt.Fprintf(w, `{"id":"p-%d"}`, len(slow)+others*1000)
	}))
	defer gateway.Close()
	for _, name := range []string{"one", "two"} {
		must[client.Gateway](
			t,
		)(
			h.Client.AddGateway(
				t.Context(),
				client.NewGateway{
					Name:        name,
					Source:      fmt.Sprintf(plainDialect, 1000),
					Address:     gateway.URL,
					AskAfter:    "1h",
					GiveUpAfter: "2h",
				},
			),
		)
	}
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: "+447700900000", PerSecond: limit}))
	h.beside()

	for i := range messages {
		must[client.Message](
			t,
		)(
			h.Client.Send(
				t.Context(),
				client.Draft{
					To:      "+447700900123",
					Text:    fmt.Sprintf("slow %d", i),
					Sender:  "+447700900000",
					Kind:    "bulk",
					Gateway: []string{"one", "two"}[i%2],
				},
			),
		)
	}
	for i := range 20 {
		must[client.Message](
			t,
		)(
			h.Client.Send(t.Context(), client.Draft{To: "+447700900123", Text: fmt.Sprintf("other %d", i), Kind: "bulk", Gateway: "one"}),
		)
	}
	must[client.Message](
		t,
	)(
		h.Client.Send(
			t.Context(),
			client.Draft{To: "+447700900123", Text: "slow passcode", Sender: "+447700900000", Kind: "otp", Gateway: "one"},
		),
	)
	eventually(t, "all are sent", func() bool {
		mu.Lock()
		defer mu.Unlock()
		if others == 20 && len(slow) == 0 {
			t.Error("the others were sent, and the slow ones not begun")
		}
		return len(slow) == messages+1 && others == 20
	})
	mu.Lock()
	defer mu.Unlock()
	slices.SortFunc(slow, func(a, b request) int { return a.at.Compare(b.at) })
	busiest, passcode := 0, 0
	for i := range slow {
		n := 0
		for j := i; j < len(slow) && slow[j].at.Sub(slow[i].at) < time.Second; j++ {
			n++
		}
		busiest = max(busiest, n)
		if slow[i].text == "slow passcode" {
			passcode = i
		}
	}
	if busiest > limit {
		t.Errorf("the busiest second had %d messages of a sender that may send %d", busiest, limit)
	}
	if passcode > messages*3/4 {
		t.Errorf("the passcode came %dth of %d", passcode+1, len(slow))
	}
}
