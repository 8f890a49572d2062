package courier

import (
	"context"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const silently = "dialect: silently\n" +
	"submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// That a request has arrived is known by the acknowledgement of its last byte, long before an
// answer; and not before it has, however long it takes to be written.
func TestArrivalIsKnownBeforeTheAnswer(t *testing.T) {
	t.Parallel()
	gateways, _ := rostertest.Roster(t)
	answer := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		<-answer
	}))
	t.Cleanup(server.Close)
	timeout := 20 * time.Second
	g := rostertest.Gateway(t, gateways, silently, roster.Settings{Address: &server.URL, Timeout: &timeout})
	arrived, done := make(chan struct{}), make(chan Fate)
	go func() {
		_, fate, _, _ := New(time.Now, false).CarryNoting(
			t.Context(),
			g,
			"submit",
			dialect.Request{
				Method: "POST",
				Path:   "/s",
				Header: map[string]string{},
				Body:   []byte("{}"),
			},
			Leaving{Arrived: func() { close(arrived) }},
		)
		done <- fate
	}()
	<-arrived
	select {
	case fate := <-done:
		t.Errorf("it ended first: %v", fate)
	default:
	}
	close(answer)
	if fate := <-done; fate != Answered {
		t.Errorf("%v", fate)
	}
}

// Of a peer that does not read, what fits into no buffer is not taken to have arrived.
func TestWhatIsNotAcknowledgedHasNotArrived(t *testing.T) {
	t.Parallel()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	took := make(chan net.Conn, 1)
	go func() {
		conn, err := listener.Accept()
		if err == nil {
			took <- conn
		}
	}()
	conn, err := net.Dial("tcp", listener.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	peer := <-took
	defer peer.Close()
	conn.SetWriteDeadline(time.Now().Add(300 * time.Millisecond))
	if _, err := conn.Write(make([]byte, 64<<20)); err == nil { // until all buffers are full
		t.Fatal("the buffers hold 64 MiB")
	}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	var known atomic.Bool
	arrived := make(chan struct{})
	watchArrival(ctx, conn, func() { known.Store(true); close(arrived) })
	raw, err := conn.(*net.TCPConn).SyscallConn()
	if err != nil {
		t.Fatal(err)
	}
	if n := unacknowledged(raw); n <= 0 || known.Load() {
		t.Errorf("%d bytes are not acknowledged, known %v", n, known.Load())
	}
	go io.Copy(io.Discard, peer)
	<-arrived
	if n := unacknowledged(raw); n != 0 {
		t.Errorf("it has arrived, and %d bytes are not acknowledged", n)
	}
}

// A request that may not leave any more when it is to be written is not written.
func TestTheLastLookComesBeforeTheFirstByte(t *testing.T) {
	t.Parallel()
	gateways, _ := rostertest.Roster(t)
	var got atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { got.Add(1) }))
	t.Cleanup(server.Close)
	g := rostertest.Gateway(t, gateways, silently, roster.Settings{Address: &server.URL})
	c := New(time.Now, false)
	for _, method := range []string{"POST", "GET", "PUT"} {
		for _, body := range []string{"", "{}", string(make([]byte, 100<<10))} {
			asked := false
			_, fate, _, _ := c.CarryNoting(
				t.Context(),
				g,
				"submit",
				dialect.Request{Method: method, Path: "/s", Header: map[string]string{}, Body: []byte(body)},
				Leaving{May: func() bool { asked = true; return false }},
			)
			if !asked || fate != NotSent {
				t.Errorf("%s with %d bytes: %v, asked %v", method, len(body), fate, asked)
			}
		}
	}
	if n := got.Load(); n > 0 {
		t.Errorf("%d requests arrived", n)
	}
}
