package e2e

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet"
)

func TestSendAndItsExitCodes(t *testing.T) {
	t.Parallel()
	h := build(t)
	if code, _, errOut := h.pigeon("", "send", "+447700900123", "x"); code != 3 || !strings.Contains(errOut, "pigeon gateway add") {
		t.Errorf("without a gateway: %d %s", code, errOut)
	}
	h.withHarbourline()
	busy := filepath.Join(t.TempDir(), "busy")
	for name, tt := range map[string]struct {
		in   string
		args []string
		code int
		out  string // in what is printed, or in what is complained
	}{
		"delivered":             {"", []string{"send", "+447700900123", "Berth 3", "--wait"}, 0, "● delivered"},
		"handed over":           {"", []string{"send", "+447700900123", "Berth 3"}, 0, "○ queued"},
		"from standard input":   {"Berth 3\n", []string{"send", "+447700900123", "-", "-o", "json"}, 0, `"text": "Berth 3"`},
		"undeliverable":         {"", []string{"send", "+447700900180", "Berth 3", "--wait"}, 4, "⊗ undeliverable"},
		"rejected":              {"", []string{"send", "+447700900188", "Berth 3", "--wait"}, 4, "content_refused"},
		"still on its way":      {"", []string{"send", "+447700900189", "Berth 3", "--wait", "--timeout", "300ms"}, 6, "It goes on without you"},
		"refused":               {"", []string{"send", "07700900123", "Berth 3"}, 3, "no country code in front"},
		"no text":               {"", []string{"send", "+447700900123"}, 2, "requires a text, or --template"},
		"no such option":        {"", []string{"send", "+447700900123", "x", "--urgent"}, 2, "unknown flag"},
		"no such command":       {"", []string{"sned"}, 2, "unknown command"},
		"no such part":          {"", []string{"message", "shwo"}, 2, "Did you mean this?\n\tshow"},
		"no scheme":             {"", []string{"message", "find", "--url", "127.0.0.1:7410"}, 2, "such as http://127.0.0.1:7410"},
		"a port that is taken":  {"", []string{"serve", "--listen", h.listen(), "--data", busy}, 1, "Is another instance running?"},
		"no such output":        {"", []string{"tally", "-o", "xml"}, 2, "accepted are table, json and csv"},
		"no such message":       {"", []string{"message", "show", "1"}, 3, "There is no message 1"},
		"a wrong key":           {"", []string{"tally", "--key", "guess"}, 3, "is not in use"},
		"nobody there":          {"", []string{"tally", "--url", "http://127.0.0.1:1"}, 1, "no answer from http://127.0.0.1:1"},
		"not UTF-8":             {"Gr\xf6\xdfe", []string{"send", "+447700900123", "-"}, 2, `windows-1252, in which it reads "Größe"`},
		"in windows-1252":       {"Gr\xf6\xdfe", []string{"send", "+447700900123", "-", "--encoding", "windows-1252"}, 0, "Größe"},
		"an argument of bytes":  {"", []string{"send", "+447700900123", "Gr\xf6\xdfe"}, 2, "not UTF-8"},
		"blank":                 {"", []string{"send", "+447700900123", " \u200b"}, 3, "it is blank"},
		"long":                  {"", []string{"send", "+447700900123", strings.Repeat("x", 2000)}, 3, "(--long)"},
		"long, and meant":       {"", []string{"send", "+447700900123", strings.Repeat("x", 2000), "--long"}, 0, "queued"},
		"a limit of none":       {"", []string{"message", "find", "--limit", "0"}, 2, "--limit 0: accepted is 1 to 500"},
		"a number of letters":   {"", []string{"gateway", "set", "harbourline", "--per-second", "x"}, 2, `"x": expected a whole number`},
		"no such sender":        {"", []string{"sender", "remove", "Nobody"}, 3, "There is no sender Nobody. Known are Lanternholm."},
		"too few words":         {"", []string{"message", "show"}, 2, "expected: pigeon message show ID"},
		"no such gateway":       {"", []string{"gateway", "show", "nobody"}, 3, "There is no gateway nobody. Known are harbourline"},
		"no such template":      {"", []string{"template", "show", "nobody"}, 3, "There is no template nobody. There is none yet."},
		"no such country":       {"", []string{"sender", "rules", "show", "UK"}, 3, "United Kingdom is GB"},
		"no such route":         {"", []string{"route", "remove", "nobody"}, 3, "There is no route nobody. There is none yet."},
		"no country":            {"", []string{"message", "find", "--country", "UK"}, 3, "United Kingdom is GB"},
		"no such state":         {"", []string{"message", "find", "--state", "x"}, 3, "one or more of held, queued, sending"},
		"no such template file": {"", []string{"template", "check", "/nowhere.yaml"}, 2, "there is no file /nowhere.yaml"},
		"columns":               {"", []string{"sender", "list", "--columns", "kind,sender"}, 0, "kind           sender"},
		"no such column":        {"", []string{"sender", "list", "--columns", "hue"}, 0, "There is no column hue; there are sender, kind"},
		"columns of JSON":       {"", []string{"sender", "list", "--columns", "kind", "-o", "json"}, 2, "--columns is for tables and CSV"},
		"a span from outside":   {"", []string{"serve", "--lease", "soon"}, 2, "seconds, or numbers with units"},
		"a route without":       {"", []string{"route", "set", "new"}, 2, "--gateway is needed"},
		"no such file":          {"", []string{"tally", "--config", "/nowhere.yaml"}, 2, "there is no such file"},
		"an unknown setting":    {"urll: x\n", []string{"tally", "--config", "/dev/stdin"}, 2, `there is no option "urll"`},
		"the version":           {"", []string{"version"}, 0, "Calm Pigeon "},
		"weighing nothing":      {"", []string{"weigh", ""}, 3, "the text is empty"},
		"weighing bytes":        {"Gr\xf6\xdfe", []string{"weigh", "-"}, 2, "windows-1252"},
		"a span that is none":   {"", []string{"message", "find", "--since", "yesterday"}, 2, "a span back from now"},
		"a span of letters": {
			"", []string{"send", "+447700900123", "x", "--valid-for", "soon"},
			2, "expected seconds, or numbers with units",
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			code, out, errOut := h.pigeon(tt.in, tt.args...)
			if code != tt.code || !strings.Contains(out+errOut, tt.out) {
				t.Errorf("pigeon %v: %d, want %d and %q\n%s\n%s", tt.args, code, tt.code, tt.out, out, errOut)
			}
			if strings.Contains(errOut, "\x1b") || strings.Contains(out, "\x1b") {
				t.Error("it draws although nobody watches")
			}
		})
	}
}

// What is not given stays, what is removed can be put back as it was, and a key that
// is repeated sends nothing.
func TestNothingIsLostByTheWay(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	run := func(want int, args ...string) string {
		t.Helper()
		code, out, said := h.pigeon("", args...)
		if code != want {
			t.Fatalf("pigeon %v: %d\n%s%s", args, code, out, said)
		}
		return out + said
	}
	run(0, "route", "set", "uk", "--country", "GB", "--kind", "bulk,otp", "--gateway", "harbourline=3")
	run(0, "route", "set", "uk", "--country", "GB,IE")
	run(0, "route", "set", "uk", "--kind", "")
	if r := must[client.Routes](t)(h.Client.Routes(t.Context())); len(r.Items) != 1 ||
		strings.Join(r.Items[0].Countries, " ") != "GB IE" ||
		len(r.Items[0].Kinds) != 0 ||
		r.Items[0].Gateways[0] != (client.Leg{Gateway: "harbourline", Weight: 3}) {
		t.Errorf("the route is %+v", r.Items)
	}
	run(
		0,
		"sender",
		"add",
		"+447700900000",
		"--two-way",
		"--per-second",
		"2",
		"--default-for",
		"otp:SE",
		"--country",
		"GB,SE",
		"--registration",
		"SE=S 1",
	)
	before := must[[]client.Sender](t)(h.Client.Senders(t.Context()))
	said := run(0, "sender", "remove", "+447700900000")
	_, undo, _ := strings.Cut(strings.TrimSpace(said), "To undo: pigeon ")
	run(0, words(undo)...)
	after := must[[]client.Sender](t)(h.Client.Senders(t.Context()))
	for i := range after {
		after[i].CreatedAt = before[i].CreatedAt
	}
	if !reflect.DeepEqual(before, after) {
		t.Errorf("after %s\n%+v\nbefore\n%+v", undo, after, before)
	}
	first := run(0, "send", "+447700900123", "Berth 3", "--idempotency-key", "k-1")
	if again := run(0, "send", "+447700900123", "Berth 3", "--idempotency-key", "k-1"); !strings.Contains(again, "Already sent") ||
		strings.Contains(first, "Already sent") {
		t.Errorf("first %s, again %s", first, again)
	}
}

// words are the words of a command line, as a shell takes them.
func words(line string) (all []string) {
	for i, quoted := range strings.Split(line, `"`) {
		if i%2 == 0 {
			all = append(all, strings.Fields(quoted)...)
		} else if n := len(all) - 1; strings.HasSuffix(line[:strings.Index(line, `"`+quoted+`"`)], " ") {
			all = append(all, quoted)
		} else {
			all[n] += quoted
		}
	}
	return all
}

// Ctrl-C ends a command that waits for standard input, and one that waits for a
// message says what is known.
func TestCtrlCEnds(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	for name, tt := range map[string]struct {
		args []string
		code int
		says string
	}{
		"reading":      {[]string{"weigh", "-"}, 1, "Stopped."},
		"reading more": {[]string{"number", "-"}, 1, "Stopped."},
		"lines":        {[]string{"weigh", "--jsonl"}, 1, "Stopped."},
		"waiting":      {[]string{"send", "+447700900189", "Berth 3", "--wait"}, 6, "No longer waiting. The message is "},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			// A signal that comes before the program listens ends it at once: then it is
			// begun anew.
			within(t, 30*time.Second, "it ends by itself", func() bool {
				state, said := h.interrupted(tt.args, tt.code == exitWaiting)
				if state.Exited() && (state.ExitCode() != tt.code || !strings.Contains(said, tt.says)) {
					t.Errorf("%v: %v %s", tt.args, state, said)
				}
				return state.Exited()
			})
		})
	}
}

// interrupted runs a command whose standard input never ends, and interrupts it
// once; where it waits for a message, after that has been accepted.
func (h *house) interrupted(args []string, waits bool) (*os.ProcessState, string) {
	h.t.Helper()
	cmd := exec.Command(pigeon, args...)
	cmd.Env = append(os.Environ(), "PIGEON_URL="+h.URL, "PIGEON_KEY="+h.Key)
	in, hold, err := os.Pipe() // which nobody writes to
	if err != nil {
		h.t.Fatal(err)
	}
	defer in.Close()
	defer hold.Close()
	var out syncBuffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, &out, &out
	if err := cmd.Start(); err != nil {
		h.t.Fatal(err)
	}
	if waits {
		eventually(h.t, "the message is accepted", func() bool {
			page, err := h.Client.Find(h.t.Context(), client.Filter{To: "+447700900189"}, "", 1)
			return err == nil && len(page.Items) > 0
		})
	}
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		cmd.Wait()
	}()
	select {
	case <-ended:
	case <-time.After(300 * time.Millisecond): // it is on its way to what it waits for
		cmd.Process.Signal(os.Interrupt)
	}
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		cmd.Process.Kill()
		h.t.Errorf("pigeon %v goes on", args)
		<-ended
	}
	return cmd.ProcessState, out.String()
}

const exitWaiting = 6

type syncBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (b *syncBuffer) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.Write(p)
}

func (b *syncBuffer) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.b.String()
}

func TestDialectCheck(t *testing.T) {
	t.Parallel()
	code, out, errOut := offline(t, "", "dialect", "check", "harbourline")
	if code != 0 || !strings.Contains(errOut, "its 14 examples pass") || !strings.Contains(out, `{"not_taken":"limited","retry_after":2}`) {
		t.Errorf("one that ships: %d %s %s", code, out, errOut)
	}
	_, source, _ := offline(t, "", "dialect", "show", "harbourline")
	file := filepath.Join(t.TempDir(), "mine.yaml")
	for name, tt := range map[string]struct {
		from, to string
		code     int
		says     string
	}{
		"as it ships":            {"", "", 0, "examples pass"},
		"an example that fails":  {"LANDED: delivered", "LANDED: enroute", 3, "1 of 14 examples are not read as they say"},
		"an expression in error": {".body.outcome ==", ".body.outcome == (", 3, "mine.yaml:"},
		"a field nobody knows":   {"reference: honoured", "referense: honoured", 3, "referense"},
	} {
		if err := os.WriteFile(file, []byte(strings.Replace(source, tt.from, tt.to, 1)), 0o600); err != nil {
			t.Fatal(err)
		}
		if code, out, errOut := offline(t, "", "dialect", "check", file); code != tt.code || !strings.Contains(errOut, tt.says) {
			t.Errorf("%s: %d, want %d and %q\n%s%s", name, code, tt.code, tt.says, out, errOut)
		}
	}
	if code, out, _ := offline(t, "", "dialect", "list"); code != 0 || !strings.Contains(out, "harbourline") {
		t.Errorf("list: %d %s", code, out)
	}
	if code, _, errOut := offline(t, "", "dialect", "check", "nothing"); code != 2 || !strings.Contains(errOut, "does not ship") {
		t.Errorf("one that is none: %d %s", code, errOut)
	}
}

func TestUnknownHasItsExitCode(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline(func(n *client.NewGateway) { n.GiveUpAfter = "2s" })
	if code, out, _ := h.pigeon("", "send", "+447700900189", "silent", "--wait"); code != 5 || !strings.Contains(out, "□ unknown") {
		t.Errorf("%d %s", code, out)
	}
}

func TestMessageShowAndFind(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	m := h.settled(h.send(client.Draft{To: "+447700900191", Text: "Berth, \"3\"", Reference: "crossing-0740"}).ID)
	code, out, _ := h.pigeon("", "message", "show", m.ID, "--raw")
	for _, want := range []string{"● delivered", "own", "◌ doubtful", "the connection was cut", "receipt", "LANDED", "> POST " + h.FleetURL + "/harbourline/v2/texts", "> authorization: Bearer ‹api_key›", "< POST /receipts/harbourline/‹callback›"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Errorf("show: %d, no %q in\n%s", code, want, out)
		}
	}
	for range 4 {
		h.send(client.Draft{To: "+447700900123", Text: "x", Kind: "bulk"})
	}
	_, out, errOut := h.pigeon("", "message", "find", "--kind", "bulk", "--limit", "3", "-o", "csv")
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	cursor := regexp.MustCompile(`--cursor (\S+)`).FindStringSubmatch(errOut)
	if err != nil || len(rows) != 4 || cursor == nil {
		t.Fatalf("%v, %d rows, %s", err, len(rows), errOut)
	}
	_, out, errOut = h.pigeon("", "message", "find", "--kind", "bulk", "--limit", "3", "--cursor", cursor[1], "-o", "json")
	var page client.List[client.Message]
	if err := json.Unmarshal([]byte(out), &page); err != nil || len(page.Items) != 1 || page.Next != "" || errOut != "" {
		t.Errorf("the last page: %v %s %s", err, out, errOut)
	}
	_, out, _ = h.pigeon(
		"",
		"message",
		"find",
		"--reference",
		"crossing-0740",
		"--gateway-ref",
		m.GatewayRef,
		"--state",
		"delivered,expired",
		"--since",
		"1h",
		"-o",
		"csv",
	)
	if rows, err := csv.NewReader(strings.NewReader(out)).ReadAll(); err != nil || len(rows) != 2 || rows[1][0] != m.ID ||
		rows[1][11] != m.Text {
		t.Errorf("found %v, %v", rows, err)
	}
	if code, out, errOut := h.pigeon("", "message", "find", "--to", "+447700900100"); code != 0 || out != "" ||
		!strings.Contains(errOut, "No message") {
		t.Errorf("nothing found: %d %q %q", code, out, errOut)
	}
	if code, out, _ := h.pigeon("", "tally", "--reference", "crossing-0740"); code != 0 || out != "1 message = 1 delivered\n" {
		t.Errorf("tally: %d %q", code, out)
	}
}

func TestSettingUpFromTheCommandLine(t *testing.T) {
	t.Parallel()
	h := build(t)
	secret := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(secret, []byte(fleet.HarbourlineReceiptSecret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	run := func(want int, args ...string) string {
		t.Helper()
		code, out, errOut := h.pigeon("", args...)
		if code != want {
			t.Errorf("pigeon %v: %d, want %d\n%s%s", args, code, want, out, errOut)
		}
		return out + errOut
	}
	address := h.FleetURL + "/harbourline"
	if out := run(3, "gateway", "add", "harbourline", address, "--secret", "api_key=wrong"); !strings.Contains(
		out,
		"secrets.receipt_secret: is missing",
	) {
		t.Error(out)
	}
	run(2, "gateway", "add", "nowhere.yaml", address)
	run(3, "gateway", "add", "nobody", address)
	run(2, "gateway", "add", "harbourline", address, "--secret", "api_key=env:PIGEON_NO_SUCH_VARIABLE")
	// A dialect file, a secret given outright and one in a file.
	run(
		0,
		"gateway",
		"add",
		"../dialects/harbourline.yaml",
		address,
		"--name",
		"first",
		"--secret",
		"api_key="+fleet.HarbourlineKey,
		"--secret",
		"receipt_secret=@"+secret,
		"--per-second",
		"5",
	)
	if out := run(0, "gateway", "show", "first", "-o", "json"); !strings.Contains(out, `"per_second": 5`) ||
		strings.Contains(out, fleet.HarbourlineKey) {
		t.Error(out)
	}
	if out := run(0, "gateway", "list"); !strings.Contains(out, "first") || !strings.Contains(out, "One message a request as JSON") {
		t.Error(out)
	}
	run(0, "sender", "add", "LH Boarding", "--default")
	if out := run(3, "sender", "add", "Lanternholms"); !strings.Contains(out, "12 characters, at most 11") {
		t.Error(out)
	}
	if out := run(0, "sender", "list", "-o", "csv"); !strings.Contains(out, "LH Boarding,alphanumeric,yes") {
		t.Error(out)
	}
	if out := run(0, "send", "+447700900123", "Berth 3", "--wait"); !strings.Contains(out, "LH Boarding") {
		t.Error(out)
	}
	run(0, "sender", "remove", "LH Boarding")
	var key client.Key
	if err := json.Unmarshal([]byte(run(0, "key", "new", "night shift", "-o", "json")), &key); err != nil || key.Key == "" {
		t.Fatal(err)
	}
	run(0, "key", "revoke", key.ID)
	if out := run(0, "key", "list"); !strings.Contains(out, "night shift") || strings.Contains(out, key.Key) {
		t.Error(out)
	}
}
