package fault

import (
	"errors"
	"fmt"
	"io"
	"testing"
)

var errKind = errors.New("not a thing")

func TestWhy(t *testing.T) {
	t.Parallel()
	reason := Because(errKind, "line %d: %w", 7, io.ErrUnexpectedEOF)
	for name, tt := range map[string]struct {
		err       error
		says, why string
	}{
		"with a reason":       {reason, "line 7: unexpected EOF: not a thing", "line 7: unexpected EOF"},
		"wrapped once more":   {fmt.Errorf("reading: %w", reason), "reading: line 7: unexpected EOF: not a thing", "line 7: unexpected EOF"},
		"without one":         {io.EOF, "EOF", "EOF"},
		"a reason of another": {Because(io.EOF, "%w", reason), "line 7: unexpected EOF: not a thing: EOF", "line 7: unexpected EOF: not a thing"},
	} {
		if tt.err.Error() != tt.says || Why(tt.err) != tt.why {
			t.Errorf("%s: %q, because %q", name, tt.err, Why(tt.err))
		}
	}
	if !errors.Is(reason, errKind) || !errors.Is(reason, io.ErrUnexpectedEOF) {
		t.Error("it is of neither kind")
	}
}
