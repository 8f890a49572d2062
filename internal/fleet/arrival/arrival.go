// Package arrival tells when requests arrived at a server, by the kernel's clock: when their
// bytes came in, whatever the server was doing then. A measurement of whether anything came faster
// than allowed must not count its own stalls.
package arrival

import (
	"context"
	"encoding/binary"
	"net"
	"net/http"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Listener wraps a TCP listener, so that [Context] and [Of] tell when requests arrived, from a
// moment after it is called: the kernel begins in the background.
func Listener(inner net.Listener) net.Listener {
	tcp, ok := inner.(*net.TCPListener)
	if !ok {
		return inner
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return inner
	}
	stamps := false
	err = raw.Control(func(fd uintptr) { // what is accepted inherits it
		const how = unix.SOF_TIMESTAMPING_RX_SOFTWARE | unix.SOF_TIMESTAMPING_SOFTWARE
		stamps = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_TIMESTAMPING, how) == nil // #nosec G115 -- a file descriptor
	})
	if err != nil || !stamps {
		return inner
	}
	return listener{tcp}
}

type listener struct{ *net.TCPListener }

// Accept waits for the next connection.
func (l listener) Accept() (net.Conn, error) {
	tcp, err := l.AcceptTCP()
	if err != nil {
		return nil, err
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return tcp, nil
	}
	return &conn{TCPConn: tcp, raw: raw}, nil
}

// conn is a connection that knows when what was read last from it had arrived.
type conn struct {
	*net.TCPConn
	raw syscall.RawConn
	at  atomic.Int64 // nanoseconds of the Unix time
}

// Read reads what has arrived.
func (c *conn) Read(p []byte) (n int, err error) {
	if len(p) == 0 {
		return c.TCPConn.Read(p)
	}
	var beside [256]byte
	control := 0
	wrong := c.raw.Read(func(fd uintptr) bool {
		n, control, _, _, err = unix.Recvmsg(int(fd), p, beside[:], unix.MSG_DONTWAIT) // #nosec G115 -- a file descriptor
		return err != unix.EAGAIN && err != unix.EINTR
	})
	if wrong != nil || err != nil || n == 0 { // it is over, or a deadline is: the connection says it best
		return c.TCPConn.Read(p)
	}
	if at := stamp(beside[:control]); at > 0 {
		c.at.Store(at)
	}
	return n, nil
}

// stamp reads the software timestamp beside what was received (Linux's
// Documentation/networking/timestamping.rst); 0 if there is none.
func stamp(beside []byte) int64 {
	messages, err := unix.ParseSocketControlMessage(beside)
	if err != nil {
		return 0
	}
	for _, m := range messages {
		if m.Header.Level == unix.SOL_SOCKET && m.Header.Type == unix.SCM_TIMESTAMPING && len(m.Data) >= 16 {
			seconds, nanoseconds := binary.NativeEndian.Uint64(m.Data[:8]), binary.NativeEndian.Uint64(m.Data[8:16])
			return int64(seconds)*int64(time.Second) + int64(nanoseconds) // #nosec G115 -- of this century
		}
	}
	return 0
}

type key struct{}

// Context is for [http.Server.ConnContext].
func Context(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(ctx, key{}, c)
}

// Of is when the request arrived; now if the kernel does not tell.
func Of(r *http.Request) time.Time {
	if c, ok := r.Context().Value(key{}).(*conn); ok {
		if at := c.at.Load(); at > 0 {
			return time.Unix(0, at)
		}
	}
	return time.Now()
}
