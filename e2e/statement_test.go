package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
)

// line is a line of a statement that the test makes up.
type line struct{ id, ref, to, sent, parts, status, price string }

func (l line) String() string {
	return strings.Join([]string{l.id, l.ref, l.to, l.sent, l.parts, l.status, l.price}, ";")
}

const lineHead = "Id;Reference;Recipient;Sent;Parts;Status;Price EUR"

func file(head string, lines []string) string { return head + "\n" + strings.Join(lines, "\n") + "\n" }

// taken takes a statement in and waits until it is matched.
func (h *house) taken(name, file string, hint client.StatementHint) client.Statement {
	h.t.Helper()
	hint.File = name
	t := must[client.StatementTaken](h.t)(h.Client.TakeStatement(h.t.Context(), strings.NewReader(file), hint))
	return h.statement(t.Statement.ID, "done")
}

func (h *house) statement(id, state string) (s client.Statement) {
	h.t.Helper()
	eventually(h.t, "the statement is "+state, func() bool {
		s = must[client.Statement](h.t)(h.Client.Statement(h.t.Context(), id))
		return s.State == state
	})
	return s
}

// A statement that is wrong in every way: each line falls on the heap where it belongs, in any order of lines; what
// differs becomes evidence, and is taken back with the statement; the same file twice changes nothing.
func TestStatementThatIsWrongInEveryWay(t *testing.T) {
	t.Parallel()
	h := build(t, quick).with("waxseal")
	must[client.PriceList](t)(
		h.Client.PutPrices(
			t.Context(),
			"waxseal",
			client.PricesFile{Source: "country,prefix,kind,per,price,currency,from\nGB,,,segment,0.033,EUR,2026-01-01\n"},
			false,
		),
	)
	byRef := map[string]client.Message{}
	for i := range 12 {
		to := fmt.Sprintf("+4477009001%02d", i)
		if i == 11 {
			to = "+447700900189" // nothing is heard of it
		}
		m := h.send(client.Draft{To: to, Text: strings.Repeat("x", 100+80*(i%2)), Gateway: "waxseal"})
		if i < 11 {
			m = h.settled(m.ID)
		}
		byRef[m.ID] = m
	}
	silent := client.Message{}
	for _, m := range byRef {
		if m.To == "+447700900189" {
			silent = h.await(m.ID, "taken", func(m client.Message) bool { return m.State == "accepted" || m.State == "enroute" })
		}
	}
	var lines []line
	by := map[string]int{} // place of the line of a number
	for _, e := range h.entries("waxseal") {
		by[e.To] = len(lines)
		status := "3"
		lines = append(lines, line{e.ID, e.Ref, e.To, e.TakenAt.Format(time.RFC3339), fmt.Sprint(e.Parts), status, e.Charge})
	}
	at := func(n int) *line { return &lines[by[fmt.Sprintf("+4477009001%02d", n)]] }
	at(1).status = "4"                                       // they say that it failed
	at(2).parts = "7"                                        // they counted more segments
	at(3).price = "0.0990"                                   // and took more money
	at(4).id = ""                                            // told by our reference
	at(5).id, at(5).ref = "", ""                             // told by number and time
	at(6).id, at(6).ref, at(6).to = "", "", "00447700900106" // in another writing
	double := *at(7)                                         // said twice
	lesser := *at(8)                                         // said twice, once by a name that is less good
	lesser.id = ""
	foreign := line{"wx-foreign", "", "+447700900999", at(8).sent, "1", "3", "0.0330"}
	bad := line{"wx-bad", "", "", "", "many", "3", "0.0330"} // cannot be read
	missing := at(9).String()
	var all []string
	for _, l := range append(lines, double, lesser, foreign, bad) {
		if s := l.String(); s != missing {
			all = append(all, s)
		}
	}
	hint := client.StatementHint{Gateway: "waxseal", From: time.Now().Add(-time.Hour), Until: time.Now().Add(time.Hour)}
	s := h.taken("november.csv", file(lineHead, all), hint)
	want := client.StatementHeaps{Agrees: 6, State: 2, Money: 2, Theirs: 5, Ours: 2, Tied: 2, Unreadable: 1, Weak: 2}
	got := *s.Heaps
	check := func(got client.StatementHeaps) {
		t.Helper()
		if got.Agrees != want.Agrees || got.State != want.State || got.Money != want.Money || got.Theirs != want.Theirs ||
			got.Ours != want.Ours ||
			got.Tied != want.Tied ||
			got.Unreadable != want.Unreadable ||
			got.Weak != want.Weak {
			t.Errorf("heaps %+v\nwant  %+v", got, want)
		}
	}
	check(got)
	const sum = "15 lines = 6 agree + 2 state differs + 2 money differs + 5 only theirs; 12 messages = 10 with a line + 2 only ours"
	if got.Equation != sum {
		t.Errorf("%s\nwant %s", got.Equation, sum)
	}
	of := func(n int) client.Message {
		for _, m := range byRef {
			if m.To == fmt.Sprintf("+4477009001%02d", n) {
				return must[client.Message](t)(h.Client.Message(t.Context(), m.ID, false))
			}
		}
		t.Fatal(n)
		return client.Message{}
	}
	if m := of(1); m.State != "delivered" || len(m.Rivals) != 2 {
		t.Errorf("of two endings it is %s, %v", m.State, m.Rivals)
	}
	if m := must[client.Message](t)(h.Client.Message(t.Context(), silent.ID, false)); m.State != "delivered" || m.Weak ||
		!strings.Contains(fmt.Sprint(m.Evidence), "of november.csv") {
		t.Errorf("what the statement tells of a silent one: %s, %+v", m.State, m.Evidence)
	}
	for heap, n := range map[string]int{"agrees": 6, "state": 2, "money": 2, "theirs": 5} {
		l := must[client.List[client.StatementLine]](t)(h.Client.StatementLines(t.Context(), s.ID, heap, "", "", 100))
		if len(l.Items) != n {
			t.Errorf("%d lines on the heap %s, want %d", len(l.Items), heap, n)
		}
	}
	ours := must[client.List[client.Message]](t)(h.Client.StatementOurs(t.Context(), s.ID, "", 100))
	if len(ours.Items) != 2 {
		t.Errorf("only ours: %+v", ours.Items)
	}

	if best := must[client.List[client.StatementLine]](t)(h.Client.StatementLines(t.Context(), s.ID, "", "id", "", 100)); len(
		best.Items,
	) != 7 {
		t.Errorf("%d lines were matched by id", len(best.Items))
	}
	again := must[client.StatementTaken](t)(h.Client.TakeStatement(t.Context(), strings.NewReader(file(lineHead, all)), hint))
	if !again.Again || again.Statement.ID != s.ID {
		t.Errorf("the same file again: %+v", again)
	}
	before := of(1)
	code, out, errOut := h.pigeon("", "statement", "withdraw", s.ID, "--why", "of another month")
	if code != 0 || !strings.Contains(out, "is withdrawn") {
		t.Fatalf("%d, %s%s", code, out, errOut)
	}
	if m := of(1); m.State != "delivered" || len(m.Rivals) > 0 || len(m.Evidence) != len(before.Evidence)+1 {
		t.Errorf("withdrawn, it is %s, %v, with %d pieces of evidence", m.State, m.Rivals, len(m.Evidence))
	}
	h.await(silent.ID, "as before", func(m client.Message) bool {
		return m.State == "accepted" || m.State == "enroute" || m.State == "unknown"
	})

	// In another order of lines, and while the service is killed, the same heaps. What is unknown meanwhile is no more than it was.
	r := rand.New(rand.NewPCG(1, 2))
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	var both sync.WaitGroup
	twice := make([]client.StatementTaken, 2)
	for i := range twice { // two at once are one
		both.Go(func() {
			twice[i] = must[client.StatementTaken](t)(h.Client.TakeStatement(t.Context(), strings.NewReader(file(lineHead, all)), hint))
		})
	}
	both.Wait()
	t2 := twice[0]
	if t2.Statement.ID != twice[1].Statement.ID || t2.Again == twice[1].Again {
		t.Errorf("two at once: %+v", twice)
	}
	h.kill()
	h.start(h.listen())
	check(*h.statement(t2.Statement.ID, "done").Heaps)
}

// What a file is, and what its columns are for, is recognised and said; what is wrong with it comes as an error that
// names it, and nothing of it is kept.
func TestStatementsAreReadAsPeopleKeepThem(t *testing.T) {
	t.Parallel()
	h := build(t).with("sandbank")
	m := h.settled(h.send(client.Draft{To: "+447700900123", Text: "x", Gateway: "sandbank"}).ID)
	at := m.CreatedAt.In(must[*time.Location](t)(time.LoadLocation("Europe/Berlin")))
	bill := fmt.Sprintf("Datum;Absender;Rufnummer;Anzahl;Betrag;Zustand\r\n%s;Lanternholm;447700900123;1;0,0350 €;zugestellt\r\n",
		at.Format("02.01.2006 15:04:05"))
	columns := map[string]string{"number": "Rufnummer", "at": "Datum", "sender": "Absender", "segments": "Anzahl", "charge": "Betrag"}
	s := h.taken(
		"rechnung.csv",
		bill,
		client.StatementHint{Gateway: "sandbank", Mapping: &client.StatementMapping{Columns: columns, Comma: true,
			Zone: "Europe/Berlin", Currency: "EUR"}},
	)
	if s.Heaps.Agrees != 1 || s.Heaps.Weak != 1 || s.Heaps.Billed[0] != (client.Money{Amount: "0.035", Currency: "EUR"}) {
		t.Errorf("%+v", s.Heaps)
	}
	// The next one with these columns is read in the same way.
	code, _, said := h.pigeon(
		strings.Replace(bill, "447700900123", "447700900124", 1),
		"statement",
		"take",
		"-",
		"--gateway",
		"sandbank",
		"--dry-run",
	)
	if code != 0 || !strings.Contains(said, "CSV with semicolons") || !strings.Contains(said, "charge     Betrag") ||
		!strings.Contains(said, "0.035 EUR") || !strings.Contains(said, "not read   Zustand") {
		t.Errorf("%d: %s", code, said)
	}
	for name, tt := range map[string]struct {
		file  string
		hint  client.StatementHint
		field string
	}{
		"nothing":            {"", client.StatementHint{Gateway: "sandbank"}, "file"},
		"only a head":        {"Id;Status\n", client.StatementHint{Gateway: "sandbank"}, "file"},
		"nothing that names": {"colour;size\nred;3\n", client.StatementHint{Gateway: "sandbank"}, "mapping.columns"},
		"no such gateway":    {bill, client.StatementHint{Gateway: "nowhere"}, "gateway"},
		"no such column": {bill, client.StatementHint{Gateway: "sandbank",
			Mapping: &client.StatementMapping{Columns: map[string]string{"id": "key"}}}, "mapping.columns.id"},
		"a dialect that does not say": {bill, client.StatementHint{Gateway: "sandbank",
			Mapping: &client.StatementMapping{Dialect: true, Columns: map[string]string{}}}, "mapping.dialect"},
		"a workbook that is none": {"PK\x03\x04 and so on", client.StatementHint{Gateway: "sandbank"}, "file"},
	} {
		_, err := h.Client.TakeStatement(t.Context(), strings.NewReader(tt.file), tt.hint)
		p, ok := err.(*client.Problem)
		if !ok || p.Status != 422 || len(p.Errors) == 0 || p.Errors[0].Field != tt.field {
			t.Errorf("%s: %v", name, err)
		}
	}
	if l := must[client.List[client.Statement]](t)(h.Client.Statements(t.Context(), "", "", 10)); len(l.Items) != 1 {
		t.Errorf("%d statements are there", len(l.Items))
	}
}

// What a gateway lists is fetched from it as its dialect says, by hand, and agrees; one that does not say how is told.
func TestStatementIsFetched(t *testing.T) {
	t.Parallel()
	day := "24h"
	h := build(t).with("waxseal", "harbourline")
	if _, err := h.Client.ChangeGateway(t.Context(), "waxseal", client.GatewayChange{StatementEvery: &day}); err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		h.settled(h.send(client.Draft{To: fmt.Sprintf("+4477009001%02d", i), Text: "x", Gateway: "waxseal"}).ID)
	}
	code, out, errOut := h.pigeon("", "statement", "fetch", "waxseal", "--since", "1h")
	if code != 0 || !strings.Contains(out, "3 lines = 3 agree") || !strings.Contains(out, "3 messages = 3 with a line + 0 only ours") {
		t.Errorf("%d\n%s%s", code, out, errOut)
	}
	for _, wrong := range [][]string{
		{"harbourline", "dialect harbourline does not say how a statement is fetched"},
		{"waxseal", "it is not after from", "--until", "2h", "--since", "1h"},
		{"waxseal", "such as 2026-11-15T07:40:00Z", "--since", "yesterday"},
	} {
		code, out, errOut := h.pigeon("", append([]string{"statement", "fetch", wrong[0]}, wrong[2:]...)...)
		if code == 0 || !strings.Contains(errOut, wrong[1]) {
			t.Errorf("%q: %d %s%s", wrong, code, out, errOut)
		}
	}
	var s client.StatementSchedule
	eventually(t, "the day before is fetched by itself", func() bool {
		l := must[client.List[client.StatementSchedule]](t)(h.Client.StatementSchedules(t.Context()))
		s = l.Items[0]
		return s.Through != nil
	})
	if midnight := s.Through.UTC().Truncate(24 * time.Hour); s.Gateway != "waxseal" || s.Failure != "" || !midnight.Equal(*s.Through) {
		t.Errorf("%+v", s)
	}
	if code, out, errOut := h.pigeon("", "statement", "list"); code != 0 ||
		!strings.Contains(errOut, "waxseal, every 1 day: fetched until ") ||
		!strings.Contains(out, "waxseal, ") {
		t.Errorf("%d\n%s%s", code, out, errOut)
	}
	if g := must[client.Gateway](t)(h.Client.Gateway(t.Context(), "waxseal")); g.StatementEvery != "24h" || !g.CanFetchStatement {
		t.Errorf("%+v", g)
	}
}

// In Chromium: a file is chosen, how it is read is shown, it is taken in, and each heap leads to its lines.
func TestConsoleStatements(t *testing.T) {
	t.Parallel()
	h := build(t).with("waxseal")
	var lines []string
	for i := range 3 {
		m := h.settled(h.send(client.Draft{To: fmt.Sprintf("+4477009001%02d", i), Text: "x", Gateway: "waxseal"}).ID)
		lines = append(
			lines,
			line{id: m.GatewayRef, to: m.To, sent: m.CreatedAt.Format(time.RFC3339), parts: fmt.Sprint(1 + i%2), status: "3"}.String(),
		)
	}
	path := filepath.Join(t.TempDir(), "november.csv")
	if err := os.WriteFile(path, []byte(file(lineHead, append(lines, "wx-foreign;;+447700900999;;1;3;"))), 0o600); err != nil {
		t.Fatal(err)
	}
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/statements#key=" + h.Key))
	b.shows("main", "None was taken in yet")
	b.do(chromedp.WaitReady(`main select option:nth-child(2)`))
	must[bool](t)(chromedp.Run(b.ctx, chromedp.Evaluate[bool](`(() => { const s = document.querySelector("main select");
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, "waxseal");
		return s.dispatchEvent(new Event("change", { bubbles: true })); })()`)))
	b.do(chromedp.SetUploadFiles("#file", []string{path}))
	b.shows("main", "CSV with semicolons, in utf-8. at: Sent, charge: Price EUR, id: Id")
	b.do(chromedp.Click(`main p .btn`))
	b.shows(".sum", "4 lines = 2 agree + 0 state differs + 1 money differs + 1 only theirs")
	b.do(chromedp.Click(`.sum a[href$="heap=theirs"]`))
	b.shows("main table", "wx-foreign")
	b.do(chromedp.Click(`.sum a[href$="heap=money"]`))
	b.shows("main table", "+447700900101")
	b.do(chromedp.Click(`main td a.mono`))
	b.shows("main", "Line 2 of a statement says delivered, 2 segments")
	b.do(chromedp.Click(`nav a[href="/"]`))
	b.shows(".needs", "november.csv of waxseal differs")
}
