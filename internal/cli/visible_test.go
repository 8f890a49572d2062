package cli

import (
	"io"
	"os"
	"testing"
)

func TestCharactersThatATerminalObeysAreShown(t *testing.T) {
	t.Parallel()
	read, write, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	v := &visible{file: write}
	for _, piece := range []string{
		"Berth 3\n\ta", "\x1b[31mred\a", "\u202egnp.exe", "é"[:1], "é"[1:], "\xff!", "\r\u2066x\u2069 😀 Ελλάδα",
	} {
		if n, err := v.Write([]byte(piece)); n != len(piece) || err != nil {
			t.Fatal(n, err)
		}
	}
	write.Close()
	got, err := io.ReadAll(read)
	const want = "Berth 3\n\ta\\u001b[31mred\\u0007\\u202egnp.exeé\\xff!\\u000d\\u2066x\\u2069 😀 Ελλάδα"
	if string(got) != want || err != nil {
		t.Errorf("got %q, %v\nwant %q", got, err, want)
	}
}
