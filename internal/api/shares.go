package api

import (
	"context"
	"errors"
	"net/http"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
)

// Shares is how many requests of one key are answered at the same time.
type Shares struct {
	Requests int
	Streams  int // of these, those that last
}

// errShare is returned for one more request of a key than is answered at the same time.
var errShare = errors.New("this key has as many requests open as it may")

// share counts what each key has open.
type share struct {
	most int
	mu   sync.Mutex
	open map[uuid.UUID]int
}

func (s *share) take(key uuid.UUID) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[key] >= s.most {
		return false
	}
	s.open[key]++
	return true
}

func (s *share) give(key uuid.UUID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open[key]--; s.open[key] == 0 {
		delete(s.open, key)
	}
}

// within lets at most so many requests of one key pass at the same time.
func (a *API) within(most int) gin.HandlerFunc {
	s := &share{most: most, open: map[uuid.UUID]int{}}
	return func(c *gin.Context) {
		key := keyOf(c).ID
		if !s.take(key) {
			a.refuse(c, errShare)
			return
		}
		defer s.give(key)
		c.Next()
	}
}

type reservedKey struct{}

// Reserved says of the requests on a connection that it is one of the reserve: only what must not wait is answered on it.
func Reserved(ctx context.Context) context.Context {
	return context.WithValue(ctx, reservedKey{}, true)
}

// IsReserved reports whether a request came on such a connection.
func IsReserved(ctx context.Context) bool {
	reserved, _ := ctx.Value(reservedKey{}).(bool)
	return reserved
}

// reservedRoutes are the routes that are answered on connections of the reserve.
var reservedRoutes = map[string]bool{
	"GET /healthz":                    true,
	"GET /receipts/:gateway/:secret":  true,
	"POST /receipts/:gateway/:secret": true,
	"POST /v1/messages":               true,
	"POST /v1/messages/:id/cancel":    true,
	"POST /v1/messages/:id/stop":      true,
	"POST /v1/passcodes":              true,
	"POST /v1/passcodes/check":        true,
	"POST /v1/passcodes/:id/check":    true,
	"POST /v1/passcodes/:id/again":    true,
	"POST /v1/gateways/:name/pause":   true,
	"POST /v1/batches/:id/pause":      true,
	"DELETE /v1/keys/:id":             true,
}

// reserved answers nothing else on connections of the reserve, and closes them.
func (a *API) reserved(c *gin.Context) {
	if !IsReserved(c.Request.Context()) {
		return
	}
	c.Header("Connection", "close")
	if !reservedRoutes[c.Request.Method+" "+c.FullPath()] {
		c.Set(meantKey, true)
		problem(c, http.StatusServiceUnavailable, "busy", "All connections but a reserve are taken",
			"The reserve is for receipts, sends, passcodes, and what stops them. Try again in a moment.")
	}
}
