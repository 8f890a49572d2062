package e2e

import (
	"archive/zip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"calmpigeon.example/client"
)

// nested is a bomb of aliases: each level is nine times the one before.
func nested(levels int) string {
	var b strings.Builder
	b.WriteString("a0: &a0 [x, x, x, x, x, x, x, x, x]\n")
	for i := 1; i <= levels; i++ {
		fmt.Fprintf(&b, "a%d: &a%d [%s]\n", i, i, strings.TrimSuffix(strings.Repeat(fmt.Sprintf("*a%d, ", i-1), 9), ", "))
	}
	return b.String()
}

// reading is a dialect whose receipts are read by an expression, played in n
// examples.
func reading(expression string, n int) string {
	source := "dialect: quayside\nsubmit:\n  request: {post: /s, json: '{to: .to, report: .receipt_url}'}\n" +
		"  reply: [{when: 'true', read: '{gateway_ref: .body.id, state: \"accepted\"}'}]\n" +
		"receipt:\n  read: |\n    " + expression + "\nexamples:\n"
	return source + strings.Repeat("- {receipt: {method: GET, query: id=1}, gives: {gateway_ref: '1', state: delivered}}\n", n)
}

// Whatever somebody with a key sends, the service goes on in little memory, and
// after each attempt an honest receipt is settled.
func TestNothingOneSendsKillsIt(t *testing.T) {
	t.Parallel()
	h := build(t, func(h *house) { h.memory = 4 << 20 }).withHarbourline()
	honest := func(after string) {
		t.Helper()
		m := h.send(client.Draft{To: "+447700900001", Sender: "Lanternholm", Text: "Crossing " + after})
		if got := h.settled(m.ID); got.State != "delivered" {
			t.Errorf("after %s an honest message is %s", after, got.State)
		}
		if rss := h.mostMemory(); rss > 600 {
			t.Errorf("after %s the service had %d MiB", after, rss)
		}
	}
	honest("nothing")

	source := func(s string) string { return string(must[[]byte](t)(json.Marshal(map[string]string{"source": s}))) }
	for _, a := range []struct {
		name, method, path, body string
		want                     int
	}{
		{"nested arrays", "POST", "/v1/messages", strings.Repeat("[", 80_000), 400},
		{"nested arrays in a field", "POST", "/v1/weigh", `{"text":` + strings.Repeat("[", 500_000), 400},
		{"a number of a million digits", "POST", "/v1/messages", `{"to":"x","valid_for":` + strings.Repeat("9", 1_000_000) + `}`, 400},
		{"a bomb of aliases in a dialect", "POST", "/v1/dialects/check", source(nested(7)), 200},
		{"a bomb of aliases in a set-up", "PUT", "/v1/setup", source(nested(50)), 422},
		{"a bomb of aliases in a template", "POST", "/v1/templates", source(nested(9)), 422},
		{"brackets in a dialect", "POST", "/v1/dialects/check", source(strings.Repeat("[", 200_000)), 200},
		{"a function that calls itself", "POST", "/v1/dialects/check", source(reading("def f: f; f", 10)), 200},
		{"a text repeated", "POST", "/v1/dialects/check", source(reading(`[range(3) | "x" * 900000000]`, 10)), 200},
		{"a text doubled", "POST", "/v1/dialects/check", source(reading(`reduce range(60) as $i ("x"; . + .)`, 10)), 200},
		{"arrays within arrays", "POST", "/v1/dialects/check", source(reading(`reduce range(1000000) as $i (0; [., .])`, 10)), 200},
		{"counting for ever", "POST", "/v1/dialects/check", source(reading(`range(1e15) | select(false)`, 200)), 200},
		{"very many examples", "POST", "/v1/dialects/check", source(reading(`{gateway_ref: .query.id}`, 3000)), 200},
	} {
		began := time.Now()
		response, said := h.request(a.method, a.path, a.body)
		took := time.Since(began)
		if response.StatusCode != a.want || a.want == 200 && !strings.Contains(said, `"passed":false`) {
			t.Errorf("%s: %d %.300s", a.name, response.StatusCode, said)
		}
		if took > 20*time.Second {
			t.Errorf("%s: answered after %v", a.name, took)
		}
		honest(a.name)
	}

	// What reads receipts of a gateway in use.
	var receipts atomic.Value
	door := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var in struct{ Report string }
		json.NewDecoder(r.Body).Decode(&in)
		receipts.Store(in.Report)
		fmt.Fprint(w, `{"id":"1"}`)
	}))
	t.Cleanup(door.Close)
	must[client.Gateway](
		t,
	)(
		h.Client.AddGateway(t.Context(), client.NewGateway{Name: "quayside", Address: door.URL, Secrets: map[string]string{},
			Source: reading(`{gateway_ref: .query.id, note: ("x" * (.query.n | tonumber)), state: "delivered"}`, 0)}),
	)
	must[client.Routes](t)(h.Client.PutRoutes(t.Context(), []client.Route{
		{Name: "theirs", Kinds: []string{"otp"}, Gateways: []client.Leg{{Gateway: "quayside"}}},
		{Name: "all", Gateways: []client.Leg{{Gateway: "harbourline"}}}}))
	h.await(h.send(client.Draft{To: "+447700900002", Kind: "otp", Text: "123456"}).ID, "taken", func(m client.Message) bool {
		return m.State == "accepted"
	})
	at := receipts.Load().(string)
	for range 20 {
		response, err := http.Get(at + "?id=1&n=900000000")
		if err != nil || response.StatusCode >= 300 {
			t.Errorf("a receipt that cannot be read: %v, %v", response, err)
		}
	}
	honest("receipts that ask for gigabytes")

	// A body that does not come keeps nobody, and is not waited for.
	ctx, stop := context.WithCancel(t.Context())
	var trickling sync.WaitGroup
	ended := make(chan time.Duration, 300)
	for i := range cap(ended) {
		path := []string{"/v1/messages", strings.TrimPrefix(at, h.URL), "/receipts/quayside/wrong"}[i%3]
		trickling.Go(func() { ended <- h.trickle(ctx, path) })
	}
	within(t, 2*time.Second, "the health check answers", func() bool {
		response, err := http.Get(h.URL + "/healthz")
		return err == nil && response.StatusCode == http.StatusOK
	})
	honest("three hundred slow requests")
	for range cap(ended) {
		if took := <-ended; took > 25*time.Second {
			t.Errorf("a request that trickles was kept for %v", took)
		}
	}
	stop()
	trickling.Wait()
}

// trickle sends a request whose body comes a byte a second, and says how long it
// is listened to.
func (h *house) trickle(ctx context.Context, path string) time.Duration {
	began := time.Now()
	c, err := net.Dial("tcp", h.listen())
	if err != nil {
		return time.Since(began)
	}
	defer c.Close()
	context.AfterFunc(ctx, func() { c.Close() })
	fmt.Fprintf(
		c,
		"POST %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nContent-Type: application/json\r\nContent-Length: 100000\r\n\r\n",
		path,
		h.Key,
	)
	closed := make(chan struct{})
	go func() {
		defer close(closed)
		for b := make([]byte, 512); ; {
			if _, err := c.Read(b); err != nil {
				return
			}
		}
	}()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-closed:
			return time.Since(began)
		case <-tick.C:
			fmt.Fprint(c, " ")
		}
	}
}

// mostMemory is the most memory that the service has had, in MiB.
func (h *house) mostMemory() int {
	h.t.Helper()
	status := string(must[[]byte](h.t)(os.ReadFile(fmt.Sprintf("/proc/%d/status", h.cmd.Process.Pid))))
	_, after, _ := strings.Cut(status, "VmHWM:")
	kib := must[int](h.t)(strconv.Atoi(strings.Fields(after)[0]))
	return kib / 1024
}

// The service reads hostile lists, several at the same time, in a known amount of memory. It says what is wrong
// with each, and sends honest messages meanwhile.
func TestListsCostAKnownAmount(t *testing.T) {
	t.Parallel()
	h := build(t, func(h *house) { h.memory = 4 << 20 }).withHarbourline()
	const long = 256 << 20
	const head = `<worksheet><sheetData><row><c t="inlineStr"><is><t>to</t></is></c></row>`
	many := strings.Repeat("a", 1<<20)
	bombs := map[string]struct {
		body func(io.Writer) error
		want int
		says string
	}{
		"a cell without end":   {bomb("to\n", many, long, "\n+447700900001\n"), 200, ""},
		"an item without end":  {bomb(`[{"to":"+447700900001"},{"to":"`, many, long, `"}]`), 422, "item 2: it has more than 262144 octets"},
		"a line without end":   {bomb(`{"to":"`, many, long, "\"}\n{\"to\":\"+447700900001\"}\n"), 200, ""},
		"a quote without end":  {bomb("to\n\"", "a,b\n"+many, long, ""), 422, "a quote that begins there does not end"},
		"a part that unpacks":  {packed("docProps/app.xml", bomb("", many, 2*long, "")), 200, ""},
		"a sheet that unpacks": {packed("xl/sheet.xml", bomb(head, many, long, "")), 422, "unpacks to more"},
		"texts that unpack":    {packed("xl/texts.xml", bomb("<sst>", strings.Repeat("<si/>", 1<<18), long, "</sst>")), 422, "unpacks to more"},
		"relations that unpack": {
			packed("_rels/.rels", bomb("<Relationships>", strings.Repeat("<a/>", 1<<18), long, "")), 422, "unpacks to more",
		},
		"a directory that is long": {func(w io.Writer) error {
			archive := zip.NewWriter(w)
			for i := range 200_000 {
				if _, err := archive.CreateHeader(&zip.FileHeader{Name: fmt.Sprint("xl/", i)}); err != nil {
					return err
				}
			}
			return archive.Close()
		}, 422, "directory is too long"},
	}
	var sending sync.WaitGroup
	for name, b := range bombs {
		mapping := url.QueryEscape(`{"columns": {"id": "to"}}`)
		for _, path := range []string{"/v1/batches/%s/rows", "/v1/statements?gateway=harbourline&mapping=" + mapping} {
			if strings.Contains(path, "batches") {
				path = fmt.Sprintf(path, must[client.Batch](t)(h.Client.NewBatch(t.Context(), client.BatchWants{Text: "Hello"})).ID)
			}
			sending.Go(func() {
				body, into := io.Pipe()
				go func() { into.CloseWithError(b.body(into)) }()
				defer body.Close()
				r := must[*http.Request](t)(http.NewRequestWithContext(t.Context(), "POST", h.URL+path, body))
				r.Header.Set("Authorization", "Bearer "+h.Key)
				response, err := http.DefaultClient.Do(r)
				if err != nil {
					// The service may answer and close the connection before all is sent.
					early := func(e error) bool { return errors.Is(err, e) }
					if !slices.ContainsFunc([]error{syscall.ECONNRESET, syscall.EPIPE, io.ErrClosedPipe, net.ErrClosed}, early) {
						t.Errorf("%s: %v", name, err)
					}
					return
				}
				defer response.Body.Close()
				said, _ := io.ReadAll(response.Body)
				if (response.StatusCode < 300) != (b.want < 300) || response.StatusCode >= 500 || !strings.Contains(string(said), b.says) {
					t.Errorf("%s at %s: %d %.300s", name, path, response.StatusCode, said)
				}
			})
		}
	}
	done := make(chan struct{})
	go func() { sending.Wait(); close(done) }()
	for over := false; !over; {
		select {
		case <-done:
			over = true
		default:
		}
		if got := h.settled(h.send(client.Draft{To: "+447700900001", Sender: "Lanternholm", Text: "Crossing"}).ID); got.State != "delivered" {
			t.Fatalf("an honest message is %s", got.State)
		}
	}
	if rss := h.mostMemory(); rss > 600 {
		t.Errorf("the service had %d MiB", rss)
	}
	if left, err := os.ReadDir(filepath.Join(h.data, "files")); len(left) > 0 || err != nil {
		t.Errorf("files stay behind: %v, %v", left, err)
	}
}

// bomb writes a beginning, about so many octets of the same, and an end.
func bomb(begin, again string, n int, end string) func(io.Writer) error {
	return func(w io.Writer) error {
		_, err := io.WriteString(w, begin)
		for ; n > 0 && err == nil; n -= len(again) {
			_, err = io.WriteString(w, again)
		}
		if err == nil {
			_, err = io.WriteString(w, end)
		}
		return err
	}
}

// packed writes a workbook, one of whose parts is given.
func packed(name string, part func(io.Writer) error) func(io.Writer) error {
	parts := map[string]string{
		"_rels/.rels":     `<Relationships><Relationship Id="a" Type="x/officeDocument" Target="xl/workbook.xml"/></Relationships>`,
		"xl/workbook.xml": `<workbook xmlns:r="r"><sheets><sheet name="List" sheetId="1" r:id="s"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="s" Type="x/worksheet" Target="sheet.xml"/>` +
			`<Relationship Id="t" Type="x/sharedStrings" Target="texts.xml"/></Relationships>`,
		"xl/sheet.xml": `<worksheet><sheetData><row><c t="inlineStr"><is><t>to</t></is></c></row>` +
			`<row><c t="s"><v>0</v></c></row></sheetData></worksheet>`,
		"xl/texts.xml": `<sst><si><t>+447700900123</t></si></sst>`,
	}
	delete(parts, name)
	return func(w io.Writer) error {
		archive := zip.NewWriter(w)
		for name, body := range parts {
			into, err := archive.Create(name)
			if err != nil {
				return err
			}
			io.WriteString(into, body)
		}
		into, err := archive.Create(name)
		if err == nil {
			err = part(into)
		}
		return errors.Join(err, archive.Close())
	}
}

// The service refuses parameters and keys that are not UTF-8 text, and versions that it never gave. It logs no
// error for them.
func TestWhatIsNoTextIsRefused(t *testing.T) {
	t.Parallel()
	h := build(t)
	for _, a := range []struct {
		method, path string
		header       []string
		want         int
		says         string
	}{
		{"GET", "/v1/messages?to=%ff", nil, 400, "to"},
		{"GET", "/v1/messages?to=%00", nil, 400, "to"},
		{"GET", "/v1/messages?%ff=1", nil, 400, "address"},
		{"GET", "/v1/messages/%ff%fe", nil, 400, "id"},
		{"GET", "/v1/conversations/%00", nil, 400, "number"},
		{"GET", "/v1/templates/a%00b", nil, 400, "name"},
		{"GET", "/v1/exports/messages?sender=%c3%28", nil, 400, "sender"},
		{"POST", "/v1/messages", []string{"Idempotency-Key", "a\xffb"}, 400, "Idempotency-Key"},
		{"GET", "/v1/messages", []string{"Authorization", "Bearer pigeon_abc\xff\xff\xff\xff\xff_x"}, 401, "wrong-key"},
		{"PUT", "/v1/passcode-rules", []string{"If-Match", `"999999999"`}, 422, "If-Match"},
		{"PUT", "/v1/passcode-rules", []string{"If-Match", `"-1"`}, 422, "If-Match"},
	} {
		response, said := h.request(a.method, a.path, "{}", a.header...)
		if response.StatusCode != a.want || !strings.Contains(said, a.says) {
			t.Errorf("%s %s: %d %.200s", a.method, a.path, response.StatusCode, said)
		}
	}
	if said := h.said(); strings.Contains(said, "ERROR") {
		t.Errorf("the service says that it failed:\n%s", said)
	}
}
