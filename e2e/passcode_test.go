package e2e

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/client"
)

// codeAt is the code that the handset of a number got last through a gateway.
func (h *house) codeAt(gateway, number, form string) string {
	h.t.Helper()
	code := ""
	eventually(h.t, "a code is on the handset of "+number, func() bool {
		var last time.Time
		for _, e := range h.entries(gateway) {
			if found := regexp.MustCompile(form).FindString(e.Text); e.To == number && found != "" && e.TakenAt.After(last) {
				code, last = found, e.TakenAt
			}
		}
		return code != ""
	})
	return code
}

const sixDigits = `\b\d{6}\b`

// One code is sent, checked as people type it, and is right once, whoever asks at the same time and wherever; wrong ones
// are counted, also across a crash, and then none is right; a newer one ends the older; and what is no passcode is told
// as a wrong code is.
func TestPasscodes(t *testing.T) {
	t.Parallel()
	h := build(t, quick).withHarbourline()
	other := h.beside()
	issue := func(number string) client.Passcode {
		t.Helper()
		return must[client.Passcode](t)(h.Client.Issue(t.Context(), client.NewPasscode{To: number, Purpose: "sign-in"}, ""))
	}
	check := func(id, code, want string, left int) {
		t.Helper()
		v := must[client.PasscodeVerdict](t)(h.Client.Check(t.Context(), id, code))
		if v.Verdict != want || v.TriesLeft != left {
			t.Errorf("%s with %d tries left, want %s with %d", v.Verdict, v.TriesLeft, want, left)
		}
	}
	p := issue("+447700900101")
	if p.Code != "" || p.State != "open" || p.TriesLeft != 5 || p.SendsLeft != 3 || p.AgainAt == nil || p.Language != "en" ||
		p.EndsAt.Sub(p.CreatedAt) != 5*time.Minute || p.Message != p.ID {
		t.Errorf("%+v", p)
	}
	code := h.codeAt("harbourline", "+447700900101", sixDigits)
	for _, e := range h.entries("harbourline") {
		if e.KeepFor < 290 || e.KeepFor > 300 {
			t.Errorf("the gateway is to keep the text for %d seconds, want those that are left of five minutes", e.KeepFor)
		}
	}
	check(p.ID, "000000x", "wrong", 4)
	var right, used sync.Map
	var many sync.WaitGroup
	for i := range 40 {
		many.Go(func() {
			c := []*client.Client{h.Client, other.Client}[i%2]
			switch v := must[client.PasscodeVerdict](t)(c.Check(t.Context(), p.ID, code[:3]+"-"+code[3:])); v.Verdict {
			case "right":
				right.Store(i, true)
			case "used":
				used.Store(i, true)
			default:
				t.Errorf("%+v", v)
			}
		})
	}
	many.Wait()
	count := func(m *sync.Map) (n int) { m.Range(func(any, any) bool { n++; return true }); return n }
	if count(&right) != 1 || count(&used) != 39 {
		t.Errorf("%d were told that it is right, %d that it was used", count(&right), count(&used))
	}

	q := issue("+447700900102")
	secret := h.codeAt("harbourline", "+447700900102", sixDigits)
	check(q.ID, "1", "wrong", 4)
	check(q.ID, "2", "wrong", 3)
	h.kill()
	h.start(h.listen())
	check(q.ID, "3", "wrong", 2)
	check(q.ID, "4", "wrong", 1)
	check(q.ID, "5", "wrong", 0)
	check(q.ID, secret, "locked", 0)
	if now := must[client.Passcode](t)(h.Client.Passcode(t.Context(), q.ID)); now.State != "locked" || now.AgainAt != nil {
		t.Errorf("%+v", now)
	}

	first := issue("+447700900103")
	old := h.codeAt("harbourline", "+447700900103", sixDigits)
	second := issue("+447700900103")
	eventually(t, "the second is on the handset", func() bool { return h.codeAt("harbourline", "+447700900103", sixDigits) != old })
	check(first.ID, old, "ended", 5)
	newest := h.codeAt("harbourline", "+447700900103", sixDigits)
	if v := must[client.PasscodeVerdict](t)(h.Client.CheckFor(t.Context(), "+44 7700 900103", "sign-in", newest)); v.Verdict != "right" ||
		v.ID != second.ID {
		t.Errorf("%+v", v)
	}
	for _, none := range []string{"019abd5d-0000-7000-8000-000000000000", "nonsense"} {
		began := time.Now()
		check(none, "123456", "wrong", 4)
		if took := time.Since(began); took < 60*time.Millisecond {
			t.Errorf("what is no passcode is told after %v", took)
		}
	}
	if v := must[client.PasscodeVerdict](t)(h.Client.CheckFor(t.Context(), "+447700900199", "sign-in", "123456")); v.Verdict != "wrong" ||
		v.ID != "" {
		t.Errorf("%+v", v)
	}
	ended := issue("+447700900104")
	if now := must[client.Passcode](t)(h.Client.EndPasscode(t.Context(), ended.ID)); now.State != "ended" {
		t.Errorf("%+v", now)
	}
	check(ended.ID, h.codeAt("harbourline", "+447700900104", sixDigits), "ended", 5)

	token := client.NewPasscode{To: "+447700900105", Purpose: "sign-in"}
	one := must[client.Passcode](t)(h.Client.Issue(t.Context(), token, "once"))
	same := must[client.Passcode](t)(h.Client.Issue(t.Context(), token, "once"))
	if same.ID != one.ID || !same.Again || one.Again {
		t.Errorf("%+v\n%+v", one, same)
	}
	token.Purpose = "payment"
	if _, err := h.Client.Issue(t.Context(), token, "once"); !strings.Contains(fmt.Sprint(err), "Idempotency-Key") {
		t.Errorf("%v", err)
	}
	var f client.PasscodeFunnel
	eventually(t, "all texts have arrived", func() bool {
		f = must[client.PasscodeFunnel](t)(h.Client.PasscodeFunnel(t.Context(), client.Filter{}, "sign-in", "gateway"))
		return f.All.Delivered == 6
	})
	all := f.All
	if all.Issued != 6 || all.Again != 0 || all.Messages != 6 || all.Accepted != 6 || all.Checked != 3 || all.Right != 2 ||
		all.Took.Right == nil || all.Took.Accepted == nil || all.Took.Delivered == nil ||
		all.Conversion == nil || *all.Conversion < 0.33 || *all.Conversion > 0.34 || len(f.Groups) != 1 ||
		f.Groups[0].Gateway != "harbourline" ||
		f.Groups[0].Right != 2 ||
		f.Groups[0].Messages != 6 {
		t.Errorf("%+v", f)
	}
	for by, name := range map[string]string{"country": "GB", "purpose": "sign-in", "hour": ""} {
		f := must[client.PasscodeFunnel](t)(h.Client.PasscodeFunnel(t.Context(), client.Filter{}, "", by))
		if len(f.Groups) == 0 || f.Groups[0].Country+f.Groups[0].Purpose != name || f.Groups[0].Issued == 0 {
			t.Errorf("by %s: %+v", by, f)
		}
	}
	if code, out, errOut := h.pigeon("", "passcode", "funnel"); code != 0 ||
		!regexp.MustCompile(`harbourline +6 +0 +6 +6 +6 +3 +2 +33.3 %`).MatchString(out) {
		t.Errorf("%d\n%s%s", code, out, errOut)
	}

	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/passcodes#key=" + h.Key))
	b.shows("h1", "2 of 6 passcodes were used")
	b.shows("main table", "33.3 %")
	b.write(`[aria-label="Value"]`, "07700 900123")
	b.press("section:last-of-type form .btn")
	b.shows("section:last-of-type form", "is no number")
	b.write(`[aria-label="Value"]`, "+44 7700 900123")
	b.press("section:last-of-type form .btn")
	b.shows("section:last-of-type tbody", "+447700900123")
	b.press("section:last-of-type tbody .btn")
	b.shows("section:last-of-type", "Nothing is.")
	b.write(`[aria-label="At most; nothing for no limit"]`, "7")
	b.press("section:nth-last-of-type(2) form .btn")
	b.shows("section:nth-last-of-type(2)", "For a number: 7 an hour, 10 a day (set)")
	b.press("section:nth-last-of-type(2) form .btn-link")
	b.shows("section:nth-last-of-type(2)", "For a number: 5 an hour, 10 a day")
}

// What is wrong is named, all of it at once.
func TestPasscodesAreAskedForRightly(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	for body, want := range map[string]string{
		`{"to":"+447700900123"}`:                                                             "purpose",
		`{"to":"12","purpose":"x"}`:                                                          `"field":"to"`,
		`{"to":"+447700900123","purpose":"x","length":3}`:                                    "a length of 3",
		`{"to":"+447700900123","purpose":"x","of":"emoji"}`:                                  "accepted are digits and letters",
		`{"to":"+447700900123","purpose":"x","life":"2h"}`:                                   "30s to 1h",
		`{"to":"+447700900123","purpose":"x","address":"here"}`:                              "no IP address",
		`{"to":"+447700900123","purpose":"x","domain":"https://a.example"}`:                  "no name of a host",
		`{"to":"+447700900123","purpose":"x","domain":"a.example","app_hash":"FA+9qCX9VSu"}`: "not both",
		`{"to":"+447700900123","purpose":"x","fields":{"code":"1"},"template":"t"}`:          "given by us",
		`{"to":"+447700900123","purpose":"x","template":"none"}`:                             "template",
		`{"to":"+447700900123","purpose":"x","gateway":"none"}`:                              "not a gateway here",
		`{"to":"+447700900123","purpose":"x","reveal":true}`:                                 "may not see codes",
		`{"to":"+447700900123","purpose":"` + strings.Repeat("x", 41) + `"}`:                 "at most 40 characters",
	} {
		r, said := h.request("POST", "/v1/passcodes", body)
		if r.StatusCode < 400 || r.StatusCode >= 500 || !strings.Contains(said, want) {
			t.Errorf("%s: %s %s", body, r.Status, said)
		}
	}
	must[client.Template](
		t,
	)(
		h.Client.AddTemplate(t.Context(), client.TemplateFile{Source: "name: plain\nlanguage: en\ntexts: {en: 'Hello {name}'}"}),
	)
	must[client.Template](t)(h.Client.AddTemplate(t.Context(), client.TemplateFile{
		Source: "name: board\nlanguage: en\ntexts: {en: '{code} boards {name} for {minutes} min.', de: '{code} für {name}'}"}))
	plain := `{"to":"+447700900123","purpose":"x","template":"plain","fields":{"name":"Ada"}}`
	if r, said := h.request("POST", "/v1/passcodes", plain); r.StatusCode != 422 {
		t.Errorf("a text without the code goes: %s", said)
	}
	k := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "practice", Practice: true}))
	practice := client.New(h.URL, k.Key)
	if _, err := h.Client.NewKey(t.Context(), client.NewKey{Name: "x", PasscodeCountries: []string{"GB", "XX"}}); !strings.Contains(
		fmt.Sprint(err),
		"XX",
	) {
		t.Errorf("%v", err)
	}
	narrow := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "narrow", PasscodeCountries: []string{"gb"}}))
	for to, goes := range map[string]bool{"+447700900124": true, "+33639980001": false} {
		if _, err := client.New(h.URL, narrow.Key).Issue(t.Context(), client.NewPasscode{To: to, Purpose: "x"}, ""); (err == nil) != goes {
			t.Errorf("%s: %v", to, err)
		}
	}
	p := must[client.Passcode](
		t,
	)(
		practice.Issue(t.Context(), client.NewPasscode{To: "+447700900123", Purpose: "boarding", Template: "board",
			Language: "de", Fields: map[string]any{"name": "Ada"}, Of: "letters", Length: 8, Reveal: true, Domain: "pass.lanternholm.example"}, ""),
	)
	var text string
	eventually(t, "it is on the handset", func() bool {
		for _, e := range h.entries("harbourline") {
			if e.To == "+447700900123" {
				text = e.Text
			}
		}
		return text != ""
	})
	if want := p.Code + " für Ada\n\n@pass.lanternholm.example #" + p.Code; text != want || len(p.Code) != 8 {
		t.Errorf("the text is %q, want %q", text, want)
	}
}

// A code that did not come as a text is spoken in a call, by the gateway that calls, in the words registered with it.
func TestACodeIsSpoken(t *testing.T) {
	t.Parallel()
	h := build(t, quick).with("harbourline", "stamphouse-voice")
	must[client.Template](t)(h.Client.AddTemplate(t.Context(), client.TemplateFile{Source: spoken}))
	const to = "+447700900112"
	p := must[client.Passcode](t)(h.Client.Issue(t.Context(), client.NewPasscode{To: to, Purpose: "sign-in"}, ""))
	code := h.codeAt("harbourline", to, sixDigits)
	h.settled(p.Message)
	voice := client.PasscodeAgain{By: "voice"}
	var refused *client.Problem
	if _, err := h.Client.AgainBy(t.Context(), p.ID, voice); !errors.As(err, &refused) || refused.Status != 429 {
		t.Errorf("at once: %v", err)
	}
	var said client.Passcode
	eventually(t, "its pause is over", func() bool { // the text was delivered, so it has to be meant
		var err error
		if said, err = h.Client.AgainBy(t.Context(), p.ID, voice); errors.As(err, &refused) &&
			strings.HasSuffix(refused.Type, ":delivered") {
			said, err = h.Client.AgainBy(t.Context(), p.ID, client.PasscodeAgain{By: "voice", Anyway: true})
		}
		return err == nil
	})
	h.settled(said.Message)
	if phones := h.Fleet.Phones.All(to, 1); said.Gateway != "stamphouse-voice" || !phones[0].Texts[0].Call ||
		!strings.HasPrefix(phones[0].Texts[0].Text, code) {
		t.Errorf("%+v, and the phone has %+v", said, phones)
	}
	if _, out, _ := h.pigeon("", "passcode", "show", p.ID); !strings.Contains(out, "call through stamphouse-voice: delivered") ||
		!strings.Contains(out, "text through harbourline: delivered") || strings.Contains(out, code) {
		t.Error(out)
	}
	if v := must[client.PasscodeVerdict](t)(h.Client.Check(t.Context(), p.ID, code)); v.Verdict != "right" {
		t.Errorf("%+v", v)
	}
}

// A text that is of no use any more is not delivered by a gateway that was told so.
func TestValidityIsPassedOn(t *testing.T) {
	t.Parallel()
	h := build(t, quick).withHarbourline()
	m := h.settled(h.send(client.Draft{To: "+447700900197", Text: "In two seconds it is over", ValidFor: "2s"}).ID)
	if m.State != "expired" || len(h.Fleet.Phones.All("+447700900197", 1)) != 0 {
		t.Errorf("%s %s: %+v", m.State, m.Cause, h.Fleet.Phones.All("+447700900197", 1))
	}
}

// Limits hold exactly, however many ask at the same time and on whatever instance; a refusal names the limit and when it
// ends; what is blocked gets none, until it is lifted.
func TestPasscodeLimits(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	other := h.beside()
	most := 10
	must[client.List[client.PasscodeLimit]](t)(h.Client.SetPasscodeLimits(t.Context(), []client.PasscodeLimit{
		{By: "purpose", Window: "hour", Most: &most}, {By: "range", Window: "hour"}}))
	h.rulesOff() // the numbers stand one after the other
	probed := 0
	eventually(t, "the other instance knows the limits", func() bool { // none of them lets the seventh of one be sent
		probed++
		_, err := other.Client.Issue(
			t.Context(),
			client.NewPasscode{To: fmt.Sprintf("+4477009001%02d", probed%80), Purpose: fmt.Sprint("probe", probed/20)},
			"",
		)
		var p *client.Problem
		return errors.As(err, &p) && strings.Contains(p.Detail, "for each purpose")
	})
	var mu sync.Mutex
	sent, refused := 0, 0
	var many sync.WaitGroup
	for i := range 60 {
		many.Go(func() {
			c := []*client.Client{h.Client, other.Client}[i%2]
			_, err := c.Issue(t.Context(), client.NewPasscode{To: fmt.Sprintf("+4477009001%02d", i), Purpose: "flood"}, "")
			mu.Lock()
			defer mu.Unlock()
			var p *client.Problem
			switch {
			case err == nil:
				sent++
			case errors.As(err, &p) && p.Status == http.StatusTooManyRequests &&
				strings.Contains(p.Detail, "10 an hour for each purpose") && p.RetryAt != nil:
				refused++
			default:
				t.Errorf("%v", err)
			}
		})
	}
	many.Wait()
	if sent != 10 || refused != 50 {
		t.Errorf("%d were sent, %d refused", sent, refused)
	}
	r, said := h.request("POST", "/v1/passcodes", `{"to":"+447700900170","purpose":"flood"}`)
	if r.StatusCode != 429 || r.Header.Get("Retry-After") == "" || !strings.Contains(said, "limit-reached") {
		t.Errorf("%s %s", r.Status, said)
	}
	soon := must[client.Passcode](t)(h.Client.Issue(t.Context(), client.NewPasscode{To: "+447700900171", Purpose: "sign-in"}, ""))
	var p *client.Problem
	if _, err := h.Client.Again(t.Context(), soon.ID, true); !errors.As(err, &p) || p.Status != 429 ||
		!strings.HasSuffix(p.Type, ":too-soon") ||
		p.RetryAt == nil {
		t.Errorf("%v", err)
	}
	for _, b := range []client.NewPasscodeBlock{
		{What: "number", Value: "+44 7700 900172"}, {What: "range", Value: "+447700900172"}, {What: "country", Value: "gb"},
		{What: "address", Value: "192.0.2.7"}, {What: "network", Value: "192.0.2.99", For: "1h", Why: "it asks for many"},
	} {
		block := must[client.PasscodeBlock](t)(h.Client.BlockPasscodes(t.Context(), b))
		ask := func() error {
			_, err := h.Client.Issue(t.Context(), client.NewPasscode{To: "+447700900172", Purpose: "sign-in", Address: "192.0.2.7"}, "")
			return err
		}
		if err := ask(); !errors.As(err, &p) || p.Status != 403 || !strings.Contains(p.Detail, b.What+" "+block.Value+" is blocked") {
			t.Errorf("%s: %v", b.What, err)
		}
		must[client.PasscodeBlock](t)(h.Client.LiftPasscodeBlock(t.Context(), block.ID, "a mistake"))
		if err := ask(); errors.As(err, &p) && p.Status == 403 {
			t.Errorf("%s is lifted: %v", b.What, err)
		}
	}
	for _, bad := range []string{`{"what":"postman","value":"1"}`, `{"what":"number","value":"12"}`,
		`{"what":"network","value":"192.0.2.0/8"}`,
		`{"what":"country","value":"XX"}`, `{"what":"address","value":"here"}`, `{"what":"number","value":"+447700900172","for":"soon"}`} {
		if r, said := h.request("POST", "/v1/passcode-blocks", bad); r.StatusCode != 422 {
			t.Errorf("%s: %s %s", bad, r.Status, said)
		}
	}
	for _, bad := range []string{`{"items":[{"by":"postman","window":"hour","most":1}]}`,
		`{"items":[{"by":"number","window":"week","most":1}]}`,
		`{"items":[{"by":"number","window":"hour","most":-1}]}`,
		`{"items":[{"by":"number","window":"hour","most":1},{"by":"number","window":"hour","most":2}]}`} {
		if r, said := h.request("PUT", "/v1/passcode-limits", bad); r.StatusCode != 422 {
			t.Errorf("%s: %s %s", bad, r.Status, said)
		}
	}
	code, out, errOut := h.pigeon("", "passcode", "limits", "--set", "number/hour=3", "--set", "purpose/hour=none")
	if code != 0 || !regexp.MustCompile(`number +hour +3 +set`).MatchString(out) ||
		!regexp.MustCompile(`purpose +hour +none +set`).MatchString(out) {
		t.Errorf("%d\n%s%s", code, out, errOut)
	}
}

// After codes were sent, typed rightly and wrongly, sent through a gateway that repeats them, and failed, no code stands
// anywhere: not in the database, not in what the service said, not in what it answers.
func TestCodesStandNowhere(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	k := must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "practice", Practice: true}))
	practice := client.New(h.URL, k.Key)
	var codes []string
	for i, ending := range []string{"01", "80", "83", "88", "92", "94", "95"} {
		p := must[client.Passcode](
			t,
		)(
			practice.Issue(t.Context(), client.NewPasscode{To: "+4477009001" + ending, Purpose: "sign-in", Of: "letters",
				Length: 10, Reveal: true, Domain: "pass.lanternholm.example", Reference: fmt.Sprint("r-", i)}, ""),
		)
		codes = append(codes, p.Code)
		h.settled(p.Message)
		if i%2 == 0 {
			must[client.PasscodeVerdict](t)(h.Client.Check(t.Context(), p.ID, p.Code))
		} else {
			must[client.PasscodeVerdict](t)(h.Client.Check(t.Context(), p.ID, p.Code+"X"))
		}
	}
	everything := map[string]string{"what the service said": h.said()}
	for _, path := range []string{"/v1/messages?limit=100", "/v1/passcodes", "/v1/exports/messages?format=csv", "/v1/events", "/v1/changes"} {
		_, everything[path] = h.request("GET", path, "")
	}
	for _, m := range must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{}, "", 100)).Items {
		_, everything["message "+m.To] = h.request("GET", "/v1/messages/"+m.ID+"?raw=true", "")
	}
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), h.database))
	defer db.Close(t.Context())
	tables := must[pgx.Rows](
		t,
	)(
		db.Query(t.Context(), "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace"),
	)
	names := must[[]string](t)(pgx.CollectRows(tables, pgx.RowTo[string]))
	for _, name := range names {
		rows := must[pgx.Rows](t)(db.Query(t.Context(), "SELECT t::text FROM "+pgx.Identifier{name}.Sanitize()+" t"))
		everything["table "+name] = strings.Join(must[[]string](t)(pgx.CollectRows(rows, pgx.RowTo[string])), "\n")
	}
	if len(names) < 40 {
		t.Errorf("%d tables were looked through", len(names))
	}
	for where, said := range everything {
		for _, code := range codes {
			for _, form := range []string{code, strings.ToLower(code), fmt.Sprintf("%x", code), fmt.Sprintf("%X", code)} {
				if i := strings.Index(said, form); i >= 0 {
					t.Errorf("the code %s stands in %s: …%s…", code, where, said[max(i-60, 0):min(i+60, len(said))])
				}
			}
		}
	}
}

// What the guide says in four languages sends a code and checks what is typed.
func TestPasscodesInTheGuide(t *testing.T) {
	t.Parallel()
	guide := string(must[[]byte](t)(os.ReadFile("../docs/passcodes.md")))
	for language, run := range map[string]struct {
		needs         []string
		file, command string
	}{
		"sh":     {[]string{"curl", "jq"}, "passcode.sh", `exec sh "$0" "$1"`},
		"go":     {[]string{"go"}, "main.go", `go build -o "$0.out" "$0" && exec "$0.out" "$1"`},
		"js":     {[]string{"node"}, "passcode.mjs", `exec node "$0" "$1"`},
		"python": {[]string{"python3"}, "passcode.py", `exec python3 "$0" "$1"`},
	} {
		t.Run(language, func(t *testing.T) {
			t.Parallel()
			for _, name := range run.needs {
				if _, err := exec.LookPath(name); err != nil {
					t.Skipf("%s is not there, and what the guide says in %s is not tried", name, language)
				}
			}
			_, code, _ := strings.Cut(guide, "## In code")
			_, code, found := strings.Cut(code, "\n```"+language+"\n")
			if !found {
				t.Fatalf("the guide has nothing in %s", language)
			}
			code, _, _ = strings.Cut(code, "\n```\n")
			h := build(t).withHarbourline()
			file := filepath.Join(t.TempDir(), run.file)
			if err := os.WriteFile(file, []byte(code+"\n"), 0o600); err != nil {
				t.Fatal(err)
			}
			cmd := exec.CommandContext(t.Context(), "sh", "-c", run.command, file, "+447700900123")
			cmd.Dir = ".." // where the package client is
			cmd.Env = append(os.Environ(), "PIGEON_URL="+h.URL, "PIGEON_KEY="+h.Key)
			cmd.Stderr = os.Stderr
			in := must[io.WriteCloser](t)(cmd.StdinPipe())
			lines := bufio.NewScanner(must[io.ReadCloser](t)(cmd.StdoutPipe()))
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			if !lines.Scan() || !strings.HasPrefix(lines.Text(), "sent 0") {
				t.Fatalf("it says %q", lines.Text())
			}
			secret := h.codeAt("harbourline", "+447700900123", sixDigits)
			fmt.Fprintln(in, secret[:3]+" "+secret[3:])
			if !lines.Scan() || lines.Text() != "right" {
				t.Errorf("of the right code it says %q", lines.Text())
			}
			if err := cmd.Wait(); err != nil {
				t.Error(err)
			}
		})
	}
}

// signsIn signs in to a boarding pass in Chromium, with the code that the practice phone shows: a wrong one first.
func (d *demoRun) signsIn(t *testing.T) {
	t.Helper()
	code := func() string {
		answer, err := http.Get(d.fleet + "/phones?number=%2B447700900177")
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		said := must[[]byte](t)(io.ReadAll(answer.Body))
		return regexp.MustCompile(sixDigits).FindString(string(said))
	}
	b := open(t)
	b.do(chromedp.Navigate(d.fleet + "/boarding/"))
	b.write("#number", "07700 900177")
	b.press("#ask button")
	b.shows("#enter", "+447700900177")
	b.do(chromedp.WaitVisible(`#code[autocomplete="one-time-code"]`))
	eventually(t, "the code is on the practice phone", func() bool { return code() != "" })
	wrong := "000000"
	if code() == wrong {
		wrong = "111111"
	}
	b.write("#code", wrong)
	b.press("#enter .answer button")
	b.shows("#said", "That is not the code. 4 tries are left.")
	b.write("#code", code()[:3]+" "+code()[3:])
	b.press("#enter .answer button")
	b.shows("#pass", "Crossing 0740 to Skerrow")
}
