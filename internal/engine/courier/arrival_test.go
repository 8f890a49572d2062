package courier

import (
	"context"
	"crypto/x509"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
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

// peers are the ways in which a gateway is spoken to.
var peers = map[string]func(*httptest.Server){
	"plain":           func(s *httptest.Server) { s.Start() },
	"TLS":             func(s *httptest.Server) { s.StartTLS() },
	"HTTP/2 over TLS": func(s *httptest.Server) { s.EnableHTTP2 = true; s.StartTLS() },
}

// to is a gateway at a server, under a name of its own, and a courier that trusts it.
func to(t *testing.T, gateways *roster.Roster, server *httptest.Server) (*Courier, *roster.Gateway) {
	t.Cleanup(server.Close)
	timeout := 20 * time.Second
	c := New(time.Now, false)
	if server.Certificate() != nil {
		trusted := x509.NewCertPool()
		trusted.AddCert(server.Certificate())
		c.client.Transport.(*http.Transport).TLSClientConfig.RootCAs = trusted
	}
	_, port, _ := net.SplitHostPort(server.Listener.Addr().String())
	source := strings.Replace(silently, "silently", "silently-"+port, 1)
	return c, rostertest.Gateway(t, gateways, source, roster.Settings{Address: &server.URL, Timeout: &timeout})
}

func request(body int) dialect.Request {
	return dialect.Request{Method: "POST", Path: "/s", Header: map[string]string{}, Body: make([]byte, body)}
}

// That a request has arrived is known by the acknowledgement of its last byte, long before an
// answer.
func TestArrivalIsKnownBeforeTheAnswer(t *testing.T) {
	t.Parallel()
	gateways, _ := rostertest.Roster(t)
	for name, start := range peers {
		for _, body := range []int{2, writeBuffer - 300, writeBuffer - 50, writeBuffer, 100 << 10} {
			answer := make(chan struct{})
			server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				io.Copy(io.Discard, r.Body)
				<-answer
			}))
			start(server)
			c, g := to(t, gateways, server)
			arrived, done := make(chan struct{}), make(chan Fate)
			go func() {
				_, fate, _, _ := c.CarryNoting(t.Context(), g, "submit", request(body), Leaving{Arrived: func() { close(arrived) }})
				done <- fate
			}()
			select {
			case <-arrived:
			case <-time.After(10 * time.Second):
				t.Errorf("%s, %d bytes: nobody is told that it arrived", name, body)
			}
			close(answer)
			if fate := <-done; fate != Answered {
				t.Errorf("%s, %d bytes: %v", name, body, fate)
			}
		}
	}
}

// A request whose last bytes are not written yet has not arrived, however long that takes: net/http
// tells that it is written when its end is still in a buffer.
func TestWhatIsNotWrittenHasNotArrived(t *testing.T) {
	t.Parallel()
	gateways, _ := rostertest.Roster(t)
	for name, start := range peers {
		server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.Copy(io.Discard, r.Body) }))
		start(server)
		c, g := to(t, gateways, server)
		arrived := make(chan struct{})
		_, fate, _, _ := c.CarryNoting(t.Context(), g, "submit", request(2), Leaving{
			Arrived: func() { close(arrived) },
			May: func() bool { // is asked in the write
				select {
				case <-arrived:
					t.Errorf("%s: it arrived before it was written", name)
				case <-time.After(10 * arrivalFirst): // long enough to be asked about
				}
				return true
			},
		})
		if fate != Answered {
			t.Errorf("%s: %v", name, fate)
		}
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
