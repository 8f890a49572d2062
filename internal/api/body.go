package api

import (
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
)

const (
	// bodyMost is the longest body that is read.
	bodyMost = 1 << 20
	// bodyWithin is the time in which a whole body comes: whoever sends a byte
	// now and then would otherwise hold a connection for good.
	bodyWithin = 10 * time.Second
)

// unhurried lifts the time limit of a request that has no body: it was read to
// its end, and its answer may take long, or be a stream.
func unhurried(c *gin.Context) {
	if c.Request.ContentLength == 0 {
		http.NewResponseController(c.Writer).SetReadDeadline(time.Time{}) // where it cannot be set, there is none
	}
}

// body reads the whole body of a request, in time.
func body(c *gin.Context) ([]byte, error) {
	control := http.NewResponseController(c.Writer)
	control.SetReadDeadline(time.Now().Add(bodyWithin)) // where it cannot be set, that of the server holds
	read, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, bodyMost))
	if err == nil {
		control.SetReadDeadline(time.Time{})
		c.Set(bodyRead, true)
	}
	return read, err
}

const bodyRead = "body read"

// unread reports whether there is a body that nobody has read, or not to its end.
// It is not waited for.
func unread(c *gin.Context) bool { return c.Request.ContentLength != 0 && !c.GetBool(bodyRead) }
