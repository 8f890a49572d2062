package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet"
)

// passengers is a list with every mistake that it should survive, in windows-1252 with
// semicolons, as sheets of Europe are saved.
func passengers(t *testing.T, good int) []byte {
	t.Helper()
	rows := []string{"Name;Handy;Fähre;Ref"}
	for i := range good {
		rows = append(rows, fmt.Sprintf("Jörg %d;07700 9%05d;07:%02d;p-%d", i, i/80*100+i%80, i%60, i))
	}
	rows = append(rows,
		"Nobody;;08:00;bad-1",
		"Lost;4.47701E+11;08:00;bad-2",
		"Twice;+447700900000;08:00;bad-3",
		"Desk;+442079460123;08:00;bad-4",
		"No ferry;+447700900790;;bad-5",
		"Gone;+447700900791;08:00;bad-6",
		"Torn;+447700900792;08:00;bad-7;and;more")
	written, err := charmap.Windows1252.NewEncoder().String(strings.Join(rows, "\r\n") + "\r\n")
	if err != nil {
		t.Fatal(err)
	}
	return []byte(written)
}

const cancelled = "Dear {Name|passenger}, your ferry at {Fähre} is cancelled."

// batched uploads a list and has it rehearsed.
func (h *house) batched(list []byte, w client.BatchWants) client.Batch {
	h.t.Helper()
	one := must[client.Batch](h.t)(h.Client.NewBatch(h.t.Context(), w))
	must[client.BatchAppended](
		h.t,
	)(
		h.Client.AppendRows(h.t.Context(), one.ID, bytes.NewReader(list), client.ListHint{File: "list.csv", At: -1}),
	)
	return h.rehearsed(one.ID)
}

func (h *house) rehearsed(id string) client.Batch {
	h.t.Helper()
	must[client.Batch](h.t)(h.Client.RehearseBatch(h.t.Context(), id))
	return h.batchWhen(id, "it is rehearsed", func(b client.Batch) bool { return b.State != "checking" })
}

func (h *house) batchWhen(id, what string, holds func(client.Batch) bool) (b client.Batch) {
	h.t.Helper()
	eventually(h.t, what, func() bool {
		b = must[client.Batch](h.t)(h.Client.Batch(h.t.Context(), id))
		if b.Tally != nil && b.Totals != nil && b.Tally.Total != int64(b.Totals.Goes) {
			h.t.Fatalf("%d rows go, and %s", b.Totals.Goes, b.Tally.Equation)
		}
		return holds(b)
	})
	return b
}

func finished(b client.Batch) bool { return b.FinishedAt != nil }

// result is a batch's result sheet, as CSV in UTF-8.
func (h *house) result(id, format string) []byte {
	h.t.Helper()
	var out bytes.Buffer
	if err := h.Client.BatchResult(h.t.Context(), id, format, false, &out); err != nil {
		h.t.Fatal(err)
	}
	return out.Bytes()
}

// From a sheet to a balanced account: what is wrong with rows is said, what was rehearsed is
// what happens, scouts go first, and the list comes back as it was with what became of each.
func TestBatchFromSheetToResult(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	must[client.OptOutsAdded](
		t,
	)(
		h.Client.AddOptOuts(t.Context(), client.NewOptOuts{Numbers: []string{"+447700900791"}, Why: "asked at the desk"}),
	)
	const good = 150
	list := passengers(t, good)
	one := h.batched(list, client.BatchWants{Name: "storm", Text: cancelled, Country: "GB"})
	if one.Recognised != "CSV with semicolons, in windows-1252" || one.Rows != good+7 || one.Totals.Goes != good {
		t.Fatalf("%q: %d rows, %+v", one.Recognised, one.Rows, one.Totals)
	}
	left := map[string]int{}
	for _, part := range one.Totals.Left {
		left[part.Name] = part.Rows
	}
	if fmt.Sprint(left) != "map[field:1 line:1 number:2 opted_out:1 repeated:1 unreadable:1]" {
		t.Errorf("left out: %v", left)
	}
	why := must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), one.ID, "any", "", "", 50))
	for i, want := range []string{
		"it is empty", "digits", "stands in row 1 already", "fixed line", "Fähre", "asked at the desk", "6 cells",
	} {
		if i >= len(why.Items) || !strings.Contains(why.Items[i].Say, want) {
			t.Errorf("row %d of those that are left out: %+v, want %q", i, why.Items, want)
		}
	}
	if _, err := h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{Scouts: "lots"}); err == nil {
		t.Error("launched with lots of scouts")
	}

	// Somebody looks at it on a phone of their own.
	m := h.settled(must[client.Message](t)(h.Client.TryBatch(t.Context(), one.ID, client.BatchTry{To: "+447700900555", Row: 12})).ID)
	if m.State != "delivered" || m.Text != "Dear Jörg 11, your ferry at 07:11 is cancelled." {
		t.Errorf("the try is %s: %s", m.State, m.Text)
	}

	one = must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{Scouts: "10", Seed: 7}))
	one = h.batchWhen(
		one.ID,
		"the scouts are there",
		func(b client.Batch) bool { return b.Tally.States["held"] == good-10 && b.Tally.States["delivered"] > 5 },
	)
	if one.FinishedAt != nil || len(h.Fleet.Harbourline.Entries()) > 11 {
		t.Errorf("%s, %d texts have gone", one.State, len(h.Fleet.Harbourline.Entries()))
	}
	if _, err := h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{}); err == nil {
		t.Error("launched twice")
	}
	must[client.Batch](t)(h.Client.ReleaseBatch(t.Context(), one.ID))
	one = h.batchWhen(one.ID, "it has come to its end", finished)
	all := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{}))
	if all.Total != one.Tally.Total+1 {
		t.Errorf("of all messages %s; of the batch %s", all.Equation, one.Tally.Equation)
	}

	// Row by row, what came back is what was rehearsed, and what the gateway has.
	taken := map[string]int{}
	for _, e := range h.Fleet.Harbourline.Entries() {
		taken[e.Ref]++
	}
	written := must[string](t)(charmap.Windows1252.NewDecoder().String(string(h.result(one.ID, ""))))
	lines := csv.NewReader(strings.NewReader(written))
	lines.Comma = ';'
	rows := must[[][]string](t)(lines.ReadAll())
	if len(rows) != good+8 || strings.Join(rows[0][:6], ";") != "Name;Handy;Fähre;Ref;pigeon state;pigeon cause" {
		t.Fatalf("%d rows, %v", len(rows), rows[0])
	}
	at := func(name string) int { return slices.Index(rows[0], name) }
	states := map[string]int64{}
	for i, row := range rows[1:] {
		id, state, reason := row[at("pigeon message")], row[at("pigeon state")], row[at("pigeon left out")]
		if (i < good) != (reason == "") || (reason == "") != (id != "") {
			t.Errorf("row %d: %v", i+1, row)
			continue
		}
		if reason != "" {
			continue
		}
		states[state]++
		m := must[client.Message](t)(h.Client.Message(t.Context(), id, false))
		if m.State != state || m.Reference != fmt.Sprintf("p-%d", i) ||
			m.Text != fmt.Sprintf("Dear Jörg %d, your ferry at 07:%02d is cancelled.", i, i%60) {
			t.Errorf("row %d: %v is %s: %s, %s", i+1, row, m.State, m.Reference, m.Text)
		}
		if taken[id] != 1 && state == "delivered" || taken[id] > 1 {
			t.Errorf("row %d was taken %d times", i+1, taken[id])
		}
	}
	for state, n := range one.Tally.States {
		if states[state] != n {
			t.Errorf("%d rows are %s, and %s", states[state], state, one.Tally.Equation)
		}
	}
	book := must[*excelize.File](t)(excelize.OpenReader(bytes.NewReader(h.result(one.ID, "xlsx"))))
	defer book.Close()
	if cells := must[[][]string](t)(book.GetRows("Sheet1")); len(cells) != good+8 || cells[1][0] != "Jörg 0" {
		t.Errorf("as XLSX %d rows", len(cells))
	}

	// As a list again it is what it was: ids and words of ours are nobody's text.
	back := must[client.Batch](t)(h.Client.NewBatch(t.Context(), client.BatchWants{Text: cancelled, Country: "GB"}))
	sheet := bytes.NewReader(h.result(one.ID, ""))
	came := must[client.BatchAppended](t)(h.Client.AppendRows(t.Context(), back.ID, sheet, client.ListHint{At: -1}))
	if came.Rows != good+7 || len(came.Batch.Columns) != 4 {
		t.Errorf("the result as a list: %d rows, %+v", came.Rows, came.Batch.Columns)
	}

	// The same again is taken for a mistake.
	again := h.batched(list, client.BatchWants{Name: "storm", Text: cancelled, Country: "GB"})
	if _, err := h.Client.LaunchBatch(t.Context(), again.ID, client.Launch{}); err == nil ||
		!strings.Contains(err.Error(), "would get the same text again") {
		t.Errorf("the same again: %v", err)
	}
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), again.ID, client.Launch{Again: true, Pace: "1/h"}))
	must[client.Batch](t)(h.Client.CancelBatch(t.Context(), again.ID))
	again = h.batchWhen(again.ID, "it is withdrawn", finished)
	if again.State != "cancelled" || again.Tally.States["cancelled"] < good-2 {
		t.Errorf("withdrawn: %s, %s", again.State, again.Tally.Equation)
	}
}

// An upload that breaks off is simply repeated; rows that differ are not taken for others.
func TestBatchUploads(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	one := must[client.Batch](t)(h.Client.NewBatch(t.Context(), client.BatchWants{Text: "Hello {name}"}))
	sheet := func(n int) string {
		var b strings.Builder
		b.WriteString("mobile,name\n")
		for i := range n {
			fmt.Fprintf(&b, "+44770%07d,n%d\n", i, i)
		}
		return b.String()
	}
	const all = 2345
	whole := sheet(all)
	torn := io.MultiReader(strings.NewReader(whole[:len(whole)*2/3]), &broken{})
	if _, err := h.Client.AppendRows(t.Context(), one.ID, torn, client.ListHint{At: -1}); err == nil {
		t.Fatal("an upload that broke off was taken")
	}
	append := func(list string, at int) (client.BatchAppended, error) {
		return h.Client.AppendRows(t.Context(), one.ID, strings.NewReader(list), client.ListHint{At: at})
	}
	held := must[client.Batch](t)(h.Client.Batch(t.Context(), one.ID)).Rows
	done := must[client.BatchAppended](t)(append(whole, 0))
	if done.Rows != all || done.Already != held {
		t.Errorf("repeated: %+v, %d were there", done, held)
	}
	if done = must[client.BatchAppended](t)(append(whole, 0)); done.Rows != all || done.Already != all {
		t.Errorf("once more: %+v", done)
	}
	// Rows from code, with their columns in another order, and one more.
	done = must[client.BatchAppended](t)(append(`{"name":"Zoë","mobile":"+447709999999","berth":3}`+"\n", -1))
	if done.Rows != all+1 || len(done.Batch.Columns) != 3 {
		t.Errorf("appended: %+v", done)
	}
	if _, err := append(strings.Replace(whole, "n1\n", "m1\n", 1), 0); err == nil || !strings.Contains(err.Error(), "row 2 differs") {
		t.Errorf("a row that differs: %v", err)
	}
	if _, err := append("x\n", all+2); err == nil {
		t.Error("rows after a gap were taken")
	}
	last := must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), one.ID, "", "", fmt.Sprint(all), 5))
	if len(last.Items) != 1 || last.Items[0].Cells["name"] != "Zoë" || last.Items[0].Cells["berth"] != "3" {
		t.Errorf("the last row: %+v", last.Items)
	}
	// What the text needs and no column has is said before anything else.
	must[client.Batch](t)(h.Client.ChangeBatch(t.Context(), one.ID, client.BatchWants{Text: "Hello {surname}"}))
	if _, err := h.Client.RehearseBatch(t.Context(), one.ID); err == nil || !strings.Contains(err.Error(), "columns.surname") {
		t.Errorf("rehearsed without a column: %v", err)
	}
	if err := h.Client.RemoveBatch(t.Context(), one.ID); err != nil {
		t.Error(err)
	}
	if response, _ := h.request("GET", "/v1/batches/"+one.ID, ""); response.StatusCode != http.StatusNotFound {
		t.Errorf("a batch that was removed answers %s", response.Status)
	}
}

// broken is a connection that breaks.
type broken struct{}

func (*broken) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

// What was rehearsed is what goes, also where its template has been changed since.
func TestBatchGoesAsRehearsed(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	worded := func(text string) client.TemplateFile {
		return client.TemplateFile{Source: "name: storm\nlanguage: en\ntexts: {en: '" + text + "'}\n"}
	}
	must[client.Template](t)(h.Client.AddTemplate(t.Context(), worded("Dear {name}, no ferries.")))
	one := h.batched([]byte("mobile,name\n+447700900101,Ann\n"), client.BatchWants{Template: "storm"})
	must[client.Template](t)(h.Client.PutTemplate(t.Context(), "storm", worded("Something else entirely")))
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{}))
	h.batchWhen(one.ID, "it has come to its end", finished)
	row := must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), one.ID, "", "", "", 5)).Items[0]
	m := must[client.Message](t)(h.Client.Message(t.Context(), row.Message, false))
	if m.Text != "Dear Ann, no ferries." || m.Template != "storm" || row.Text != m.Text {
		t.Errorf("what went is %q by template %q, and the row says %q", m.Text, m.Template, row.Text)
	}
}

// Each row goes as it was rehearsed: text, encoding, segments, sender, gateway and price.
func TestBatchGoesAsRehearsedRowByRow(t *testing.T) {
	t.Parallel()
	h := build(t).with("longshore").withHarbourline()
	must[client.Routes](t)(h.Client.PutRoutes(t.Context(), []client.Route{{Name: "both",
		Gateways: []client.Leg{{Gateway: "longshore", Weight: 1}, {Gateway: "harbourline", Weight: 2}}}}))
	for gateway, price := range map[string]string{"longshore": "0.031,EUR", "harbourline": "0.047,USD"} {
		must[client.PriceList](t)(h.Client.PutPrices(t.Context(), gateway,
			client.PricesFile{Source: "country,price,currency\n*," + price + "\n"}, false))
	}
	var list strings.Builder
	list.WriteString("mobile,name,note\n")
	notes := []string{"", "–", "😀", strings.Repeat("long ", 40), "€{}", "Ναι"}
	for i := range 240 {
		fmt.Fprintf(&list, "07700 9%05d,n%d,%s\n", i/80*100+i%80, i, notes[i%len(notes)])
	}
	one := h.batched([]byte(list.String()), client.BatchWants{Text: "Dear {name}: {note|nothing}", Country: "GB"})
	rows := func() []client.BatchRow {
		return must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), one.ID, "", "", "", 500)).Items
	}
	rehearsed := rows()
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{}))
	one = h.batchWhen(one.ID, "it has come to its end", finished)
	for i, row := range rows() {
		m := must[client.Message](t)(h.Client.Message(t.Context(), row.Message, false))
		was := rehearsed[i]
		got := fmt.Sprint(m.To, m.Text, m.Encoding, m.Segments, m.Sender, m.Country, m.Price)
		if want := fmt.Sprint(was.To, was.Text, was.Encoding, was.Segments, was.Sender, was.Country, was.Price); got != want {
			t.Errorf("row %d\nwent as       %s\nwas rehearsed %s", was.Row, got, want)
		}
		if m.Gateway != was.Gateway && m.Attempts < 2 { // one that refuses a message may give it to the next
			t.Errorf("row %d went through %s, and was rehearsed through %s", was.Row, m.Gateway, was.Gateway)
		}
	}
	if one.Segments != int64(one.Totals.Segments) {
		t.Errorf("%d segments of %d", one.Segments, one.Totals.Segments)
	}
}

// Held back, let go on, slowed down and killed at any moment, by two instances, each row ends
// exactly once: with a pace of its own, by way of its gateway's queue, and without, drawn by
// its keeper.
func TestBatchUnderFaults(t *testing.T) {
	t.Parallel()
	for _, pace := range []string{"250/s", ""} {
		t.Run("pace "+pace, func(t *testing.T) { t.Parallel(); batchUnderFaults(t, pace) })
	}
}

func batchUnderFaults(t *testing.T, pace string) {
	h := build(t, quick).with("longshore")
	other := h.beside()
	const good = 2400
	var list bytes.Buffer
	list.WriteString("mobile,name\n")
	for i := range good {
		fmt.Fprintf(&list, "+447700%06d,n%d\n", i/80*100+i%80, i)
	}
	one := h.batched(list.Bytes(), client.BatchWants{Text: "Hello {name}"})
	if one.Totals.Goes != good {
		t.Fatalf("%+v", one.Totals)
	}
	per := 300
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "longshore", client.GatewayChange{PerSecond: &per}))
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{Pace: pace}))
	went := func() int { return len(h.Fleet.Longshore.Entries()) }
	for i := range 4 {
		eventually(t, "more has gone", func() bool { return went() > 150*(i+1) })
		must[client.Batch](t)(other.Client.PauseBatch(t.Context(), one.ID))
		eventually(t, "nothing goes any more", func() bool {
			before := went()
			time.Sleep(300 * time.Millisecond)
			return went() == before
		})
		if i%2 == 0 {
			h.kill()
			h.restart()
		} else {
			other.kill()
			other.restart()
		}
		must[client.Batch](t)(h.Client.ResumeBatch(t.Context(), one.ID))
	}
	must[client.Batch](t)(h.Client.PaceBatch(t.Context(), one.ID, ""))
	one = h.batchWhen(one.ID, "it has come to its end", finished)
	var acts []string
	for _, act := range one.Acts {
		if acts = append(acts, act.Act); act.By != "first" {
			t.Errorf("%s by %q", act.Act, act.By)
		}
	}
	if fmt.Sprint(acts) != "[launched paused let go on paused let go on paused let go on paused let go on the limit of its pace lifted]" {
		t.Errorf("what was done with it: %v", acts)
	}
	taken := map[string]int{}
	for _, e := range h.Fleet.Longshore.Entries() {
		taken[e.Ref]++
	}
	rows := must[[][]string](t)(csv.NewReader(bytes.NewReader(h.result(one.ID, "csv"))).ReadAll())
	unknown := 0
	for _, row := range rows[1:] {
		id, state := row[9], row[2]
		if taken[id] > 1 {
			t.Errorf("%s was taken %d times", id, taken[id])
		}
		if state == "unknown" {
			unknown++
		} else if state != "delivered" || taken[id] != 1 {
			t.Errorf("%v was taken %d times", row, taken[id])
		}
	}
	if len(rows) != good+1 || unknown > good/10 {
		t.Errorf("%d rows, %d unknown: %s", len(rows), unknown, one.Tally.Equation)
	}
}

// Whatever is done to it, at whatever moments: paused, let go on, slowed down, killed, its gateway
// cutting connections, and withdrawn in the end. By the gateway's ledger no row is taken twice, what
// is delivered was taken, and what was withdrawn was not.
func TestBatchKilledAtRandom(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	rng := rand.New(rand.NewPCG(seed, 0)) // #nosec G404 -- a test
	h := build(t, quick).with("longshore")
	other := h.beside()
	if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "longshore", How: "cut before taking", Share: 0.01},
		fleet.Mood{Gateway: "longshore", How: "cut after taking", Share: 0.01}); err != nil {
		t.Fatal(err)
	}
	const rows = 3000
	var list bytes.Buffer
	list.WriteString("mobile,name\n")
	for i := range rows {
		fmt.Fprintf(&list, "+447700%06d,n%d\n", i/80*100+i%80, i)
	}
	one := h.batched(list.Bytes(), client.BatchWants{Text: "Hello {name}"})
	per := 400
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "longshore", client.GatewayChange{PerSecond: &per}))
	none := &client.Guard{}
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{Scouts: "100", Seed: seed, Guard: none}))
	went := func() int { return len(h.Fleet.Longshore.Entries()) }
	eventually(t, "scouts go", func() bool { return went() > rng.IntN(60) })
	must[client.Batch](t)(other.Client.ReleaseBatch(t.Context(), one.ID))
	var did []string
	for went() < rows*2/3 {
		until := went() + rng.IntN(300)
		deadline := time.Now().Add(time.Duration(200+rng.IntN(1500)) * time.Millisecond)
		for went() < until && time.Now().Before(deadline) {
			time.Sleep(time.Millisecond)
		}
		by := []*house{h, other}[rng.IntN(2)]
		do := []string{"kill", "pause", "pace", "no pace", "freeze"}[rng.IntN(5)]
		did = append(did, do)
		switch do {
		case "kill":
			by.kill()
			by.restart()
		case "pause":
			must[client.Batch](t)(by.Client.PauseBatch(t.Context(), one.ID))
			must[client.Batch](t)(by.Client.ResumeBatch(t.Context(), one.ID))
		case "pace":
			must[client.Batch](t)(by.Client.PaceBatch(t.Context(), one.ID, fmt.Sprint(50+rng.IntN(400), "/s")))
		case "no pace":
			must[client.Batch](t)(by.Client.PaceBatch(t.Context(), one.ID, ""))
		case "freeze": // for longer than its lease lasts
			by.cmd.Process.Signal(syscall.SIGSTOP)
			time.Sleep(700 * time.Millisecond)
			by.cmd.Process.Signal(syscall.SIGCONT)
		}
	}
	must[client.Batch](t)(h.Client.PaceBatch(t.Context(), one.ID, ""))
	must[client.Batch](t)(h.Client.CancelBatch(t.Context(), one.ID))
	one = h.batchWhen(one.ID, "it has come to its end", finished)
	t.Logf("%v: %s", did, one.Tally.Equation)
	taken := map[string]int{}
	for _, e := range h.Fleet.Longshore.Entries() {
		taken[e.Ref]++
	}
	states := map[string]int{}
	for _, row := range must[[][]string](t)(csv.NewReader(bytes.NewReader(h.result(one.ID, "csv"))).ReadAll())[1:] {
		id, state := row[9], row[2]
		states[state]++
		n := taken[id]
		switch {
		case n > 1, state == "delivered" && n != 1, state == "cancelled" && n != 0:
			t.Errorf("%v was taken %d times", row, n)
		case state != "delivered" && state != "cancelled" && state != "unknown":
			t.Errorf("%v is %s", row, state)
		}
	}
	if states["delivered"]+states["cancelled"]+states["unknown"] != rows || states["delivered"] < rows/3 {
		t.Errorf("%v", states)
	}
}

// A gateway is shared: a small batch and single messages do not wait for a large batch, one
// that is slowed down goes on as told, and who opts out meanwhile gets nothing.
func TestBatchesShareAGateway(t *testing.T) {
	t.Parallel()
	h := build(t, quick).with("longshore")
	per := 100
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "longshore", client.GatewayChange{PerSecond: &per}))
	batched := func(from, n int) client.Batch {
		var list strings.Builder
		list.WriteString("mobile,name\n")
		for i := from; i < from+n; i++ {
			fmt.Fprintf(&list, "+447700%06d,n%d\n", i/80*100+i%80, i)
		}
		return h.batched([]byte(list.String()), client.BatchWants{Text: "Hello {name}"})
	}
	large, small := batched(0, 1500), batched(2000, 50)
	launch := func(b client.Batch) { must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), b.ID, client.Launch{})) }
	launch(large)
	eventually(t, "the large one goes", func() bool { return len(h.Fleet.Longshore.Entries()) > 50 })
	launch(small)
	var singles []string
	for i := range 50 {
		m := must[client.Message](t)(h.Client.Send(t.Context(), client.Draft{To: "+447700900101", Text: fmt.Sprint("x", i), Kind: "bulk"}))
		singles = append(singles, m.ID)
	}
	const away = "+447700001815" // in row 1456
	must[client.OptOutsAdded](t)(h.Client.AddOptOuts(t.Context(), client.NewOptOuts{Numbers: []string{away}}))
	small = h.batchWhen(small.ID, "the small one has come to its end", finished)
	eventually(t, "so have single messages", func() bool {
		return must[client.Message](t)(h.Client.Message(t.Context(), singles[49], false)).Attempts > 0
	})
	if large = must[client.Batch](t)(h.Client.Batch(t.Context(), large.ID)); large.Waiting == 0 {
		t.Errorf("the large one went first: %s", large.Tally.Equation)
	}
	must[client.Batch](t)(h.Client.PaceBatch(t.Context(), large.ID, "20/s"))
	time.Sleep(time.Second) // within which it holds
	before, began := len(h.Fleet.Longshore.Entries()), time.Now()
	time.Sleep(2 * time.Second)
	n := len(h.Fleet.Longshore.Entries()) - before
	if span := time.Since(began); n == 0 || float64(n) > 20*span.Seconds()+5 { // how fully it is used the benches say
		t.Errorf("at 20 a second %d went in %v", n, span)
	}
	must[client.Batch](t)(h.Client.PaceBatch(t.Context(), large.ID, ""))
	large = h.batchWhen(large.ID, "the large one has come to its end", finished)
	row := must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), large.ID, "", "rejected", "", 50)).Items
	row = slices.DeleteFunc(row, func(r client.BatchRow) bool { return r.Cause != "opted_out" })
	if len(row) != 1 || row[0].To != away {
		t.Errorf("who opted out meanwhile: %+v", row)
	}
}

// Scouts that arrive let the rest follow; those that do not hold it back, and so does a guard
// when too many fail. It says why, and a person can let it go on.
func TestBatchStopsByItself(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	launched := func(n int, ending string, l client.Launch) client.Batch {
		var list strings.Builder
		list.WriteString("mobile,name\n")
		for i := range n {
			fmt.Fprintf(&list, "+4477009%03d%s,%s %d\n", i, ending, ending, n)
		}
		one := h.batched([]byte(list.String()), client.BatchWants{Text: "Hello {name}"})
		return must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, l))
	}
	well := launched(40, "01", client.Launch{Scouts: "25%", ScoutsAfter: "12s", ScoutsLeast: 0.9})
	bad := launched(40, "80", client.Launch{Scouts: "10", ScoutsAfter: "2s", ScoutsLeast: 0.9})
	guarded := launched(600, "80", client.Launch{Pace: "60/s"})
	for what, id := range map[string]string{"scouts": bad.ID, "guard": guarded.ID} {
		one := h.batchWhen(id, what+" hold it back", func(b client.Batch) bool { return b.State == "held" })
		if !strings.Contains(one.Why, map[string]string{"scouts": "of 10 scouts 0 were delivered", "guard": "the guard allows 40%"}[what]) {
			t.Errorf("%s: %s", what, one.Why)
		}
		if what == "scouts" {
			must[client.Batch](t)(h.Client.ReleaseBatch(t.Context(), id))
		}
		must[client.Batch](t)(h.Client.PaceBatch(t.Context(), id, ""))
		must[client.Batch](t)(h.Client.ResumeBatch(t.Context(), id))
		one = h.batchWhen(id, "it goes on to its end", finished)
		if one.Tally.States["delivered"] > 0 || len(one.Failures) == 0 || one.Failures[0].Advice == "" {
			t.Errorf("%s: %s, %+v", what, one.Tally.Equation, one.Failures)
		}
	}
	// Phones that were switched off can be tried again, and nothing else.
	again := must[client.Batch](t)(h.Client.RetryBatch(t.Context(), bad.ID))
	if again = h.rehearsed(again.ID); again.Rows != 40 || again.Totals.Goes != 40 {
		t.Errorf("to be tried again: %d rows, %+v", again.Rows, again.Totals)
	}
	if well = h.batchWhen(well.ID, "the rest has followed", finished); well.Tally.States["delivered"] != 40 {
		t.Error(well.Tally.Equation)
	}
	if _, err := h.Client.RetryBatch(t.Context(), well.ID); err == nil || !strings.Contains(err.Error(), "nothing of it failed") {
		t.Errorf("of what arrived: %v", err)
	}
}

// The commands do what their help says, and say what comes next.
func TestBatchCommands(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	file := filepath.Join(t.TempDir(), "storm.csv")
	if err := os.WriteFile(file, passengers(t, 20), 0o600); err != nil {
		t.Fatal(err)
	}
	code, out, said := h.pigeon("", "batch", "rehearse", file, "--text", cancelled, "--country", "GB")
	for _, want := range []string{"27 rows = 21 to send + 6 left out", "the number stands there before", "Dear Jörg"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Fatalf("ends with %d, without %q:\n%s%s", code, want, out, said)
		}
	}
	id := must[client.List[client.Batch]](t)(h.Client.Batches(t.Context(), "", "", 1)).Items[0].ID
	short := id[len(id)-8:]
	if !strings.Contains(said, "pigeon batch launch "+short) || !strings.Contains(said, `numbers    in "Handy"`) {
		t.Errorf("said %s", said)
	}
	if code, out, said = h.pigeon("", "batch", "launch", short, "--wait", "--timeout", "60s"); code != 0 && code != 4 ||
		!strings.Contains(out, "finished") {
		t.Errorf("launched, it ends with %d:\n%s%s", code, out, said)
	}
	result := filepath.Join(t.TempDir(), "result.csv")
	if code, out, said = h.pigeon("", "batch", "result", short, "--file", result); code != 0 {
		t.Errorf("%d\n%s%s", code, out, said)
	}
	if held, err := os.ReadFile(result); err != nil || bytes.Count(held, []byte("\n")) != 28 {
		t.Errorf("%s, %v", held, err)
	}
	for _, tt := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"batch", "list"}, 0, short},
		{[]string{"batch", "rows", short, "--left-out", "number"}, 0, "left out: no number"},
		{[]string{"batch", "rows", short, "--left-out", "weather"}, 3, "no reason"},
		{[]string{"batch", "pause", short}, 3, "only what is running"},
		{[]string{"batch", "launch", file}, 3, "there is none"},
		{[]string{"batch", "launch", file, "--text", "Hi"}, 2, "nobody has looked at this list"},
		{[]string{"batch", "launch", "nosuch.csv", "--text", "Hi"}, 2, "nosuch.csv"},
		{[]string{"batch", "launch", short, "--pace", "fast"}, 2, "50/s"},
		{[]string{"batch", "show", "nosuch"}, 3, "no batch"},
	} {
		if code, out, said := h.pigeon("", tt.args...); code != tt.code || !strings.Contains(out+said, tt.says) {
			t.Errorf("%v ends with %d, want %d and %q:\n%s%s", tt.args, code, tt.code, tt.says, out, said)
		}
	}
}

// From a dropped file to the result sheet, in a browser; left at every step, and taken up
// again from its address.
func TestConsoleBatch(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	file := filepath.Join(t.TempDir(), "storm.csv")
	if err := os.WriteFile(file, passengers(t, 30), 0o600); err != nil {
		t.Fatal(err)
	}
	b := open(t)
	b.do(chromedp.Navigate(h.URL+"/batches#key="+h.Key), chromedp.WaitReady("#list"))
	b.shows("main", "There are no batches yet")
	b.do(chromedp.SetUploadFiles("#list", []string{file}))
	b.shows("main", "CSV with semicolons, in windows-1252; 37 rows")
	b.shows("main table", "Jörg 0")
	b.write("#text", "Dear {Name|passenger}, your ferry at {Fähre} is cancelled.")
	b.write("#country", "GB")
	b.write("#labels", "shop=eu, season=winter")
	b.do(chromedp.Click(`button[type="submit"]`))
	b.shows(".account", "37 rows = 31 to send + 6 left out")
	address := must[string](t)(chromedp.Run(b.ctx, chromedp.Location()))
	b.do(chromedp.Click(`a[href$="left=repeated#rows"]`))
	b.shows("#rows", "the number stands in row 1 already")

	// A row that was left out comes back corrected.
	var left bytes.Buffer
	if err := h.Client.BatchResult(t.Context(), address[strings.LastIndex(address, "/")+1:], "", true, &left); err != nil {
		t.Fatal(err)
	}
	corrected := filepath.Join(t.TempDir(), "corrected.csv")
	lines := strings.SplitAfter(strings.Replace(left.String(), "4.47701E+11", "+447700900723", 1), "\n")
	lost := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "Lost;") })
	if err := os.WriteFile(corrected, []byte(lines[0]+lines[lost]), 0o600); err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.SetUploadFiles("#corrected", []string{corrected}))
	b.shows(".account", "37 rows = 32 to send + 5 left out")

	// Elsewhere, and later.
	b.do(chromedp.Navigate(h.URL+"/"), chromedp.Navigate(address))
	b.shows(".forecast", "32 messages take")
	b.shows(".forecast", "Held back by gateway harbourline (100%)")
	b.shows(".forecast figure", "Messages gone, as forecast")
	b.write("#pace", "1/s")
	b.shows(".forecast", "Held back by its own pace (100%)")
	b.do(chromedp.Navigate(h.URL+"/"), chromedp.Navigate(address))
	b.write("#scouts", "5")
	b.do(chromedp.Click(`#launch form:last-of-type button[type="submit"]`))
	b.shows(".tally", "27 held")
	b.shows("main", "Release the rest")
	b.do(chromedp.Click(`button[data-act="pause"]:not(:disabled)`))
	b.shows("main", "paused with the key")
	b.do(chromedp.Click(`button[data-act="resume"]:not(:disabled)`), chromedp.WaitVisible(`button[data-act="pause"]:not(:disabled)`))
	b.do(chromedp.Click(`button[data-act="release"]:not(:disabled)`))
	b.shows("main", "It came to its end")
	id := address[strings.LastIndex(address, "/")+1:]
	done := must[client.Batch](t)(h.Client.Batch(t.Context(), id))
	tally := done.Tally
	if fmt.Sprint(done.Wants.Labels) != "map[season:winter shop:eu]" {
		t.Errorf("its labels: %v", done.Wants.Labels)
	}
	b.shows(".tally", tally.Equation)
	b.shows(".charts", "Where they were")
	result := must[string](t)(chromedp.Run(b.ctx, chromedp.Evaluate[string](
		fmt.Sprintf(`fetch("/v1/batches/%s/result?format=jsonl").then(r => r.text())`, id), chromedp.EvalAwaitPromise)))
	if n := strings.Count(result, "\n"); n != 37 || int64(strings.Count(result, `"state":"delivered"`)) != tally.States["delivered"] {
		t.Errorf("the result has %d rows: %s", n, result)
	}

	// One that is pasted.
	b.do(chromedp.Navigate(h.URL+"/batches"), chromedp.Click("details summary"))
	b.write("#pasted", "+447700900101\n+447700900102")
	b.do(chromedp.Click(`details button[type="submit"]`))
	b.shows("main", "2 rows")
}

// What is left at the end of a batch's time expires, and nothing of it goes any more.
func TestBatchUntil(t *testing.T) {
	t.Parallel()
	h := build(t, quick).with("longshore")
	per := 50
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "longshore", client.GatewayChange{PerSecond: &per}))
	var list strings.Builder
	list.WriteString("mobile,name\n")
	for i := range 600 {
		fmt.Fprintf(&list, "+447700%06d,n%d\n", i/80*100+i%80, i)
	}
	one := h.batched([]byte(list.String()), client.BatchWants{Text: "Hello {name}"})
	until := time.Now().Add(4 * time.Second)
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{Until: &until}))
	one = h.batchWhen(one.ID, "it has come to its end", finished)
	went := 0
	for _, row := range must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), one.ID, "", "", "", 500)).Items {
		if row.Message == "" {
			continue
		}
		m := must[client.Message](t)(h.Client.Message(t.Context(), row.Message, false))
		for _, e := range m.Evidence {
			if e.Claim != "sending" {
				continue
			}
			if went++; e.At.After(m.ValidUntil) {
				t.Errorf("row %d went at %s, and is of use until %s", row.Row, e.At, m.ValidUntil)
			}
		}
	}
	if went < 50 || went > 400 {
		t.Errorf("%d went", went)
	}
	if n := one.Tally.States["expired"]; n < 200 || n+one.Tally.States["delivered"] != 600 {
		t.Errorf("%s", one.Tally.Equation)
	}
}

// Gateways of a route share a batch by weight, and one that rests gives its share to the others.
// The rows come from an iterator.
func TestBatchBesideARestingGateway(t *testing.T) {
	t.Parallel()
	h := build(t, quick).with("longshore").withHarbourline()
	must[client.Routes](t)(h.Client.PutRoutes(t.Context(), []client.Route{{Name: "both",
		Gateways: []client.Leg{{Gateway: "longshore", Weight: 1}, {Gateway: "harbourline", Weight: 1}}}}))
	const rows = 600
	made := must[client.Batch](t)(h.Client.NewBatch(t.Context(), client.BatchWants{Text: "Hello {name}"}))
	list := func(yield func([]string) bool) {
		for i := range rows {
			if !yield([]string{fmt.Sprintf("n\"%d", i), fmt.Sprintf("+447700%06d", i/80*100+i%80)}) {
				return
			}
		}
	}
	added := must[client.BatchAppended](t)(h.Client.AppendEach(t.Context(), made.ID, []string{"name", "mobile"}, list, 0))
	again := must[client.BatchAppended](t)(h.Client.AppendEach(t.Context(), made.ID, []string{"name", "mobile"}, list, 0))
	if added.Rows != rows || again.Already != rows {
		t.Errorf("from an iterator: %+v, and again %+v", added, again)
	}
	one := h.rehearsed(made.ID)
	shares := map[string]int{}
	for _, part := range one.Totals.Gateways {
		shares[part.Name] = part.Rows
	}
	if shares["longshore"] < rows/3 || shares["harbourline"] < rows/3 {
		t.Errorf("shares: %v", shares)
	}
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{}))
	eventually(t, "some went through the one", func() bool { return len(h.Fleet.Longshore.Entries()) > 20 })
	must[client.Gateway](t)(h.Client.PauseGateway(t.Context(), "longshore", "for a while"))
	one = h.batchWhen(one.ID, "it has come to its end", finished)
	through := map[string]int64{}
	for _, g := range one.Through {
		for _, n := range g.States {
			through[g.Gateway] += n
		}
	}
	if went := len(h.Fleet.Longshore.Entries()); through["longshore"]+through["harbourline"] != rows ||
		through["longshore"] > int64(went) ||
		went >= shares["longshore"] {
		t.Errorf("of shares %v, %d went through the one that was paused: %v", shares, went, through)
	}
}
