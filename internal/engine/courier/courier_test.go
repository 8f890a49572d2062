package courier

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

func gatewayAt(address string) *roster.Gateway {
	return &roster.Gateway{Gateway: store.Gateway{ID: store.NewID(), Name: "plain", Address: address, TimeoutMs: 20_000},
		Secrets: map[string]string{"api_key": "s3cret/+", "empty": ""}, Callback: "callback-secret"}
}

func post(body string) dialect.Request {
	return dialect.Request{
		Method: "POST",
		Path:   "/send?key=s3cret%2F%2B",
		Header: map[string]string{"Authorization": "Bearer s3cret/+"},
		Body:   []byte(body),
	}
}

func TestCarryTellsWhatIsKnown(t *testing.T) {
	t.Parallel()
	release := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var in bytes.Buffer
		in.ReadFrom(r.Body)
		switch in.String() {
		case "cut":
			panic(http.ErrAbortHandler)
		case "half":
			w.Header().Set("Content-Length", "100")
			w.Write([]byte("half of it"))
		case "slow":
			<-release
		case "endless":
			w.Write(bytes.Repeat([]byte("x"), replyMost+1))
		case "elsewhere":
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusTemporaryRedirect)
		default:
			w.Header().Set("X-Two", "a")
			w.Header().Add("X-Two", "b")
			fmt.Fprint(w, "seen ", r.Header.Get("Authorization"))
		}
	}))
	t.Cleanup(func() { close(release); server.Close() })
	nobody, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody.Close()

	c := New(func() time.Time { return time.Unix(0, 0) }, false)
	t.Cleanup(c.Close)
	for name, tt := range map[string]struct {
		address, body string
		fate          Fate
		status        int
		says          string
	}{
		"an answer":               {server.URL, "hello", Answered, 200, ""},
		"a redirect is an answer": {server.URL, "elsewhere", Answered, 307, ""},
		"nobody listens":          {"http://" + nobody.Addr().String(), "hello", NotSent, 0, "no connection"},
		"no such host":            {"http://no-such-host.invalid", "hello", NotSent, 0, "is not known"},
		"cut before the answer":   {server.URL, "cut", NoAnswer, 0, "the connection was cut"},
		"cut within the answer":   {server.URL, "half", NoAnswer, 200, "the connection was cut"},
		"too slow":                {server.URL, "slow", NoAnswer, 0, "no answer within 1s"},
		"an answer without end":   {server.URL, "endless", NoAnswer, 200, "longer than"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g := gatewayAt(tt.address)
			if tt.body == "slow" {
				g.TimeoutMs = 1000 // in which it is at least reached, on a busy machine too
			}
			reply, fate, exchange := c.Carry(t.Context(), g, "submit", post(tt.body))
			if fate != tt.fate || exchange.Status != tt.status || !strings.Contains(exchange.Error, tt.says) ||
				(exchange.Error == "") != (tt.says == "") {
				t.Errorf("fate %d, status %d, %q; want %d, %d, %q", fate, exchange.Status, exchange.Error, tt.fate, tt.status, tt.says)
			}
			if fate == Answered && reply.Status != tt.status {
				t.Errorf("replied %d", reply.Status)
			}
			if len(exchange.ReplyBody) > keepMost {
				t.Errorf("%d bytes are kept", len(exchange.ReplyBody))
			}
		})
	}
}

func TestSecretsAreMaskedWhereverTheyStand(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-Echo", r.Header.Get("Authorization"))
		fmt.Fprint(w, "your key is s3cret/+ and you listen at /receipts/plain/callback-secret")
	}))
	defer server.Close()
	c := New(time.Now, false)
	defer c.Close()
	reply, _, x := c.Carry(
		t.Context(),
		gatewayAt(server.URL),
		"submit",
		post(`{"key":"s3cret/+","report":"/receipts/plain/callback-secret"}`),
	)
	if !strings.Contains(string(reply.Body), "s3cret/+") {
		t.Errorf("the reply itself is altered: %s", reply.Body)
	}
	kept := fmt.Sprint(x.URL, x.RequestHeader, string(x.RequestBody), x.ReplyHeader, string(x.ReplyBody), x.Error)
	for _, secret := range []string{"s3cret", "callback-secret"} {
		if strings.Contains(kept, secret) {
			t.Errorf("%q is kept in %s", secret, kept)
		}
	}
	if strings.Count(kept, "‹api_key›") != 5 || strings.Count(kept, "‹callback›") != 2 {
		t.Errorf("kept as %s", kept)
	}
}

// net/http repeats a GET by itself when a kept connection breaks. A text that is
// submitted by GET would go twice.
func TestCarryNeverRepeatsByItself(t *testing.T) {
	t.Parallel()
	for _, method := range []string{"GET", "POST"} {
		var seen atomic.Int32
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if seen.Add(1) == 2 {
				panic(http.ErrAbortHandler)
			}
			if r.ContentLength != 0 || len(r.TransferEncoding) > 0 {
				t.Errorf("%s without a body has a length of %d, %v", method, r.ContentLength, r.TransferEncoding)
			}
		}))
		c := New(time.Now, false)
		request := func() dialect.Request {
			return dialect.Request{Method: method, Path: "/send", Header: map[string]string{}}
		}
		if _, fate, _ := c.Carry(t.Context(), gatewayAt(server.URL), "submit", request()); fate != Answered {
			t.Errorf("%s: the first is not answered", method)
		}
		if _, fate, exchange := c.Carry(t.Context(), gatewayAt(server.URL), "submit", request()); fate != NoAnswer {
			t.Errorf("%s: cut off, and its fate is %v: %+v", method, fate, exchange)
		}
		if n := seen.Load(); n != 2 {
			t.Errorf("%s: the gateway has seen %d requests, want 2", method, n)
		}
		c.Close()
		server.Close()
	}
}

// A token is fetched once for all who want it, hidden in what is kept, and
// fetched anew when the gateway does not accept it.
func TestMeansFetchesToken(t *testing.T) {
	t.Parallel()
	var fetched atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, secret, _ := r.BasicAuth(); secret != "s3cret/+" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		fmt.Fprintf(w, `{"access_token":"fresh-%d","expires_in":3600}`, fetched.Add(1))
	}))
	defer server.Close()
	d, err := dialect.Load("x", []byte(`dialect: x
secrets: [api_key, wrong]
token:
  request: {post: /token, basic: {user: api_key, password: api_key}, form: '{grant_type: "client_credentials"}'}
  reply:
    - {when: .status == 200, token: '{token: .body.access_token, expires_in: .body.expires_in}'}
    - {when: .status == 401, refused: credentials_refused}
submit: {request: {post: /s, bearer: token}, reply: [{when: .status == 200, read: '{state: "accepted"}'}]}
`))
	if err != nil {
		t.Fatal(err)
	}
	g := gatewayAt(server.URL)
	g.Dialect = d
	c := New(time.Now, false)
	defer c.Close()
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			means, _, err := c.Means(t.Context(), g)
			if err != nil || means.Secrets["token"] != "fresh-1" {
				t.Errorf("%v %v", means.Secrets, err)
			}
		})
	}
	all.Wait()
	c.DropToken(g, "another")
	c.DropToken(g, "fresh-1")
	means, exchange, err := c.Means(t.Context(), g)
	if err != nil || means.Secrets["token"] != "fresh-2" || exchange == nil {
		t.Fatalf("%v %v", means.Secrets, err)
	}
	kept := fmt.Sprintf("%+v %s %s", exchange, exchange.RequestBody, exchange.ReplyBody)
	if strings.Contains(kept, "fresh-2") || strings.Contains(kept, "s3cret") || strings.Contains(kept, "czNjcmV0") {
		t.Errorf("a secret is kept: %s", kept)
	}
	if r, err := d.SubmitRequest([]dialect.Message{{}}, means); err != nil || r.Header["Authorization"] != "Bearer fresh-2" ||
		r.Hidden["fresh-2"] != "token" {
		t.Errorf("%+v %v", r, err)
	}
	g.Secrets = map[string]string{"api_key": "no"}
	g.Version++ // changed
	_, _, err = c.Means(t.Context(), g)
	var why *NoToken
	if !errors.As(err, &why) || why.Cause != delivery.CredentialsRefused {
		t.Errorf("with wrong credentials: %v", err)
	}
}

// To a private address nothing goes where that is not wanted, under whatever name.
func TestPrivateAddressesAreNotReached(t *testing.T) {
	t.Parallel()
	reached := false
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached = true }))
	t.Cleanup(server.Close)
	_, port, _ := strings.Cut(strings.TrimPrefix(server.URL, "http://"), ":")
	c := New(time.Now, true)
	t.Cleanup(c.Close)
	for _, host := range []string{"127.0.0.1", "localhost", "[::ffff:127.0.0.1]", "0.0.0.0", "2130706433", "127.1"} {
		g := &roster.Gateway{Gateway: store.Gateway{Address: "http://" + host + ":" + port, TimeoutMs: 2000}}
		_, fate, exchange := c.Carry(t.Context(), g, "submit", dialect.Request{Method: "GET", Path: "/", Header: map[string]string{}})
		if fate != NotSent || reached {
			t.Errorf("%s: %v, %s", host, fate, exchange.Error)
		}
	}
}

// Headers of a reply are bounded, and so is how many long replies of a gateway are held at once; what
// another answers comes meanwhile.
func TestRepliesAreBounded(t *testing.T) {
	t.Parallel()
	var held atomic.Int32
	end := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/headers":
			for i := range 200 {
				w.Header().Set(fmt.Sprint("X-", i), strings.Repeat("a", 1000))
			}
		case "/long":
			w.Write(make([]byte, replySmall))
			w.(http.Flusher).Flush()
			held.Add(1)
			<-end
			w.Write(make([]byte, replySmall))
		}
	}))
	t.Cleanup(server.Close)
	c := New(time.Now, false)
	t.Cleanup(c.Close)
	ask := func(gateway byte, path string) (Fate, string) {
		g := &roster.Gateway{Gateway: store.Gateway{ID: uuid.UUID{gateway}, Address: server.URL, TimeoutMs: 60_000}}
		_, fate, exchange := c.Carry(t.Context(), g, "query", dialect.Request{Method: "GET", Path: path, Header: map[string]string{}})
		return fate, exchange.Error
	}
	if fate, why := ask(1, "/headers"); fate != NoAnswer || !strings.Contains(why, "headers exceeded") {
		t.Errorf("headers without end: %v, %s", fate, why)
	}
	var long sync.WaitGroup
	const many = repliesLarge + 5
	for range many {
		long.Go(func() {
			if fate, why := ask(1, "/long"); fate != Answered {
				t.Error(fate, why)
			}
		})
	}
	turns := func() int {
		if turn, ok := c.large.Load(uuid.UUID{1}); ok {
			return len(turn.(chan struct{}))
		}
		return 0
	}
	for held.Load() < many || turns() < repliesLarge {
		runtime.Gosched()
	}
	if fate, why := ask(2, "/"); fate != Answered {
		t.Error(fate, why)
	}
	close(end)
	long.Wait()
	if n := turns(); n != 0 {
		t.Errorf("%d turns are not given back", n)
	}
}

// This machine's own addresses are private, whatever they are.
func TestOwnAddressesArePrivate(t *testing.T) {
	t.Parallel()
	own, err := net.InterfaceAddrs()
	if err != nil || len(own) == 0 {
		t.Fatal(own, err)
	}
	for _, one := range own {
		at := netip.MustParsePrefix(one.String()).Addr()
		if !ours(at) || public("tcp", netip.AddrPortFrom(at, 80).String(), nil) == nil {
			t.Errorf("%s may be reached", at)
		}
	}
	if ours(netip.MustParseAddr("203.0.113.9")) {
		t.Error("an address in documents is ours")
	}
}
