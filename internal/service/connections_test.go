package service

import (
	"bufio"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"calmpigeon.example/internal/api"
)

// behind serves a handler behind a limited listener.
func behind(t *testing.T, s connectionLimits, handler http.HandlerFunc) (*limitedListener, string) {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	d := newLimitedListener(listener, s, slog.New(slog.DiscardHandler))
	server := &http.Server{Handler: handler, ConnState: d.state, ConnContext: d.context}
	go server.Serve(d)
	t.Cleanup(func() { server.Close() })
	return d, listener.Addr().String()
}

// call is a connection on which a request is made, whose answer may be awaited.
type call struct {
	net.Conn
	in *bufio.Reader
}

func dial(t *testing.T, to string) call {
	t.Helper()
	c, err := net.Dial("tcp", to)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	c.SetDeadline(time.Now().Add(30 * time.Second))
	return call{c, bufio.NewReader(c)}
}

func (c call) ask(t *testing.T, path string) (answer string) {
	t.Helper()
	fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: x\r\n\r\n", path)
	response, err := http.ReadResponse(c.in, nil)
	if err != nil {
		return err.Error()
	}
	defer response.Body.Close()
	body, err := io.ReadAll(response.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(body)
}

// One address gets no more than its share; what it gives back it may have again.
func TestAnAddressHasAShare(t *testing.T) {
	t.Parallel()
	_, at := behind(t, connectionLimits{most: 100, address: 3, reserve: 10}, func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w, "here")
	})
	var open []call
	for range 3 {
		c := dial(t, at)
		if got := c.ask(t, "/"); got != "here" {
			t.Fatalf("got %q", got)
		}
		open = append(open, c)
	}
	if got := dial(t, at).ask(t, "/"); got == "here" {
		t.Error("one more is answered")
	}
	open[0].Close()
	for deadline := time.Now().Add(10 * time.Second); dial(t, at).ask(t, "/") != "here"; time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("its place is not given again")
		}
	}
}

// When all are taken but the reserve, what idles makes room; when nothing idles, the reserve is for what must not wait.
func TestTheReserveIsKept(t *testing.T) {
	t.Parallel()
	hold := make(chan struct{})
	var mu sync.Mutex
	spare := map[string]bool{}
	d, at := behind(t, connectionLimits{most: 6, address: 100, reserve: 2}, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		spare[r.URL.Path] = api.IsReserved(r.Context())
		mu.Unlock()
		w.(http.Flusher).Flush()
		if strings.HasPrefix(r.URL.Path, "/stream") {
			<-hold
		}
		io.WriteString(w, r.URL.Path)
	})
	t.Cleanup(sync.OnceFunc(func() { close(hold) }))
	idle := dial(t, at)
	idle.ask(t, "/idle")
	for i := range 4 { // the last takes the place of the one that idles
		fmt.Fprintf(dial(t, at), "GET /stream%d HTTP/1.1\r\nHost: x\r\n\r\n", i)
	}
	eventually(t, "all streams have begun", func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(spare) == 5
	})
	if _, err := idle.in.ReadByte(); err == nil {
		t.Error("the one that idles is not closed")
	}
	if got := dial(t, at).ask(t, "/receipt"); got != "/receipt" {
		t.Errorf("on the reserve: %q", got)
	}
	mu.Lock()
	defer mu.Unlock()
	for path, is := range spare {
		if is != (path == "/receipt") {
			t.Errorf("%s: of the reserve is %v", path, is)
		}
	}
	eventually(t, "it counts right", func() bool {
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.open["127.0.0.1"] <= 6
	})
}

// A client that does not read its answer is cut off.
func TestWhoeverDoesNotReadIsCutOff(t *testing.T) {
	t.Parallel()
	near, far := net.Pipe()
	defer far.Close()
	d := newLimitedListener(nil, connectionLimits{most: 2}, slog.New(slog.DiscardHandler))
	d.slots <- struct{}{}
	c := &connection{Conn: slow{near}, listener: d}
	if _, err := c.Write(make([]byte, 3*writeMost)); err == nil {
		t.Error("it was written to nobody")
	}
	c.Close()
	c.Close() // gives back once
	if len(d.slots) != 0 {
		t.Errorf("%d places are taken", len(d.slots))
	}
}

// slow is a connection whose time goes fast.
type slow struct{ net.Conn }

func (s slow) SetWriteDeadline(at time.Time) error {
	return s.Conn.SetWriteDeadline(time.Now().Add(time.Until(at) / 1000))
}

func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); !is(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("waited in vain: %s", what)
		}
	}
}
