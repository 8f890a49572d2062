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
// it may still leave.
type lastLook struct {
	net.Conn
	may atomic.Pointer[func() bool]
}

// Write writes, if it may.
func (l *lastLook) Write(p []byte) (int, error) {
	if may := l.may.Swap(nil); may != nil && !(*may)() {
		return 0, errNotAnyMore
	}
	return l.Conn.Write(p)
}

// lookOf is the connection below one that may be encrypted; nil if it is none of ours.
func lookOf(conn net.Conn) *lastLook {
	if secured, ok := conn.(*tls.Conn); ok {
		conn = secured.NetConn()
	}
	looked, _ := conn.(*lastLook)
	return looked
}

// askBefore lets it be asked whether the next request of a connection may still leave. One that
// several requests share is asked by none.
func askBefore(conn net.Conn, may func() bool) {
	if secured, ok := conn.(*tls.Conn); ok && secured.ConnectionState().NegotiatedProtocol == "h2" {
		return
	}
	if looked := lookOf(conn); looked != nil {
		looked.may.Store(&may)
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
