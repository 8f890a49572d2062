// Package e2e starts everything on loopback and uses it as a user does.
package e2e

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet"
	"calmpigeon.example/internal/fleet/arrival"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

// pigeon is the binary under test, as it is shipped.
var pigeon string

func TestMain(m *testing.M) {
	// Whoever runs the tests may have a service of their own.
	for _, variable := range os.Environ() {
		if name, _, _ := strings.Cut(variable, "="); strings.HasPrefix(name, "PIGEON_") {
			os.Unsetenv(name)
		}
	}
	pgtest.Main(m, store.Migrate, func(folder string) (func(), error) {
		pigeon = filepath.Join(folder, "pigeon")
		out, err := exec.Command("go", "build", "-o", pigeon, "../cmd/pigeon").CombinedOutput()
		if err != nil {
			return nil, fmt.Errorf("building pigeon: %w\n%s", err, out)
		}
		return prepareChromium(filepath.Join(folder, "chromium")), nil
	})
}

// house is a service with its database, and a practice fleet beside it.
type house struct {
	t        testing.TB
	database string
	data     string
	URL      string
	Key      string
	Client   *client.Client
	Fleet    *fleet.Fleet
	FleetURL string

	flags  []string // of serve, beyond the usual
	lease  string   // a short one for tests that kill; of such a busy machine loses it
	memory int      // KiB of address space that the service may have; 0: not limited
	files  int      // descriptors that it may have; 0: not limited

	mu  sync.Mutex
	cmd *exec.Cmd
	log bytes.Buffer
}

// quick lets what a service that was killed kept be taken over soon.
func quick(h *house) { h.lease = "500ms" }

// build makes a house with a sender but without a gateway.
func build(t testing.TB, change ...func(*house)) *house {
	t.Helper()
	return buildOn(t, pgtest.Database(t), change...)
}

// stamped starts a server for which [arrival.Of] tells when the kernel had a request, however late
// its handler is.
func stamped(handler http.Handler) *httptest.Server {
	server := httptest.NewUnstartedServer(handler)
	server.Listener, server.Config.ConnContext = arrival.Listener(server.Listener), arrival.Context
	server.Start()
	return server
}

func buildOn(t testing.TB, database string, change ...func(*house)) *house {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	h := &house{t: t, database: database, data: t.TempDir(), Fleet: fleet.New(ctx, 1, slog.New(slog.DiscardHandler))}
	server := stamped(h.Fleet.Handler())
	h.FleetURL = server.URL
	for _, c := range change {
		c(h)
	}
	h.start("127.0.0.1:0")
	t.Cleanup(func() {
		h.end()
		stop()
		server.CloseClientConnections()
		server.Close()
	})
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: "Lanternholm"}))
	return h
}

// withHarbourline adds the practice gateway. Its spans are short, so that what
// takes hours in earnest takes seconds here; change may set others.
func (h *house) withHarbourline(change ...func(*client.NewGateway)) *house {
	h.t.Helper()
	n := client.NewGateway{
		Dialect:     "harbourline",
		Address:     h.FleetURL + "/harbourline",
		Timeout:     "2s",
		AskAfter:    "500ms",
		GiveUpAfter: "20s",
		Secrets:     map[string]string{"api_key": fleet.HarbourlineKey, "receipt_secret": fleet.HarbourlineReceiptSecret},
	}
	for _, c := range change {
		c(&n)
	}
	must[client.Gateway](h.t)(h.Client.AddGateway(h.t.Context(), n))
	return h
}

func (h *house) command(listen string) *exec.Cmd {
	cmd := exec.Command(
		pigeon,
		"serve",
		"--listen",
		listen,
		"--data",
		h.data,
		"--lease",
		cmp.Or(h.lease, "3s"),
		"--phone-url",
		h.FleetURL+"/phone",
	)
	cmd.Args = append(cmd.Args, h.flags...)
	limits := ""
	if h.memory > 0 {
		limits += fmt.Sprintf("ulimit -v %d && ", h.memory)
	}
	if h.files > 0 {
		limits += fmt.Sprintf("ulimit -n %d && ", h.files)
	}
	if limits != "" {
		cmd = exec.Command("sh", append([]string{"-c", limits + `exec "$0" "$@"`, pigeon}, cmd.Args[1:]...)...)
	}
	cmd.Env = append(os.Environ(), "PIGEON_DATABASE_URL="+h.database, "PIGEON_SEAL_KEY=cHJhY3RpY2UtcHJhY3RpY2UtcHJhY3RpY2UtcHJhY3Q=")
	return cmd
}

// start starts the service and waits until it answers.
func (h *house) start(listen string) {
	h.t.Helper()
	cmd := h.command(listen)
	out, err := cmd.StdoutPipe()
	if err != nil {
		h.t.Fatal(err)
	}
	cmd.Stderr = h
	if err := cmd.Start(); err != nil {
		h.t.Fatal(err)
	}
	h.cmd = cmd
	lines := bufio.NewScanner(out)
	at := ""
	for at == "" && lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if strings.HasPrefix(line, "pigeon_") {
			h.Key = line
		}
		if url, ok := strings.CutPrefix(line, "Calm Pigeon answers at "); ok {
			at = url
		}
	}
	if at == "" || h.Key == "" {
		h.t.Fatalf("the service did not come up: %v\n%s", lines.Err(), h.said())
	}
	go io.Copy(io.Discard, out)
	if at != h.URL { // whoever uses it just now goes on with it after a restart
		h.URL, h.Client = at, client.New(at, h.Key)
	}
}

// listen is where it listens, to start it there again.
func (h *house) listen() string { return strings.TrimPrefix(h.URL, "http://") }

// beside is a second instance on the same database.
func (h *house) beside() *house {
	h.t.Helper()
	other := &house{t: h.t, database: h.database, data: h.t.TempDir(), Key: h.Key, FleetURL: h.FleetURL, lease: h.lease, flags: h.flags}
	other.start("127.0.0.1:0")
	h.t.Cleanup(other.end)
	return other
}

// secretive is what no log may hold: numbers and keys.
var secretive = regexp.MustCompile(`(\+|%2[Bb])[1-9][0-9]{8,14}\b|pigeon_\w{8}_`)

// end stops it for good, and says what it said if the test failed.
func (h *house) end() {
	h.stop(os.Interrupt)
	if shown := secretive.FindString(h.said()); shown != "" {
		h.t.Errorf("%s stands in the log", shown)
	}
	if h.t.Failed() {
		h.t.Logf("the service at %s said:\n%s", h.URL, h.said())
	}
}

func (h *house) stop(sig os.Signal) {
	h.cmd.Process.Signal(sig)
	h.cmd.Wait()
}

func (h *house) kill() { h.stop(syscall.SIGKILL) }

// Write takes the service's log.
func (h *house) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.log.Write(p)
}

func (h *house) said() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.log.String()
}

func (h *house) send(d client.Draft) client.Message {
	h.t.Helper()
	return must[client.Message](h.t)(h.Client.Send(h.t.Context(), d))
}

// settled follows a message until its state is final.
func (h *house) settled(id string) client.Message {
	h.t.Helper()
	ctx, cancel := context.WithTimeout(h.t.Context(), 60*time.Second)
	defer cancel()
	if err := h.Client.Follow(ctx, id, func(client.Message) bool { return true }); err != nil {
		h.t.Fatalf("following %s: %v", id, err)
	}
	return must[client.Message](h.t)(h.Client.Message(ctx, id, false))
}

// await waits until something holds of a message.
func (h *house) await(id, what string, holds func(client.Message) bool) client.Message {
	h.t.Helper()
	var m client.Message
	eventually(h.t, what, func() bool {
		m = must[client.Message](h.t)(h.Client.Message(h.t.Context(), id, true))
		return holds(m)
	})
	return m
}

// pigeon runs the command line against the house.
func (h *house) pigeon(in string, args ...string) (code int, out, errOut string) {
	h.t.Helper()
	cmd := exec.CommandContext(h.t.Context(), pigeon, args...)
	cmd.Env = append(os.Environ(), "PIGEON_URL="+h.URL, "PIGEON_KEY="+h.Key)
	cmd.Stdin = strings.NewReader(in)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		h.t.Fatal(err)
	}
	return cmd.ProcessState.ExitCode(), o.String(), e.String()
}

// request makes a plain HTTP request with the house's key.
func (h *house) request(method, path, body string, header ...string) (*http.Response, string) {
	h.t.Helper()
	r, err := http.NewRequestWithContext(h.t.Context(), method, h.URL+path, strings.NewReader(body))
	if err != nil {
		h.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+h.Key)
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		h.t.Fatal(err)
	}
	defer response.Body.Close()
	said, err := io.ReadAll(response.Body)
	if err != nil {
		h.t.Fatal(err)
	}
	return response, string(said)
}

func must[T any](t testing.TB) func(T, error) T {
	return func(v T, err error) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

// eventually waits for a condition, with a deadline.
func eventually(t testing.TB, what string, holds func() bool) {
	t.Helper()
	within(t, 75*time.Second, what, holds) // machines may be slow and busy
}

// within waits so long at most.
func within(t testing.TB, span time.Duration, what string, holds func() bool) {
	t.Helper()
	deadline := time.After(span)
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for !holds() {
		select {
		case <-deadline:
			t.Fatalf("never came true: %s", what)
		case <-tick.C:
		}
	}
}

func claims(m client.Message) []string {
	var all []string
	for _, e := range m.Evidence {
		all = append(all, e.Source+" "+e.Claim)
	}
	return all
}
