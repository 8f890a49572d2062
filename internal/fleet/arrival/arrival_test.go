package arrival

import (
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"
)

// A request that waits in the kernel's buffers, as the server reads nothing, arrived when its bytes
// came in, and not when it was read.
func TestArrivalIsThatOfTheBytes(t *testing.T) {
	t.Parallel()
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	listener := Listener(inner)
	arrived := make(chan time.Time, 10)
	server := &http.Server{
		ConnContext:       Context,
		ReadHeaderTimeout: time.Minute,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			arrived <- Of(r)
			io.Copy(io.Discard, r.Body)
		}),
	}
	defer server.Close()
	const slack = 5 * time.Millisecond // the kernel's clock is stepped otherwise
	serving := false
	for range 3 {
		for stamped := false; !stamped; {
			conn, err := net.Dial("tcp", inner.Addr().String())
			if err != nil {
				t.Fatal(err)
			}
			before := time.Now()
			if _, err := io.WriteString(conn, "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\n{}"); err != nil {
				t.Fatal(err)
			}
			after := time.Now()
			if !serving { // what is measured: that this does not count
				time.Sleep(200 * time.Millisecond)
				serving = true
				go server.Serve(listener)
			}
			at := <-arrived
			conn.Close()
			if stamped = !strings.Contains(at.String(), "m="); !stamped { // the kernel has not begun yet
				time.Sleep(10 * time.Millisecond)
				continue
			}
			if at.Before(before.Add(-slack)) || at.After(after.Add(slack)) {
				t.Errorf("it was written between %v and %v, and arrived at %v", before, after, at)
			}
		}
	}
}
