package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet"
	"calmpigeon.example/internal/postgres/pgtest"
)

// A gateway that nobody has seen before needs no code: it is written here with
// nothing but httptest, and its dialect stands in this test.
const lighthouse = `dialect: lighthouse
about: One line of text a request; answers in one line of text; reports by GET.
secrets: [word]
number: "00"
reference: carried
submit:
  most: 3
  request:
    post: /beam
    headers: '{"X-Word": .secrets.word}'
    text: '[.messages[] | [.id, .to, .sender, (.text | @base64), .receipt_url] | join("|")] | join("\n")'
  reply:
    - when: .status == 200 and (.raw | startswith("LIT"))
      read: '.raw | split("\n")[1:][] | select(. != "") | split(" ") | {reference: .[0], gateway_ref: .[1], code: .[2]}'
    - when: .raw == "DARK"
      refused: credentials_refused
receipt:
  genuine: {same: ".query.word, .secrets.word"}
  read: "{gateway_ref: .query.n, code: .query.s}"
  answer: {status: 200, body: SEEN}
codes:
  up: accepted
  seen: delivered
  fog: {state: undeliverable, cause: absent}
`

func TestNewGatewayNeedsNoCode(t *testing.T) {
	t.Parallel()
	h := build(t)
	var mu sync.Mutex
	n := 0
	var requests []string
	var reports sync.WaitGroup
	gateway := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("X-Word") != "shine" {
			fmt.Fprint(w, "DARK")
			return
		}
		body := make([]byte, 1<<16)
		length, _ := r.Body.Read(body)
		mu.Lock()
		defer mu.Unlock()
		requests = append(requests, string(body[:length]))
		fmt.Fprintln(w, "LIT")
		for line := range strings.SplitSeq(string(body[:length]), "\n") {
			n++
			parts := strings.Split(line, "|")
			fmt.Fprintf(w, "%s beam-%d up\n", parts[0], n)
			status := "seen"
			if strings.HasSuffix(parts[1], "80") {
				status = "fog"
			}
			number := n
			reports.Go(func() {
				for _, word := range []string{"gloom", "shine"} { // the first is forged
					response, err := http.Get(fmt.Sprintf("%s?n=beam-%d&s=%s&word=%s", parts[4], number, status, word))
					if err == nil {
						response.Body.Close()
					}
				}
			})
		}
	}))
	defer gateway.Close()
	defer reports.Wait()
	must[client.Gateway](
		t,
	)(
		h.Client.AddGateway(
			t.Context(),
			client.NewGateway{
				Source:      lighthouse,
				Address:     gateway.URL,
				Secrets:     map[string]string{"word": "shine"},
				Timeout:     "2s",
				GiveUpAfter: "10s",
			},
		),
	)
	for to, want := range map[string]string{"+447700900101": "delivered", "+447700900180": "undeliverable"} {
		if m := h.settled(h.send(client.Draft{To: to, Text: "Berth 3 | ναι"}).ID); m.State != want {
			t.Errorf("to %s: %s, %+v", to, m.State, m.Evidence)
		}
	}
	if !strings.Contains(requests[0], "|00447700900") {
		t.Errorf("it was sent %q", requests[0])
	}
	wrong := must[client.Trial](
		t,
	)(
		h.Client.TryDialect(
			t.Context(),
			client.TryRequest{
				Source:  lighthouse,
				Address: gateway.URL,
				Secrets: map[string]string{"word": "gloom"},
				To:      "+447700900101",
				Text:    "x",
				Sender:  "Lanternholm",
			},
		),
	)
	if wrong.Passed || len(wrong.Mistakes) == 0 || strings.Contains(fmt.Sprint(wrong), "gloom") {
		t.Errorf("with a wrong word: %+v", wrong)
	}
}

// What is tried shows the exact request and answer, secrets masked, and says
// which of the usual mistakes it looks like.
func TestGatewayTest(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline", "sandbank", "longshore", "stillwater", "oldpier", "commonquay", "stamphouse", "waxseal")
	for name := range practice {
		if name == "stamphouse-voice" {
			continue
		}
		r := must[client.Trial](t)(h.Client.TestGateway(t.Context(), name))
		shown, _ := json.Marshal(r)
		if name == "stillwater" &&
			(len(r.Steps) != 2 || r.Steps[0].What != "token" || r.Steps[0].Exchange == nil || strings.Contains(string(shown), "swt-")) {
			t.Errorf("the token is not fetched, hidden and shown: %s", shown)
		}
		if !r.Passed || len(r.Mistakes) > 0 {
			t.Errorf("%s: %s", name, shown)
		}
		for _, secret := range practice[name] {
			if strings.Contains(string(shown), secret) {
				t.Errorf("%s shows a secret: %s", name, shown)
			}
		}
	}
	for _, b := range fleet.Berths() {
		if e := h.Fleet.Gateway(strings.TrimPrefix(b.Path, "/")).Entries(); len(e) > 0 {
			t.Errorf("testing %s sent something: %+v", b.Dialect, e)
		}
	}
	nobody := "http://127.0.0.1:9"
	for name, tt := range map[string]struct {
		gateway string
		change  client.GatewayChange
		want    string
	}{
		"swapped":           {"longshore", client.GatewayChange{Secrets: map[string]string{"account": fleet.LongshoreToken, "token": fleet.LongshoreAccount}}, "account and token are swapped"},
		"with its word":     {"harbourline", client.GatewayChange{Secrets: map[string]string{"api_key": "Bearer " + fleet.HarbourlineKey}}, "Give the key alone"},
		"wrong":             {"stillwater", client.GatewayChange{Secrets: map[string]string{"client_secret": "another"}}, "does not accept these credentials"},
		"an address beside": {"oldpier", client.GatewayChange{Address: new(h.FleetURL + "/oldpeer"), Secrets: practice["oldpier"]}, "nothing at"},
		"nobody there":      {"sandbank", client.GatewayChange{Address: &nobody, Secrets: practice["sandbank"]}, "Nobody answers"},
	} {
		must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), tt.gateway, tt.change))
		r := must[client.Trial](t)(h.Client.TestGateway(t.Context(), tt.gateway))
		if said := strings.Join(r.Mistakes, "\n"); r.Passed || !strings.Contains(said, tt.want) {
			t.Errorf("%s: %s %q, want %q", name, r.Say, said, tt.want)
		}
	}
	if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "waxseal", How: "clock skew"}); err != nil {
		t.Fatal(err)
	}
	if r := must[client.Trial](t)(h.Client.TestGateway(t.Context(), "waxseal")); r.Passed ||
		!strings.Contains(strings.Join(r.Mistakes, "\n"), "The clocks differ") {
		t.Errorf("clocks apart: %+v", r)
	}
	code, out, errOut := h.pigeon("", "gateway", "test", "commonquay")
	if code != 0 || !strings.Contains(out, "> GET "+h.FleetURL+"/commonquay/messaging/v1/outbound/") || !strings.Contains(out, "‹key›") ||
		!strings.Contains(out, "< 404 after ") ||
		!strings.Contains(out, "The credentials are accepted") {
		t.Errorf("%d %s %s", code, out, errOut)
	}
}

// Balances are read on a schedule; a low one warns.
func TestBalanceIsWatched(t *testing.T) {
	t.Parallel()
	h := build(t).with("oldpier", "sandbank")
	low := "2000"
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "oldpier", client.GatewayChange{LowBalance: &low}))
	eventually(t, "the balance is read", func() bool {
		return must[client.Gateway](t)(h.Client.Gateway(t.Context(), "oldpier")).Health.Balance != nil
	})
	g := must[client.Gateway](t)(h.Client.Gateway(t.Context(), "oldpier"))
	if g.Health.Balance.Amount != "1000.00" || g.Health.Balance.Currency != "EUR" || len(g.Health.Warnings) != 1 ||
		!strings.Contains(g.Health.Warnings[0], "less than the 2000.00") {
		t.Errorf("%+v", g.Health)
	}
	h.settled(h.send(client.Draft{To: "+447700900101", Text: "x", Gateway: "sandbank"}).ID)
	eventually(t, "the reply told the balance", func() bool {
		b := must[client.Gateway](t)(h.Client.Gateway(t.Context(), "sandbank")).Health.Balance
		return b != nil && b.Amount != "1000.00"
	})
}

func TestGatewayCommands(t *testing.T) {
	t.Parallel()
	h := build(t)
	berth := fleet.Berths()[1]
	code, out, errOut := h.pigeon(
		"",
		"gateway",
		"add",
		"sandbank",
		h.FleetURL+"/sandbank",
		"--secret",
		"user="+berth.Secrets["user"],
		"--secret",
		"password="+berth.Secrets["password"],
		"--low-balance",
		"25",
	)
	if code != 0 || !strings.Contains(out, "working") || !strings.Contains(errOut, "pigeon gateway test sandbank") {
		t.Fatalf("%d %s %s", code, out, errOut)
	}
	h.with("harbourline")
	for _, tt := range []struct {
		args []string
		code int
		want string
	}{
		{[]string{"gateway", "set", "sandbank", "--per-second", "7", "--currency", "EUR"}, 0, "7"},
		{[]string{"gateway", "set", "sandbank", "--per-second", "0"}, 3, "out of range"},
		{[]string{"gateway", "pause", "sandbank", "--why", "until noon"}, 0, "paused"},
		{[]string{"gateway", "list"}, 0, "by the key first: until noon"},
		{[]string{"gateway", "show", "sandbank"}, 0, "7 a second, 4 requests at a time, 500 messages a request"},
		{[]string{"gateway", "resume", "sandbank"}, 0, "working"},
		{[]string{"route", "list"}, 0, "There are no routes"},
		{[]string{"route", "set", "uk", "--country", "GB", "--gateway", "sandbank=3", "--gateway", "harbourline=1"}, 0, "sandbank (3) or harbourline (1)"},
		{[]string{"route", "set", "codes", "--kind", "otp", "--gateway", "harbourline", "--before", "uk"}, 0, "1   codes"},
		{[]string{"route", "set", "uk", "--gateway", "nobody"}, 3, "not a gateway"},
		{[]string{"gateway", "remove", "sandbank"}, 3, "route uk names it"},
		{[]string{"route", "remove", "uk"}, 0, "codes"},
		{[]string{"gateway", "remove", "sandbank"}, 0, "out of use"},
		{[]string{"gateway", "show", "sandbank"}, 3, "no gateway sandbank"},
		{[]string{"dialect", "try", "harbourline", h.FleetURL + "/harbourline", "--secret", "api_key=" + fleet.HarbourlineKey, "--secret", "receipt_secret=x", "--to", "+447700900101", "--sender", "Test", "--text", "Berth 3"}, 0, "\"outcome\": \"taken\""},
		{[]string{"dialect", "try", "harbourline", h.FleetURL + "/harbourline", "--secret", "api_key=wrong-key", "--secret", "receipt_secret=x", "--to", "+447700900101", "--sender", "Test", "--text", "Berth 3"}, 3, "a key of another kind"},
		{[]string{"dialect", "try", "waxseal", h.FleetURL + "/waxseal", "--secret", "key_id=a", "--secret", "signing_key=b-secret", "--to", "+447700900102", "--text", "x", "--sender", "T", "--dry-run"}, 0, "Nothing was."},
		{[]string{"dialect", "try", "harbourline", h.FleetURL, "--to", "12", "--text", "x"}, 3, "to: "},
		{[]string{"dialect", "schema"}, 0, "json-schema.org"},
		{[]string{"message", "inbound"}, 0, "received"},
	} {
		code, out, errOut := h.pigeon("", tt.args...)
		if code != tt.code || !strings.Contains(out+errOut, tt.want) {
			t.Errorf("pigeon %v: exit %d, want %d and %q\n%s%s", tt.args, code, tt.code, tt.want, out, errOut)
		}
		if strings.Contains(out, fleet.HarbourlineKey) || strings.Contains(out, "b-secret") || strings.Contains(out, "wrong-key") {
			t.Errorf("pigeon %v shows a secret: %s", tt.args, out)
		}
	}
	file := filepath.Join(t.TempDir(), "mine.yaml")
	code, out, errOut = h.pigeon("mine\n\nnonsense\nbasic\ndigits\nlist\nquery\nno\n", "dialect", "new")
	if code != 0 || !strings.Contains(errOut, `"nonsense" is none of them`) {
		t.Fatalf("%d %s", code, errOut)
	}
	if err := os.WriteFile(file, []byte(out), 0o600); err != nil {
		t.Fatal(err)
	}
	if code, _, errOut = h.pigeon("", "dialect", "check", file); code != 0 || !strings.Contains(errOut, "its 3 examples pass") {
		t.Errorf("%d %s", code, errOut)
	}
	if code, _, errOut = h.pigeon("", "dialect", "new"); code != 2 || !strings.Contains(errOut, "--name") {
		t.Errorf("without answers: %d %s", code, errOut)
	}
}

// A set-up is written to a file without secrets, and taken in elsewhere as it
// was: all of it or nothing.
func TestSetupMoves(t *testing.T) {
	t.Parallel()
	from := build(t).with("harbourline", "stillwater")
	must[client.Gateway](
		t,
	)(
		from.Client.AddGateway(
			t.Context(),
			client.NewGateway{
				Name:       "light",
				Source:     lighthouse,
				Address:    "http://127.0.0.1:9",
				Secrets:    map[string]string{"word": "a-secret-word"},
				LowBalance: "12.5",
			},
		),
	)
	must[client.Template](t)(from.Client.AddTemplate(t.Context(), client.TemplateFile{Source: registered}))
	must[client.Routes](
		t,
	)(
		from.Client.PutRoutes(
			t.Context(),
			[]client.Route{
				{
					Name:      "uk",
					Countries: []string{"GB"},
					Gateways:  []client.Leg{{Gateway: "harbourline", Weight: 2}, {Gateway: "light", Weight: 1}},
				},
			},
		),
	)
	rule := must[client.Rule](t)(from.Client.Rule(t.Context(), "GB"))
	rule.Note = "asked in November"
	must[client.Rule](t)(from.Client.PutRule(t.Context(), rule))
	code, file, errOut := from.pigeon("", "setup", "export")
	if code != 0 || strings.Contains(file, "a-secret-word") || strings.Contains(file, fleet.HarbourlineKey) ||
		!strings.Contains(file, "${HARBOURLINE_API_KEY}") {
		t.Fatalf("%d %s %s", code, file, errOut)
	}
	to := buildOn(t, pgtest.Database(t))
	if code, out, errOut := to.pigeon(file, "setup", "import", "-"); code != 3 ||
		!strings.Contains(errOut, "secrets: there is no value for HARBOURLINE_API_KEY, HARBOURLINE_RECEIPT_SECRET, LIGHT_WORD,") {
		t.Errorf("without secrets: %d %s%s", code, out, errOut)
	}
	if all := must[[]client.Gateway](t)(to.Client.Gateways(t.Context())); len(all) != 0 {
		t.Errorf("half of it was taken in: %+v", all)
	}
	f := client.SetupFile{Source: file, Secrets: map[string]string{"LIGHT_WORD": "a-secret-word"}}
	for _, name := range []string{"harbourline", "stillwater"} {
		for secret, value := range practice[name] {
			f.Secrets[strings.ToUpper(name+"_"+secret)] = value
		}
	}
	rehearsed := must[client.SetupChange](t)(to.Client.ImportSetup(t.Context(), f, true))
	if all := must[[]client.Gateway](t)(to.Client.Gateways(t.Context())); len(all) != 0 || len(rehearsed.New) < 5 {
		t.Errorf("a rehearsal took something in: %+v, %+v", all, rehearsed)
	}
	done := must[client.SetupChange](t)(to.Client.ImportSetup(t.Context(), f, false))
	if fmt.Sprint(done) != fmt.Sprint(rehearsed) {
		t.Errorf("rehearsed %+v, done %+v", rehearsed, done)
	}
	_, again, _ := to.pigeon("", "setup", "export")
	if again != file {
		t.Errorf("it moved to\n%s\nfrom\n%s", again, file)
	}
	f.Secrets = nil
	if same := must[client.SetupChange](t)(to.Client.ImportSetup(t.Context(), f, false)); len(same.New)+len(same.Changed) != 0 {
		t.Errorf("taken in twice: %+v", same)
	}
	if m := to.settled(to.send(client.Draft{To: "+447700900101", Text: "x", Gateway: "stillwater"}).ID); m.State != "delivered" {
		t.Errorf("through the gateway that moved: %s", m.State)
	}
	f.Source = strings.Replace(file, "${LIGHT_WORD}", "a-secret-word", 1)
	if _, err := to.Client.ImportSetup(t.Context(), f, false); err == nil || !strings.Contains(err.Error(), "stands in the file itself") {
		t.Errorf("a secret in the file: %v", err)
	}
}
