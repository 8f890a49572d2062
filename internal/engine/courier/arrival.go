package courier

import (
	"context"
	"crypto/tls"
	"net"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// arrivalFirst is after how long it is asked again whether a request has arrived: most are
	// answered before. It is asked twice as late each time, up to arrivalMost.
	arrivalFirst = 2 * time.Millisecond
	arrivalMost  = 50 * time.Millisecond
)

// lastLook is a connection that asks, before the first byte of a request is written, whether
// it may still leave, and tells when the last one is written.
type lastLook struct {
	net.Conn
	may   atomic.Pointer[func() bool]
	then  atomic.Pointer[func()]
	wrote atomic.Int64 // bytes in all
}

// Write writes, if it may.
func (l *lastLook) Write(p []byte) (int, error) {
	if may := l.may.Swap(nil); may != nil && !(*may)() {
		return 0, errNotAnyMore
	}
	n, err := l.Conn.Write(p)
	l.wrote.Add(int64(n))
	if then := l.then.Swap(nil); then != nil && err == nil {
		(*then)()
	}
	return n, err
}

// lookOf is the connection below one that may be encrypted; nil if it is none of ours.
func lookOf(conn net.Conn) *lastLook {
	if secured, ok := conn.(*tls.Conn); ok {
		conn = secured.NetConn()
	}
	looked, _ := conn.(*lastLook)
	return looked
}

// shared reports whether several requests share a connection (HTTP/2).
func shared(conn net.Conn) bool {
	secured, ok := conn.(*tls.Conn)
	return ok && secured.ConnectionState().NegotiatedProtocol == "h2"
}

// askBefore lets it be asked whether the next request of a connection may still leave. One that
// several requests share is asked by none.
func askBefore(conn net.Conn, may func() bool) {
	if looked := lookOf(conn); looked != nil && !shared(conn) {
		looked.may.Store(&may)
	}
}

// writeBuffer is the size of the buffer of net/http between a request and its connection, in bytes.
// What is in it becomes one TLS record.
const writeBuffer = 16 << 10

// writing follows how one request is written to a connection.
type writing struct {
	conn  net.Conn
	look  *lastLook // nil: nothing is known of it
	began int64     // what the connection had written before
	long  bool      // its header does not fit into the buffer
}

// follow begins to follow a request that gets conn.
func follow(conn net.Conn) *writing {
	w := &writing{conn: conn, look: lookOf(conn)}
	if w.look != nil {
		w.began = w.look.wrote.Load()
	}
	return w
}

// headerWritten notes that net/http has written the header, into its buffer at least.
func (w *writing) headerWritten() { w.long = w.look != nil && w.look.wrote.Load() > w.began }

// after calls then once the last byte of the request is written. The caller has heard from net/http
// that the request is written; but that may mean the buffer:
//
//   - HTTP/2 has written all of it to the connection.
//   - HTTP/1 has a request that fits into the buffer still there. The next write of the connection is
//     the whole request.
//   - Of a longer request HTTP/1 has written everything to the connection: after the buffer is full
//     once, the rest of a body goes past it (bufio.Writer.ReadFrom).
//   - If the header alone is longer than the buffer, nobody knows, and after does not call then.
func (w *writing) after(then func()) {
	switch {
	case w.look == nil:
	case shared(w.conn):
		then()
	case w.long:
	case w.look.wrote.Load() > w.began:
		then()
	default:
		w.look.then.Store(&then)
	}
}

// watchArrival calls arrived once the peer's kernel has acknowledged all that was written to a
// connection, unless ctx ends first. A peer that is near has often done so already.
func watchArrival(ctx context.Context, conn net.Conn, arrived func()) {
	if looked := lookOf(conn); looked != nil {
		conn = looked.Conn
	}
	socket, ok := conn.(syscall.Conn)
	if !ok {
		return
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return
	}
	if unacknowledged(raw) == 0 {
		arrived()
		return
	}
	var look func(wait time.Duration)
	look = func(wait time.Duration) {
		time.AfterFunc(wait, func() {
			if ctx.Err() != nil { // the request is over
				return
			}
			if unacknowledged(raw) == 0 {
				arrived()
				return
			}
			look(min(2*wait, arrivalMost))
		})
	}
	look(arrivalFirst)
}

// unacknowledged is how many bytes of a connection the peer's kernel has not acknowledged (Linux's
// tcp(7), SIOCOUTQ); -1 if it cannot be known.
func unacknowledged(raw syscall.RawConn) int {
	n := -1
	if err := raw.Control(func(fd uintptr) {
		if queued, err := unix.IoctlGetInt(int(fd), unix.SIOCOUTQ); err == nil { // #nosec G115 -- a file descriptor
			n = queued
		}
	}); err != nil {
		return -1
	}
	return n
}
