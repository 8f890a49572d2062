// Package pgproxy stands between a program and PostgreSQL and breaks connections at chosen statements. It is for tests.
//
//	proxy, _ := pgproxy.Start(server.URL)
//	lost := proxy.Inject(pgproxy.Fault{Within: "INSERT INTO messages", Do: pgproxy.LoseAnswer})
//	// … connect to proxy.URL, and write a message
//	<-lost.Hit // it is committed, and the program does not know
package pgproxy

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"
)

// Action is what happens at a statement.
type Action int

const (
	// CutBefore breaks the connection before the server gets the statement.
	CutBefore Action = iota + 1
	// LoseAnswer breaks the connection after the server has executed the statement and before its answer is passed on.
	LoseAnswer
	// Swallow passes no answer on from that of the statement, and keeps the connection open.
	Swallow
	// HoldBack passes the answer on after [Fault.Delay].
	HoldBack
)

// Fault says at which statements what happens.
type Fault struct {
	// At is what the statement contains; COMMIT if it is empty.
	At string
	// Within is what this or an earlier statement of the same transaction contains; empty: any transaction.
	Within string
	// Skip is how many such statements pass before the first that the fault concerns.
	Skip int
	// Times is how many statements the fault concerns; 0: one, less than 0: every one.
	Times int
	Do    Action
	Delay time.Duration
	// When is asked before each further use, if it is set.
	When func() bool
}

// Injected is a fault that a proxy applies.
type Injected struct {
	Hit   chan struct{} // closed once the fault has been applied
	fault Fault
	once  sync.Once
}

// Proxy is a running proxy.
type Proxy struct {
	URL string // in the place of the server's

	server   string
	listener net.Listener
	wait     sync.WaitGroup

	mu     sync.Mutex
	faults []*Injected
	conns  map[net.Conn]bool
	closed bool
}

// Start starts a proxy on loopback in front of the server at address, a postgres:// URL with a host and a port.
func Start(address string) (*Proxy, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Proxy{server: u.Host, listener: listener, conns: map[net.Conn]bool{}}
	u.Host = listener.Addr().String()
	p.URL = u.String()
	p.wait.Go(p.accept)
	return p, nil
}

// Close breaks all connections and takes no more.
func (p *Proxy) Close() {
	p.mu.Lock()
	p.closed = true
	p.mu.Unlock()
	p.listener.Close()
	p.Break()
	p.wait.Wait()
}

// Break breaks all connections that are open now.
func (p *Proxy) Break() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for c := range p.conns {
		c.Close()
	}
}

// Redirect leads to another server from now on, as a failover does, and breaks all connections.
func (p *Proxy) Redirect(address string) error {
	u, err := url.Parse(address)
	if err != nil {
		return err
	}
	p.mu.Lock()
	p.server = u.Host
	p.mu.Unlock()
	p.Break()
	return nil
}

// backend is where it leads.
func (p *Proxy) backend() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.server
}

// Inject applies a fault from now on.
func (p *Proxy) Inject(f Fault) *Injected {
	if f.At == "" {
		f.At = "COMMIT"
	}
	if f.Times == 0 {
		f.Times = 1
	}
	in := &Injected{Hit: make(chan struct{}), fault: f}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.faults = append(p.faults, in)
	return in
}

// Clear applies no fault any more.
func (p *Proxy) Clear() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.faults = nil
}

// at is the fault that concerns a statement, if one does.
func (p *Proxy) at(sql string, transaction []string) *Injected {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, in := range p.faults {
		f := &in.fault
		within := f.Within == "" || slices.ContainsFunc(transaction, func(one string) bool { return strings.Contains(one, f.Within) })
		if f.Times == 0 || !strings.Contains(sql, f.At) || !within || f.When != nil && !f.When() {
			continue
		}
		if f.Skip > 0 {
			f.Skip--
			continue
		}
		if f.Times > 0 {
			f.Times--
		}
		return in
	}
	return nil
}

func (in *Injected) hit() { in.once.Do(func() { close(in.Hit) }) }

func (p *Proxy) accept() {
	for {
		client, err := p.listener.Accept()
		if err != nil {
			return
		}
		p.wait.Go(func() {
			defer client.Close()
			server, err := net.Dial("tcp", p.backend())
			if err != nil {
				return
			}
			defer server.Close()
			if !p.hold(client, server) {
				return
			}
			defer p.release(client, server)
			(&connection{proxy: p, client: client, server: server, statements: map[string]string{}, portals: map[string]string{}}).run()
		})
	}
}

func (p *Proxy) hold(conns ...net.Conn) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range conns {
		p.conns[c] = true
	}
	return !p.closed
}

func (p *Proxy) release(conns ...net.Conn) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range conns {
		delete(p.conns, c)
	}
}

// connection is one connection of the program. Messages are those of PostgreSQL's protocol 3.0 (its manual, §55).
type connection struct {
	proxy          *Proxy
	client, server net.Conn
	statements     map[string]string // prepared, by name
	portals        map[string]string
	transaction    []string
	mu             sync.Mutex
	expected       []expectation // answers that are outstanding
}

// expectation is an answer that is to come: that of a statement, or the one that ends a round.
type expectation struct {
	ends  bool
	fault *Injected
}

func (c *connection) run() {
	from := bufio.NewReader(c.client)
	if !c.startUp(from) {
		return
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.answers()
		c.client.Close()
		c.server.Close()
	}()
	c.requests(from)
	c.client.Close()
	c.server.Close()
	<-done
}

const (
	codeTLS, codeGSS, codeCancel = 80877103, 80877104, 80877102
	lengthMost                   = 1 << 30
)

// startUp passes the first message on. Encryption is declined.
func (c *connection) startUp(from *bufio.Reader) bool {
	for {
		var head [8]byte
		if _, err := io.ReadFull(from, head[:]); err != nil {
			return false
		}
		length, code := binary.BigEndian.Uint32(head[:4]), binary.BigEndian.Uint32(head[4:])
		if length < 8 || length > lengthMost {
			return false
		}
		if code == codeTLS || code == codeGSS {
			if _, err := c.client.Write([]byte("N")); err != nil {
				return false
			}
			continue
		}
		rest := make([]byte, length-8)
		if _, err := io.ReadFull(from, rest); err != nil {
			return false
		}
		_, err := c.server.Write(append(head[:], rest...))
		return err == nil && (code != codeCancel || c.cancel())
	}
}

func (c *connection) cancel() bool {
	io.Copy(io.Discard, c.server)
	return false
}

func read(from *bufio.Reader) (kind byte, whole []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(from, head[:]); err != nil {
		return 0, nil, err
	}
	length := binary.BigEndian.Uint32(head[1:])
	if length < 4 || length > lengthMost {
		return 0, nil, fmt.Errorf("a message of %d bytes", length)
	}
	whole = make([]byte, 1+length)
	copy(whole, head[:])
	_, err = io.ReadFull(from, whole[5:])
	return head[0], whole, err
}

// word takes a string that ends with a zero off the beginning.
func word(b []byte) (string, []byte) {
	s, rest, _ := strings.Cut(string(b), "\x00")
	return s, []byte(rest)
}

var errCut = errors.New("cut")

// requests passes on what the program says.
func (c *connection) requests(from *bufio.Reader) {
	to := bufio.NewWriter(c.server)
	for {
		kind, whole, err := read(from)
		if err != nil || c.hear(kind, whole[5:]) != nil {
			return
		}
		to.Write(whole)
		if from.Buffered() == 0 && to.Flush() != nil {
			return
		}
	}
}

// hear notes a message of the program.
func (c *connection) hear(kind byte, body []byte) error {
	switch kind {
	case 'P': // Parse
		name, rest := word(body)
		c.statements[name], _ = word(rest)
	case 'B': // Bind
		portal, rest := word(body)
		name, _ := word(rest)
		c.portals[portal] = c.statements[name]
	case 'E': // Execute
		portal, _ := word(body)
		return c.execute(c.portals[portal])
	case 'Q': // Query
		sql, _ := word(body)
		if err := c.execute(sql); err != nil {
			return err
		}
		c.expect(expectation{ends: true})
	case 'S': // Sync
		c.expect(expectation{ends: true})
	}
	return nil
}

func (c *connection) execute(sql string) error {
	if strings.HasPrefix(strings.ToUpper(sql), "BEGIN") {
		c.transaction = nil
	}
	c.transaction = append(c.transaction, sql)
	fault := c.proxy.at(sql, c.transaction)
	if fault != nil && fault.fault.Do == CutBefore {
		fault.hit()
		return errCut
	}
	c.expect(expectation{fault: fault})
	return nil
}

func (c *connection) expect(e expectation) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.expected = append(c.expected, e)
}

// answers passes on what the server says.
func (c *connection) answers() {
	from, to := bufio.NewReader(c.server), bufio.NewWriter(c.client)
	for {
		kind, whole, err := read(from)
		if err != nil {
			return
		}
		if fault := c.answered(kind); fault != nil {
			fault.hit()
			switch fault.fault.Do {
			case LoseAnswer:
				return
			case Swallow:
				to.Flush()
				io.Copy(io.Discard, from)
				return
			case HoldBack:
				to.Flush()
				time.Sleep(fault.fault.Delay)
			}
		}
		to.Write(whole)
		if from.Buffered() == 0 && to.Flush() != nil {
			return
		}
	}
}

// answered is the fault at the statement that a message of the server answers.
func (c *connection) answered(kind byte) *Injected {
	c.mu.Lock()
	defer c.mu.Unlock()
	switch kind {
	case 'C', 'I', 's': // CommandComplete, EmptyQueryResponse, PortalSuspended
		if len(c.expected) > 0 && !c.expected[0].ends {
			fault := c.expected[0].fault
			c.expected = c.expected[1:]
			return fault
		}
	case 'Z': // ReadyForQuery: what was not answered by now was passed over after an error
		for len(c.expected) > 0 {
			ends := c.expected[0].ends
			c.expected = c.expected[1:]
			if ends {
				break
			}
		}
	}
	return nil
}
