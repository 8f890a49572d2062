// Package guard keeps a panic in one piece of work from ending the whole service.
package guard

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"
	"time"
)

// PanicError is the error of work that panicked.
type PanicError struct {
	Why   any
	Stack []byte
}

// Error says where it happened, too: nobody else tells.
func (p *PanicError) Error() string { return fmt.Sprintf("panicked: %v\n%s", p.Why, p.Stack) }

// Try does something, and returns a [PanicError] if it panics.
func Try(do func() error) (err error) {
	defer func() {
		if why := recover(); why != nil {
			err = &PanicError{why, debug.Stack()}
		}
	}()
	return do()
}

// restartAfter is the pause before work that panicked begins again.
const restartAfter = time.Second

// Restart runs something, and again whenever it panics, until ctx ends or it returns. Each panic is logged.
func Restart(ctx context.Context, log *slog.Logger, what string, run func(context.Context)) {
	for {
		err := Try(func() error {
			run(ctx)
			return nil
		})
		if err == nil {
			return
		}
		log.Error("a part of the service failed and begins again", "part", what, "error", err)
		pause := time.NewTimer(restartAfter)
		select {
		case <-ctx.Done():
			pause.Stop()
			return
		case <-pause.C:
		}
	}
}
