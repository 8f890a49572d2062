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

func TestNoCellIsAFormula(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"=1+1": "'=1+1", "+447700900123": "+447700900123", "+44 7700 900123": "+44 7700 900123", "+cmd|' /C calc'!A0": "'+cmd|' /C calc'!A0",
		"-12.50": "-12.50", "-2+3+cmd": "'-2+3+cmd", "@SUM(A1)": "'@SUM(A1)", "\t=1": "'\t=1", "Berth 3": "Berth 3", "": "", "a=b": "a=b",
	} {
		if got := defused(given); got != want {
			t.Errorf("%q: got %q, want %q", given, got, want)
		}
	}
}
