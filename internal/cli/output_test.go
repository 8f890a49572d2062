package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/delivery"
)

func TestEveryStateHasAShape(t *testing.T) {
	shapes := map[string][]delivery.State{}
	for _, s := range delivery.States {
		shapes[shape(string(s))] = append(shapes[shape(string(s))], s)
	}
	// The failed finals share one; every other state has its own.
	if len(shapes["⊗"]) != 4 || len(shapes) != len(delivery.States)-3 {
		t.Errorf("shapes %v", shapes)
	}
}

func TestOneLine(t *testing.T) {
	for in, want := range map[string]string{"a\n b\t c": "a b c", "Το πλοίο φεύγει": "Το πλοίο …", "exactly 10": "exactly 10", "": ""} {
		if got := oneLine(in, 10); got != want {
			t.Errorf("oneLine(%q) = %q, want %q", in, got, want)
		}
	}
}

func TestTimelineTellsWhatHappened(t *testing.T) {
	at := time.Date(2026, 11, 15, 7, 40, 0, 0, time.Local)
	m := client.Message{
		ID:       "m-1",
		State:    "delivered",
		To:       "+447700900123",
		Text:     "Berth 3\nGate B",
		Segments: 3,
		Units:    9,
		Encoding: "gsm7",
		Rivals:   []string{"delivered", "undeliverable"},
		Evidence: []client.Evidence{
			{At: at, Source: "own", Claim: "sending", StateAfter: "sending", Attempt: 1},
			{
				At:         at,
				Source:     "receipt",
				Claim:      "delivered",
				StateAfter: "enroute",
				Attempt:    1,
				Part:       2,
				Parts:      3,
				GatewayAt:  &at,
				Code:       "LANDED",
				GatewayRef: "h-1",
				Raw: &client.Exchange{
					Purpose:     "receipt",
					Method:      "POST",
					URL:         "/receipts/x/‹callback›",
					RequestBody: `{"b":1,"a":[2]}`,
				},
			},
			{At: at, Source: "query", StateAfter: "enroute", Attempt: 1, Note: "asked: no answer within 5s",
				Raw: &client.Exchange{Purpose: "query", Method: "GET", URL: "http://g/h-1", Error: "no answer within 5s", TookMs: 5000}},
		},
	}
	var out bytes.Buffer
	writeMessage(&out, m)
	writeTimeline(&out, m)
	for _, want := range []string{"● delivered (contested)", "delivered and undeliverable", "3 segments, 9 units of gsm7", "◔ sending", "● delivered 2/3", "◕ enroute",
		"h-1  LANDED", "< POST /receipts/x/‹callback›", "<   \"a\": [", "> GET http://g/h-1", "! no answer within 5s (after 5000.0 ms)"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("no %q in\n%s", want, out.String())
		}
	}
	for line := range strings.SplitSeq(out.String(), "\n") {
		if strings.TrimRight(line, " ") != line && !strings.HasPrefix(strings.TrimSpace(line), "<") &&
			!strings.HasPrefix(strings.TrimSpace(line), ">") {
			t.Errorf("spaces at the end of %q", line)
		}
	}
}

func TestSpansBackFromNow(t *testing.T) {
	now := time.Date(2026, 11, 15, 12, 0, 0, 0, time.UTC)
	f := filterFlags{since: "90m", until: "2026-11-15T11:00:00Z"}
	got, err := f.filter(now)
	if err != nil || !got.Since.Equal(now.Add(-90*time.Minute)) || !got.Until.Equal(now.Add(-time.Hour)) {
		t.Errorf("%+v, %v", got, err)
	}
	f.until = "noon"
	if _, err := f.filter(now); err == nil {
		t.Error("noon was taken for a time")
	}
}

func TestHelpSaysWhatItIsFor(t *testing.T) {
	var visit func(path []string)
	visit = func(path []string) {
		var out bytes.Buffer
		if code := Main(append(path, "--help"), strings.NewReader(""), &out, &out); code != 0 || !strings.Contains(out.String(), "Usage:") {
			t.Errorf("pigeon %v --help: %d %s", path, code, out.String())
		}
		_, commands, found := strings.Cut(out.String(), "Available Commands:\n")
		if !found {
			return
		}
		commands, _, _ = strings.Cut(commands, "\n\n")
		for line := range strings.SplitSeq(commands, "\n") {
			name, about, _ := strings.Cut(strings.TrimSpace(line), " ")
			if strings.TrimSpace(about) == "" {
				t.Errorf("pigeon %v %s says nothing about itself", path, name)
			}
			if name != "completion" && name != "help" {
				visit(append(path[:len(path):len(path)], name))
			}
		}
	}
	visit(nil)
}
