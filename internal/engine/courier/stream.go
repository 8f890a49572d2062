package courier

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/roster"
)

const (
	// idleMost is how long a long answer may say nothing.
	idleMost = time.Minute
	// refusalMost is how much is read of an answer that is a refusal.
	refusalMost = 600
)

// Refusal is an answer that is not what was asked for.
type Refusal struct {
	Status int
	Said   string // its beginning, secrets masked
}

func (e *Refusal) Error() string { return fmt.Sprintf("it answered %d: %s", e.Status, e.Said) }

// Stream is an answer that is read as it comes.
type Stream struct {
	body io.ReadCloser
	ctx  context.Context // ends with the reason why it was ended
	stop context.CancelCauseFunc
	idle *time.Timer
	left int64
}

// ErrLong is returned for an answer that is longer than was said.
var ErrLong = errors.New("the answer is longer than it may be")

var errIdle = fmt.Errorf("it said nothing for %v", idleMost)

// Open makes a request whose answer may be long, and of which up to most octets are read. It has as long as a request
// has until it answers, and may then be silent for a minute at most. An answer that is not 200 comes as a [Refusal].
func (c *Courier) Open(ctx context.Context, g *roster.Gateway, r dialect.Request, most int64) (*Stream, error) {
	mask := g.Masking(r.Hidden)
	inner, stop := context.WithCancelCause(ctx)
	late := context.DeadlineExceeded
	idle := time.AfterFunc(g.Timeout(), func() { stop(late) })
	fail := func(err error) (*Stream, error) {
		idle.Stop()
		stop(nil)
		if ctx.Err() == nil && errors.Is(context.Cause(inner), late) {
			err = late
		}
		var refusal *Refusal
		if errors.As(err, &refusal) {
			return nil, err
		}
		return nil, errors.New(mask(Plain(err, g.Timeout())))
	}
	if r.Header["User-Agent"] == "" {
		r.Header["User-Agent"] = agent
	}
	request, err := newRequest(inner, g, r)
	if err != nil {
		return fail(err)
	}
	response, err := c.client.Do(request)
	if err != nil {
		return fail(err)
	}
	if response.StatusCode != http.StatusOK {
		said, _ := io.ReadAll(io.LimitReader(response.Body, refusalMost))
		response.Body.Close()
		return fail(&Refusal{response.StatusCode, mask(string(said))})
	}
	idle.Stop()
	return &Stream{response.Body, inner, stop, time.AfterFunc(idleMost, func() { stop(errIdle) }), most}, nil
}

func (s *Stream) Read(p []byte) (int, error) {
	if s.left <= 0 {
		return 0, ErrLong
	}
	n, err := s.body.Read(p[:min(int64(len(p)), s.left)])
	s.left -= int64(n)
	s.idle.Reset(idleMost)
	if err != nil && err != io.EOF {
		if cause := context.Cause(s.ctx); cause != nil {
			err = cause
		}
	}
	return n, err
}

// Close ends it.
func (s *Stream) Close() error {
	s.idle.Stop()
	s.stop(nil)
	return s.body.Close()
}
