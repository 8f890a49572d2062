// Package courier carries requests to gateways over HTTP and keeps what was
// said, secrets masked.
package courier

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/address"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

const (
	replyMost = 4 << 20  // a longer reply is not read to its end; one may speak of thousands of messages
	keepMost  = 64 << 10 // what is kept of a body for people to look at

	replyHeaderMost = 64 << 10 // octets of a reply's headers
	// replySmall is how long a reply is read at once. No more than repliesLarge longer ones of a gateway
	// are held at the same time, however many of its requests are in flight.
	replySmall   = 256 << 10
	repliesLarge = 8
)

// Fate is what is known when there is no reply.
type Fate int

// The fates of a request.
const (
	Answered Fate = iota // there is a reply
	NotSent              // it never reached the gateway
	NoAnswer             // it may have
)

// Courier carries requests. It is safe for concurrent use.
type Courier struct {
	client *http.Client
	now    func() time.Time
	tokens tokens
	large  sync.Map // by the id of a gateway: a channel with one for each reply that is large
}

// ErrPrivate is returned for a gateway whose host is in no public network, where
// that is not wanted.
var ErrPrivate = errors.New("the host has a private address, and the service was started with --no-private-addresses")

// public lets a connection be made only to a public address: it is asked with the
// address to which a name was resolved.
func public(_, at string, _ syscall.RawConn) error {
	to, err := netip.ParseAddrPort(at)
	if err != nil || address.Private(to.Addr()) || ours(to.Addr()) {
		return ErrPrivate
	}
	return nil
}

// ours reports whether an address is one of this machine's own, or cannot be told from them.
func ours(ip netip.Addr) bool {
	own, err := net.InterfaceAddrs()
	return err != nil || slices.ContainsFunc(own, func(a net.Addr) bool {
		at, err := netip.ParsePrefix(a.String())
		return err != nil || at.Addr().Unmap().WithZone("") == ip.Unmap().WithZone("")
	})
}

// New makes a courier. It goes to the address it is given and nowhere else: no
// proxy, no redirect; and to no private one if onlyPublic is set.
func New(now func() time.Time, onlyPublic bool) *Courier {
	return &Courier{now: now, client: NewClient(onlyPublic)}
}

// NewClient makes a client that goes to the address it is given and nowhere else.
func NewClient(onlyPublic bool) *http.Client {
	dialer := &net.Dialer{Timeout: 5 * time.Second, KeepAlive: 30 * time.Second}
	if onlyPublic {
		dialer.Control = public
	}
	return &http.Client{
		Transport: &http.Transport{
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				conn, err := dialer.DialContext(ctx, network, address)
				if err != nil {
					return nil, err
				}
				return &lastLook{Conn: conn}, nil
			},
			TLSHandshakeTimeout: 5 * time.Second,
			WriteBufferSize:     writeBuffer,
			TLSClientConfig:     &tls.Config{DynamicRecordSizingDisabled: true, MinVersion: tls.VersionTLS12},
			MaxIdleConnsPerHost: 512, // as many as a gateway may have in flight
			IdleConnTimeout:     60 * time.Second,
			ForceAttemptHTTP2:   true,

			MaxResponseHeaderBytes: replyHeaderMost,
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// Close ends idle connections.
func (c *Courier) Close() { c.client.CloseIdleConnections() }

// Carry makes one request. It returns the reply if there is one, what is known
// if there is none, and the exchange as it is kept.
func (c *Courier) Carry(ctx context.Context, g *roster.Gateway, purpose string, r dialect.Request) (dialect.Reply, Fate, store.Exchange) {
	reply, fate, exchange, _ := c.CarryNoting(ctx, g, purpose, r, Leaving{})
	return reply, fate, exchange
}

// Leaving is what a request that leaves in its turn asks and tells.
type Leaving struct {
	// May is asked at the last moment whether it may still leave: a process can stand still for
	// long after it was last asked. nil: it may.
	May func() bool
	// Arrived is called, once, as soon as it is known that the other side has the request, or that
	// it will not get it: its answer begins, its kernel has acknowledged the last byte, or the
	// request is over. nil: nobody asks.
	Arrived func()
}

// errNotAnyMore is the error of a request that may not leave any more.
var errNotAnyMore = errors.New("it might not leave any more when it was to be written")

// CarryNoting is [Courier.Carry] for a request that leaves in its turn. It returns as well
// what masks what is told of the answer: it is made anew for every passcode, and is long.
func (c *Courier) CarryNoting(ctx context.Context, g *roster.Gateway, purpose string, r dialect.Request, leaving Leaving) (
	dialect.Reply, Fate, store.Exchange, func(string) string) {
	mask := g.Masking(r.Hidden)
	ctx, cancel := context.WithTimeout(ctx, g.Timeout())
	defer cancel()
	// Once a connection is there, bytes may be on their way.
	var connected atomic.Bool
	var written *writing
	trace := &httptrace.ClientTrace{GotConn: func(got httptrace.GotConnInfo) {
		written = follow(got.Conn)
		connected.Store(true)
		if leaving.May != nil {
			askBefore(got.Conn, leaving.May)
		}
	}}
	if leaving.Arrived != nil {
		arrived := sync.OnceFunc(leaving.Arrived)
		defer arrived()
		trace.WroteHeaders = func() { written.headerWritten() }
		trace.WroteRequest = func(info httptrace.WroteRequestInfo) {
			if info.Err == nil {
				written.after(func() { watchArrival(ctx, written.conn, arrived) })
			}
		}
		trace.GotFirstResponseByte = arrived
	}
	ctx = httptrace.WithClientTrace(ctx, trace)

	if r.Header["User-Agent"] == "" {
		r.Header["User-Agent"] = agent
	}
	clock := time.Now()
	exchange := shown(g, purpose, r, mask, c.now())
	reply, err := c.exchange(ctx, g, r)
	exchange.TookUs = time.Since(clock).Microseconds()
	if reply.Status > 0 {
		exchange.Status, exchange.ReplyHeader, exchange.ReplyBody = reply.Status, maskHeader(reply.Header, mask), keep(reply.Body, mask)
	}
	if err == nil {
		return reply, Answered, exchange, mask
	}
	fate := NoAnswer
	if !connected.Load() || errors.Is(err, errNotAnyMore) {
		fate = NotSent
	}
	exchange.Error = mask(Plain(err, g.Timeout()))
	return reply, fate, exchange, mask
}

// Shown is a request as it is kept and shown, before there is an answer.
func Shown(g *roster.Gateway, purpose string, r dialect.Request, now time.Time) store.Exchange {
	return shown(g, purpose, r, g.Masking(r.Hidden), now)
}

func shown(g *roster.Gateway, purpose string, r dialect.Request, mask func(string) string, now time.Time) store.Exchange {
	return store.Exchange{
		ID: store.IDAt(now), GatewayID: g.ID, Purpose: purpose, Method: r.Method, URL: mask(g.Address + r.Path),
		RequestHeader: maskHeader(
			r.Header,
			mask,
		), RequestBody: keep(r.Body, mask), ReplyHeader: map[string]string{}, ReplyBody: []byte{}, StartedAt: now,
	}
}

// Hide masks a secret that came with the answer.
func Hide(exchange *store.Exchange, g *roster.Gateway, secret, name string) {
	mask := g.Masking(map[string]string{secret: name})
	exchange.ReplyBody = []byte(mask(string(exchange.ReplyBody)))
	exchange.ReplyHeader = maskHeader(exchange.ReplyHeader, mask)
}

// agent is who we say that we are, where the dialect says nothing else.
const agent = "calm-pigeon"

func newRequest(ctx context.Context, g *roster.Gateway, r dialect.Request) (*http.Request, error) {
	request, err := http.NewRequestWithContext(ctx, r.Method, g.Address+r.Path, nil)
	if err != nil {
		return nil, err
	}
	// A body that cannot be had a second time, also where there is none: of a
	// request that can be repeated, net/http repeats it by itself when a kept
	// connection breaks. The text would go twice, and nobody would know.
	if r.Method == http.MethodGet || len(r.Body) > 0 {
		request.Body, request.ContentLength = io.NopCloser(bytes.NewReader(r.Body)), int64(len(r.Body))
	}
	for name, value := range r.Header {
		request.Header.Set(name, value)
	}
	return request, nil
}

func (c *Courier) exchange(ctx context.Context, g *roster.Gateway, r dialect.Request) (dialect.Reply, error) {
	request, err := newRequest(ctx, g, r)
	if err != nil {
		return dialect.Reply{}, err
	}
	response, err := c.client.Do(request)
	if err != nil {
		return dialect.Reply{}, err
	}
	defer response.Body.Close()
	reply := dialect.Reply{Status: response.StatusCode, Header: FlatHeader(response.Header)}
	reply.Body, err = c.read(ctx, g.ID, response.Body)
	return reply, err
}

// read reads the body of a reply. Of one that is too long it returns what it has read, beside the error.
func (c *Courier) read(ctx context.Context, gateway uuid.UUID, body io.Reader) ([]byte, error) {
	read, err := io.ReadAll(io.LimitReader(body, replySmall))
	if err != nil || len(read) < replySmall {
		return read, err
	}
	turns, _ := c.large.LoadOrStore(gateway, make(chan struct{}, repliesLarge))
	turn := turns.(chan struct{})
	select {
	case turn <- struct{}{}:
		defer func() { <-turn }()
	case <-ctx.Done():
		return read, ctx.Err()
	}
	rest, err := io.ReadAll(io.LimitReader(body, replyMost+1-replySmall))
	read = append(read, rest...)
	if err == nil && len(read) > replyMost {
		err = fmt.Errorf("the reply is longer than %d bytes", replyMost)
	}
	return read, err
}

// FlatHeader writes header names in small letters and joins repeated ones.
func FlatHeader(header http.Header) map[string]string {
	flat := make(map[string]string, len(header))
	for name, values := range header {
		flat[strings.ToLower(name)] = strings.ReplaceAll(strings.ToValidUTF8(strings.Join(values, ", "), "\uFFFD"), "\x00", "")
	}
	return flat
}

func maskHeader(header map[string]string, mask func(string) string) map[string]string {
	masked := make(map[string]string, len(header))
	room := headerMost
	telling := dialect.Telling(header)
	for _, name := range slices.Sorted(maps.Keys(telling)) {
		small := strings.ToLower(name)
		value := mask(telling[name])
		if room -= len(small) + len(value); room < 0 {
			masked["…"] = fmt.Sprintf("headers of more than %d bytes are not kept", headerMost)
			break
		}
		masked[small] = value
	}
	return masked
}

// headerMost is how much is kept of the headers of a request or a reply.
const headerMost = 16 << 10

// keep is what is kept of a body: it is masked before it is cut, so that no
// secret stands half at its end.
func keep(body []byte, mask func(string) string) []byte {
	masked := mask(string(body[:min(len(body), 2*keepMost)]))
	return []byte(masked[:min(len(masked), keepMost)])
}

// Plain says in plain words what went wrong on the way.
func Plain(err error, timeout time.Duration) string {
	var dns *net.DNSError
	var op *net.OpError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Sprintf("no answer within %v", timeout)
	case errors.Is(err, context.Canceled):
		return "stopped while waiting for the answer"
	case errors.As(err, &dns):
		return fmt.Sprintf("the host %s is not known", dns.Name)
	case errors.Is(err, ErrPrivate):
		return ErrPrivate.Error()
	case errors.As(err, &op) && op.Op == "dial":
		return fmt.Sprintf("no connection: %v", op.Err)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "the connection was cut before the answer was complete"
	}
	return err.Error()
}
