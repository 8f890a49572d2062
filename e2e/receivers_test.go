package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/client"
)

// The receivers in the guide take what is signed, and nothing else.
func TestReceiversInTheGuide(t *testing.T) {
	t.Parallel()
	guide := string(must[[]byte](t)(os.ReadFile("../docs/events.md")))
	for language, run := range map[string]struct {
		runtime, file, command string
	}{
		"go":     {"go", "main.go", "go build -o hook main.go && exec ./hook"},
		"js":     {"node", "hook.js", "exec node hook.js"},
		"python": {"python3", "hook.py", "exec python3 hook.py"},
	} {
		t.Run(language, func(t *testing.T) {
			t.Parallel()
			if _, err := exec.LookPath(run.runtime); err != nil {
				t.Skipf("%s is not there, and what the guide says of it is not tried", run.runtime)
			}
			_, code, found := strings.Cut(guide, "\n```"+language+"\n")
			if !found {
				t.Fatalf("the guide has nothing in %s", language)
			}
			code, _, _ = strings.Cut(code, "\n```\n")
			h := build(t).with("harbourline")
			to := "http://" + freeAddress(t) + "/hook"
			r := must[client.Receiver](t)(h.Client.AddReceiver(t.Context(), client.ReceiverSettings{Name: "guide", Address: &to,
				Types: &[]string{"message.delivered"}}))
			folder := t.TempDir()
			if err := os.WriteFile(filepath.Join(folder, run.file), []byte(code+"\n"), 0o600); err != nil {
				t.Fatal(err)
			}
			lines := receive(t, folder, run.command, to, r.Secret)
			h.settled(h.send(client.Draft{To: "+447700900123", Text: "x", Reference: "booking-7"}).ID)
			select {
			case line := <-lines:
				if line != "message.delivered booking-7" {
					t.Errorf("it heard %q", line)
				}
			case <-time.After(60 * time.Second):
				t.Error("it heard nothing")
			}
			trial := must[client.EventTrial](t)(h.Client.TestReceiver(t.Context(), "guide"))
			request := must[*http.Request](t)(
				http.NewRequestWithContext(t.Context(), http.MethodPost, to, strings.NewReader(trial.Exchange.RequestBody)),
			)
			send := func(change func(http.Header)) int {
				for name, value := range trial.Exchange.RequestHeader {
					request.Header.Set(name, value)
				}
				change(request.Header)
				request.Body = must[io.ReadCloser](t)(request.GetBody())
				response := must[*http.Response](t)(http.DefaultClient.Do(request))
				response.Body.Close()
				return response.StatusCode
			}
			if status := send(func(http.Header) {}); status != http.StatusNoContent {
				t.Errorf("what is signed was answered %d", status)
			}
			for what, change := range map[string]func(http.Header){
				"another id":   func(h http.Header) { h.Set("webhook-id", "x") },
				"another time": func(h http.Header) { h.Set("webhook-timestamp", fmt.Sprint(time.Now().Unix()+1)) },
				"an old time":  func(h http.Header) { h.Set("webhook-timestamp", "1700000000") },
				"no time":      func(h http.Header) { h.Del("webhook-timestamp") },
				"no signature": func(h http.Header) { h.Del("webhook-signature") },
				"another one":  func(h http.Header) { h.Set("webhook-signature", "v1,AAAA v1, v0,x") },
			} {
				if status := send(change); status != http.StatusUnauthorized {
					t.Errorf("%s was answered %d", what, status)
				}
			}
		})
	}
}

// freeAddress is one of this machine at which nobody listens.
func freeAddress(t *testing.T) string {
	t.Helper()
	listener := must[net.Listener](t)(net.Listen("tcp", "127.0.0.1:0"))
	defer listener.Close()
	return listener.Addr().String()
}

// receive runs a receiver until the test is over, and gives its lines.
func receive(t *testing.T, folder, command, to, secret string) <-chan string {
	t.Helper()
	address, _, _ := strings.Cut(strings.TrimPrefix(to, "http://"), "/")
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.CommandContext(t.Context(), "sh", "-c", command)
	cmd.Dir, cmd.Env, cmd.Stderr = folder, append(os.Environ(), "PORT="+port, "WEBHOOK_SECRET="+secret), os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines := make(chan string, 16)
	t.Cleanup(func() { cmd.Wait() }) // it is killed before, with the context of the test
	go func() {
		for said := bufio.NewScanner(out); said.Scan(); {
			lines <- said.Text()
		}
	}()
	within(t, 60*time.Second, "it listens", func() bool {
		c, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
	return lines
}
