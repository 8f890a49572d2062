package guard

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"strings"
	"testing"
)

func TestTry(t *testing.T) {
	t.Parallel()
	wrong := errors.New("wrong")
	if err := Try(func() error { return wrong }); !errors.Is(err, wrong) {
		t.Errorf("got %v", err)
	}
	var panicked *PanicError
	if err := Try(func() error { panic("a value") }); !errors.As(err, &panicked) || panicked.Why != "a value" ||
		!strings.Contains(err.Error(), "guard_test.go") {
		t.Errorf("got %v", err)
	}
}

func TestRestart(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	runs := 0
	Restart(t.Context(), slog.New(slog.NewTextHandler(&out, nil)), "a part", func(context.Context) {
		if runs++; runs < 2 {
			panic("a value")
		}
	})
	if runs != 2 || strings.Count(out.String(), "begins again") != 1 {
		t.Errorf("%d runs, logged %s", runs, &out)
	}
	ended, end := context.WithCancel(t.Context())
	end()
	Restart(ended, slog.New(slog.DiscardHandler), "a part", func(context.Context) { panic("a value") })
}
