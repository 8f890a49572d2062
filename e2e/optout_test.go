package e2e

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"calmpigeon.example/client"
)

// Who has opted out gets passcodes and nothing else, whether it was asked before the
// message came or while it waited; who wants it again gets it.
func TestOptOuts(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	const number = "+447700900123"
	add := func(numbers ...string) client.OptOutsAdded {
		t.Helper()
		return must[client.OptOutsAdded](
			t,
		)(
			h.Client.AddOptOuts(t.Context(), client.NewOptOuts{Numbers: numbers, Country: "GB", Why: "asked at the desk"}),
		)
	}
	must[client.Gateway](t)(h.Client.PauseGateway(t.Context(), "harbourline", ""))
	waits := h.send(client.Draft{To: number, Text: "waits", Kind: "bulk"})
	other := h.send(client.Draft{To: "+447700900101", Text: "to somebody else", Kind: "bulk"})
	if added := add("07700 900123", number, "+447700900144"); added.Added != 2 || added.Already != 1 {
		t.Errorf("added: %+v", added)
	}
	if added := add(number); added.Added != 0 || added.Already != 1 {
		t.Errorf("added again: %+v", added)
	}
	must[client.Gateway](t)(h.Client.ResumeGateway(t.Context(), "harbourline"))
	later := h.send(client.Draft{To: number, Text: "comes later", Kind: "transactional"})
	for _, m := range []client.Message{waits, later} {
		m = h.settled(m.ID)
		if m.State != "rejected" || m.Cause != "opted_out" || m.Attempts != 0 || m.Advice == "" {
			t.Errorf("%s is %s, %s after %d attempts", m.Text, m.State, m.Cause, m.Attempts)
		}
		m = must[client.Message](t)(h.Client.Message(t.Context(), m.ID, false))
		if last := m.Evidence[len(m.Evidence)-1]; !strings.Contains(last.Note, "the recipient opted out on") || last.Source != "own" {
			t.Errorf("it is known from %+v", last)
		}
	}
	if m := h.settled(h.send(client.Draft{To: number, Text: "1234 is your code", Kind: "otp"}).ID); m.State != "delivered" {
		t.Errorf("a passcode is %s", m.State)
	}
	if m := h.settled(other.ID); m.State != "delivered" {
		t.Errorf("another's is %s", m.State)
	}
	if n := len(h.Fleet.Phones.All(number, 5)); n != 1 {
		t.Errorf("%d conversations on the handset", n)
	}

	// Rehearsals say so.
	if _, err := h.Client.Rehearse(t.Context(), client.Draft{To: number, Text: "x"}); err == nil ||
		!strings.Contains(err.Error(), "asked at the desk") {
		t.Errorf("rehearsed: %v", err)
	}
	if _, err := h.Client.Rehearse(t.Context(), client.Draft{To: number, Text: "1234", Kind: "otp"}); err != nil {
		t.Errorf("a passcode rehearsed: %v", err)
	}
	w := must[client.Weighing](t)(h.Client.Weigh(t.Context(), client.WeighRequest{Text: "x", To: []string{number, "+447700900101", "GB"}}))
	for i, refused := range []bool{true, false, false} {
		if (len(w.Recipients[i].Errors) > 0) != refused {
			t.Errorf("weighed for %s: %+v", w.Recipients[i].Given, w.Recipients[i].Errors)
		}
	}

	// It ends, and stays on record.
	if err := h.Client.RemoveOptOut(t.Context(), number, "called us"); err != nil {
		t.Fatal(err)
	}
	if m := h.settled(h.send(client.Draft{To: number, Text: "again", Kind: "bulk"}).ID); m.State != "delivered" {
		t.Errorf("after it has ended: %s", m.State)
	}
	err := h.Client.RemoveOptOut(t.Context(), number, "")
	if problem, ok := err.(*client.Problem); !ok || problem.Status != 404 {
		t.Errorf("ended twice: %v", err)
	}
	held := must[client.List[client.OptOut]](t)(h.Client.OptOuts(t.Context(), "", false, "", 0))
	all := must[client.List[client.OptOut]](t)(h.Client.OptOuts(t.Context(), number, true, "", 0))
	if len(held.Items) != 1 || held.Items[0].Number != "+447700900144" || len(all.Items) != 1 || all.Items[0].EndedAt == nil ||
		all.Items[0].EndedWhy != "called us" || all.Items[0].By != "first" || all.Items[0].EndedBy != "first" {
		t.Errorf("there are %+v, and of the number %+v", held, all)
	}
	for i := range 3 {
		add(fmt.Sprintf("+4477009001%02d", i))
	}
	one := must[client.List[client.OptOut]](t)(h.Client.OptOuts(t.Context(), "", false, "", 2))
	two := must[client.List[client.OptOut]](t)(h.Client.OptOuts(t.Context(), "", false, one.Next, 2))
	if len(one.Items) != 2 || len(two.Items) != 2 || two.Next != "" || one.Items[1].Number == two.Items[0].Number {
		t.Errorf("pages %+v and %+v", one, two)
	}
	if _, err := h.Client.AddOptOuts(t.Context(), client.NewOptOuts{Numbers: []string{"+447700900150", "x"}}); err == nil ||
		!strings.Contains(err.Error(), "numbers[1]") {
		t.Errorf("with one that is none: %v", err)
	}
	if l := must[client.List[client.OptOut]](t)(h.Client.OptOuts(t.Context(), "+447700900150", true, "", 0)); len(l.Items) != 0 {
		t.Error("half of it was kept")
	}
}

// reply writes from a practice phone to whoever wrote to it last.
func (h *house) reply(number, text string) {
	h.t.Helper()
	response, err := http.Post(
		h.FleetURL+"/phones/"+number+"/reply",
		"application/json",
		strings.NewReader(fmt.Sprintf(`{"text":%q}`, text)),
	)
	if err != nil || response.StatusCode != http.StatusNoContent {
		h.t.Fatalf("%v %v", response, err)
	}
	response.Body.Close()
}

// Who writes STOP is put on the list at once, and taken off with START, in whichever
// language; pushed again, an old wish changes nothing.
func TestStopAndStart(t *testing.T) {
	t.Parallel()
	h := build(t).with("waxseal")
	const own, number = "+447700900000", "+447700900123"
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: own, TwoWay: true}))
	send := func() client.Message {
		t.Helper()
		return h.settled(h.send(client.Draft{To: number, Text: "Berth 3", Sender: own, Kind: "bulk"}).ID)
	}
	if m := send(); m.State != "delivered" {
		t.Fatalf("before: %s", m.State)
	}
	for i, word := range []struct{ text, state string }{
		{"Thanks!", "delivered"}, {"Stop.", "rejected"}, {"START", "delivered"}, {"ΤΕΛΟΣ", "rejected"},
		{"Başla", "delivered"}, {"बंद करें", "rejected"},
	} {
		h.reply(number, word.text)
		eventually(t, "it came in", func() bool {
			return len(must[client.List[client.Inbound]](t)(h.Client.Inbound(t.Context(), "")).Items) == i+1
		})
		if m := send(); m.State != word.state {
			t.Errorf("after %s: %s, want %s", word.text, m.State, word.state)
		}
	}
	l := must[client.List[client.OptOut]](t)(h.Client.OptOuts(t.Context(), number, true, "", 0))
	if len(l.Items) != 3 || l.Items[0].By != "the recipient" || !strings.Contains(l.Items[2].Why, `wrote "Stop." to +447700900000`) ||
		l.Items[2].EndedAt == nil || !strings.Contains(l.Items[2].EndedWhy, `"START"`) {
		t.Errorf("%+v", l.Items)
	}
}

// The rule of the country says what is answered: once for each change, and to STOP although
// nothing else goes to the number any more.
func TestStopIsAnswered(t *testing.T) {
	t.Parallel()
	h := build(t).with("waxseal")
	const own, number = "+447700900000", "+447700900123"
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: own, TwoWay: true}))
	if code, out, errOut := h.pigeon("", "sender", "rules", "set", "GB", "--stop-answer", "No more texts. START to undo.",
		"--start-answer", "Welcome back."); code != 0 || !strings.Contains(out+errOut, "GB") {
		t.Fatalf("%d %s %s", code, out, errOut)
	}
	if _, out, _ := h.pigeon("", "sender", "rules", "show", "GB"); !strings.Contains(out, "stop answer   No more texts.") {
		t.Error(out)
	}
	written := 0
	write := func(text string) {
		t.Helper()
		h.reply(number, text)
		written++
		eventually(t, "it came in", func() bool {
			return len(must[client.List[client.Inbound]](t)(h.Client.Inbound(t.Context(), "")).Items) == written
		})
	}
	h.settled(h.send(client.Draft{To: number, Text: "Berth 3", Sender: own}).ID)
	var texts []string
	for _, word := range []struct {
		text     string
		messages int // there are then
	}{{"STOP", 2}, {"Stop!", 2}, {"start", 3}, {"START", 3}, {"ΤΕΛΟΣ", 4}} {
		write(word.text)
		eventually(t, "the answer to "+word.text+" arrives", func() bool {
			texts = nil
			for _, m := range must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{To: number}, "", 0)).Items {
				if m.State != "delivered" || m.Sender != own || m.Gateway != "waxseal" {
					return false
				}
				texts = append(texts, m.Text)
			}
			return len(texts) == word.messages
		})
	}
	if want := "[No more texts. START to undo. Welcome back. No more texts. START to undo. Berth 3]"; fmt.Sprint(texts) != want {
		t.Errorf("%v, want %s", texts, want)
	}
	m := must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{To: number}, "", 0)).Items[0]
	m = must[client.Message](t)(h.Client.Message(t.Context(), m.ID, false))
	if !slices.ContainsFunc(m.Evidence, func(e client.Evidence) bool { // it may be claimed in the moment in which it is written
		return strings.Contains(e.Note, `answers "ΤΕΛΟΣ", as the rule of United Kingdom says`)
	}) {
		t.Errorf("why it was sent: %+v", m.Evidence)
	}
	if last := h.settled(h.send(client.Draft{To: number, Text: "Berth 4", Sender: own}).ID); last.State != "rejected" {
		t.Errorf("anything else is %s", last.State)
	}
}

func TestOptOutCommands(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	file := filepath.Join(t.TempDir(), "stops.csv")
	sheet := "Name;Telefon\nJ\xfcrgen;07700 900123\nAnn;none\nBo;+447700900144\nBo;+447700900144\n"
	if err := os.WriteFile(file, []byte(sheet), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct {
		args []string
		code int
		says []string
	}{
		{[]string{"optout", "list"}, 0, []string{"Nobody has opted out."}},
		{[]string{"optout", "import", file, "--country", "GB", "--dry-run"}, 3,
			[]string{`numbers in "Telefon"`, "windows-1252", "row 2: ", "nothing was changed", "2     1"}},
		{[]string{"optout", "import", file, "--country", "GB"}, 3, []string{"row 2: ", "2     1"}},
		{[]string{"optout", "import", file, "--country", "GB"}, 3, []string{"0     3"}},
		{[]string{"optout", "list", "-o", "csv"}, 0, []string{"number,since,why,by,ended", "+447700900123,", ",imported,first,"}},
		{[]string{"optout", "add", "+447700900101", "--why", "asked"}, 0, []string{"1     0"}},
		{[]string{"optout", "remove", "+447700900101"}, 0, []string{"Undo: pigeon optout add +447700900101"}},
		{[]string{"optout", "remove", "+447700900101"}, 3, []string{"There is no opt-out of +447700900101"}},
		{[]string{"optout", "add", "x"}, 3, []string{"numbers[0]"}},
		{[]string{"optout", "add"}, 2, []string{"expected: pigeon optout add NUMBER…"}},
		{[]string{"optout", "import", "/nowhere"}, 2, []string{"there is no file /nowhere"}},
	} {
		code, out, errOut := h.pigeon("", tt.args...)
		for _, want := range tt.says {
			if code != tt.code || !strings.Contains(out+errOut, want) {
				t.Errorf("pigeon %v: %d, want %d and %q\n%s\n%s", tt.args, code, tt.code, want, out, errOut)
			}
		}
	}
}
