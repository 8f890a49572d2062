package service

import (
	"container/list"
	"context"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"calmpigeon.example/internal/api"
	"calmpigeon.example/internal/core/passcode"
)

const (
	// silentLeast is how long a connection may be silent, before its first request, when all others are taken.
	silentLeast = time.Second
	// roomLook is how often it is looked whether there is room for another connection when all are taken.
	roomLook = 50 * time.Millisecond
	// reservedLife is how long a connection of the reserve is open at most.
	reservedLife = 15 * time.Second
	// writeWithin is how long whoever reads may take for writeMost bytes of an answer.
	writeWithin = 60 * time.Second
	writeMost   = 64 << 10
	// deadlineEvery is how often the deadline of a connection is moved, at most: small answers follow each other closely.
	deadlineEvery = time.Second
	// refusedEvery is how often it is logged that connections were refused.
	refusedEvery = time.Minute
)

// connectionLimits is how many connections there are, and who may have how many of them.
type connectionLimits struct {
	most    int // all together
	address int // from one address: of IPv6 from a /64
	reserve int // the last of all are for receipts, sends and passcodes alone
	key     int // requests of one key at the same time
	streams int // of these, those that last
}

// connectionLimitsOf divides connections.
func connectionLimitsOf(most int) connectionLimits {
	return connectionLimits{most: most, address: max(most/2, 32), reserve: max(most/8, 16), key: max(most/4, 32), streams: max(most/10, 16)}
}

// limitedListener is a listener that divides connections as its limits say. When those that are not the reserve are taken it
// closes connections that idle or have said nothing yet, the longest first, and gives out the reserve.
type limitedListener struct {
	net.Listener
	limits connectionLimits
	log    *slog.Logger
	slots  chan struct{}
	closed chan struct{}
	once   sync.Once

	mu      sync.Mutex
	open    map[string]int // by address
	idle    *list.List     // of *connection, the longest first
	silent  *list.List     // the same of those that have said nothing yet
	told    time.Time      // when it was last logged that some were refused
	refused int            // since then
}

func newLimitedListener(l net.Listener, s connectionLimits, log *slog.Logger) *limitedListener {
	return &limitedListener{Listener: l, limits: s, log: log, slots: make(chan struct{}, s.most), closed: make(chan struct{}),
		open: map[string]int{}, idle: list.New(), silent: list.New()}
}

// Close closes the listener. Connections stay.
func (d *limitedListener) Close() error {
	d.once.Do(func() { close(d.closed) })
	return d.Listener.Close()
}

// Accept waits for a connection whose address has not got its share.
func (d *limitedListener) Accept() (net.Conn, error) {
	for {
		if !d.takeSlot() {
			return nil, net.ErrClosed
		}
		inner, err := d.Listener.Accept()
		if err != nil {
			<-d.slots
			return nil, err
		}
		if c := d.let(inner); c != nil {
			return c, nil
		}
		<-d.slots
		inner.Close()
	}
}

// takeSlot waits until there is room for another connection; false if the listener was closed.
func (d *limitedListener) takeSlot() bool {
	for {
		select {
		case d.slots <- struct{}{}:
			return true
		default:
		}
		d.mu.Lock()
		d.makeRoom(time.Now())
		d.mu.Unlock()
		look := time.NewTimer(roomLook)
		select {
		case d.slots <- struct{}{}:
			look.Stop()
			return true
		case <-d.closed:
			look.Stop()
			return false
		case <-look.C:
		}
	}
}

// let lets a connection in; nil if its address has got its share.
func (d *limitedListener) let(inner net.Conn) *connection {
	c := &connection{Conn: inner, listener: d, from: remote(inner), since: time.Now()}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.open[c.from] >= d.limits.address {
		d.refused++
		if c.since.Sub(d.told) > refusedEvery {
			d.log.Warn("connections are refused: one address has as many as it may", "address", c.from,
				"open", d.open[c.from], "refused", d.refused)
			d.told, d.refused = c.since, 0
		}
		return nil
	}
	d.open[c.from]++
	if len(d.slots) > d.limits.most-d.limits.reserve && !d.makeRoom(c.since) {
		c.reserved = true
		c.end = time.AfterFunc(reservedLife, func() { c.Close() })
	}
	return c
}

// remote is the address that a connection comes from, as it is counted.
func remote(c net.Conn) string {
	at, err := netip.ParseAddrPort(c.RemoteAddr().String())
	if err != nil {
		return ""
	}
	return passcode.AddressOf(at.Addr())
}

// makeRoom closes the connection that has been idle for the longest, or has said nothing for the longest; false if there is
// none.
func (d *limitedListener) makeRoom(now time.Time) bool {
	first := d.idle.Front()
	if first == nil {
		if first = d.silent.Front(); first == nil || now.Sub(first.Value.(*connection).since) < silentLeast {
			return false
		}
	}
	c := first.Value.(*connection)
	d.forget(c)
	go c.Close() // it takes the lock
	return true
}

// state is told what becomes of a connection; see [http.Server.ConnState].
func (d *limitedListener) state(inner net.Conn, is http.ConnState) {
	c, ok := inner.(*connection)
	if !ok {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.forget(c)
	switch is {
	case http.StateNew:
		c.among, c.place = d.silent, d.silent.PushBack(c)
	case http.StateIdle:
		c.among, c.place = d.idle, d.idle.PushBack(c)
	}
}

// forget takes a connection out of those that can be closed to make room.
func (d *limitedListener) forget(c *connection) {
	if c.place != nil {
		c.among.Remove(c.place)
		c.among, c.place = nil, nil
	}
}

// context tells the API whether a request came on a connection of the reserve; see [http.Server.ConnContext].
func (d *limitedListener) context(ctx context.Context, inner net.Conn) context.Context {
	if c, ok := inner.(*connection); ok && c.reserved {
		return api.Reserved(ctx)
	}
	return ctx
}

// connection is one connection.
type connection struct {
	net.Conn
	listener *limitedListener
	from     string
	reserved bool          // it is of the reserve
	end      *time.Timer   // of one of the reserve
	since    time.Time     // when it was let in
	due      time.Time     // until when what is written has to be taken
	among    *list.List    // those that idle, or are silent; nil: it is neither
	place    *list.Element // among them
	once     sync.Once
}

// Write writes in pieces, each of which has to be taken in time: whoever does not read an answer does not hold a
// connection for good.
func (c *connection) Write(p []byte) (n int, err error) {
	for first := true; first || n < len(p); first = false {
		if now := time.Now(); !first || c.due.Sub(now) < writeWithin-deadlineEvery {
			c.due = now.Add(writeWithin)
			if err := c.SetWriteDeadline(c.due); err != nil {
				return n, err
			}
		}
		wrote, err := c.Conn.Write(p[n:min(len(p), n+writeMost)])
		if n += wrote; err != nil {
			return n, err
		}
	}
	return n, nil
}

// Close gives its place back.
func (c *connection) Close() error {
	err := c.Conn.Close()
	c.once.Do(func() {
		if c.end != nil {
			c.end.Stop()
		}
		d := c.listener
		d.mu.Lock()
		if d.open[c.from]--; d.open[c.from] == 0 {
			delete(d.open, c.from)
		}
		d.mu.Unlock()
		<-d.slots
	})
	return err
}
