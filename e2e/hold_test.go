package e2e

import (
	"strings"
	"testing"
	"time"

	"calmpigeon.example/client"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// What is to go at a time is held until then, and can be moved, let go and withdrawn before;
// bulk messages wait for the end of quiet hours.
func TestHeldForATime(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	at := func(d time.Duration) string { return time.Now().Add(d).UTC().Format(time.RFC3339) }
	const number = "+447700900123"
	soon := h.send(client.Draft{To: number, Text: "soon", SendAt: at(2 * time.Second)})
	later := h.send(client.Draft{To: number, Text: "later", SendAt: at(time.Hour)})
	moved := h.send(client.Draft{To: number, Text: "moved", SendAt: at(2 * time.Hour)})
	never := h.send(client.Draft{To: number, Text: "never", SendAt: at(time.Hour)})
	if soon.State != "held" || soon.HeldUntil == nil || soon.ValidUntil.Sub(*soon.HeldUntil) != 6*time.Hour {
		t.Errorf("to go soon: %s until %v, of use until %s", soon.State, soon.HeldUntil, soon.ValidUntil)
	}
	m := h.settled(soon.ID)
	if m.State != "delivered" || strings.Join(claims(m)[:2], " ") != "own held clock queued" {
		t.Errorf("it is %s: %v", m.State, claims(m))
	}
	if m.Evidence[1].At.Before(*soon.HeldUntil) {
		t.Errorf("held until %s, it was let go at %s", soon.HeldUntil, m.Evidence[1].At)
	}
	when := time.Now().Add(-time.Minute)
	m = must[client.Message](t)(h.Client.SendAt(t.Context(), moved.ID, &when))
	if m = h.settled(moved.ID); m.State != "delivered" {
		t.Errorf("moved, it is %s", m.State)
	}
	must[client.Message](t)(h.Client.Cancel(t.Context(), never.ID))
	if _, err := h.Client.SendAt(t.Context(), never.ID, nil); err == nil || !strings.Contains(err.Error(), "does not wait") {
		t.Errorf("withdrawn, it is let go: %v", err)
	}
	if tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})); tally.States["held"] != 1 || tally.Total != 4 {
		t.Error(tally.Equation)
	}
	code, out, said := h.pigeon("", "message", "hold", later.ID, "--until", "23:59")
	if code != 0 || !strings.Contains(out, "held") {
		t.Errorf("%d\n%s%s", code, out, said)
	}
	if code, out, said = h.pigeon("", "message", "release", later.ID); code != 0 {
		t.Errorf("%d\n%s%s", code, out, said)
	}
	if m = h.settled(later.ID); m.State != "delivered" {
		t.Errorf("let go, it is %s", m.State)
	}
	for given, want := range map[string]string{"soon": "is no time", at(-time.Hour): "is over", at(1000 * time.Hour): "too far ahead"} {
		if _, err := h.Client.Send(t.Context(), client.Draft{To: number, Text: "x", SendAt: given}); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", given, err)
		}
	}
	// By the recipient's clock, which is an hour ahead of ours.
	local := time.Now().UTC().Add(61 * time.Minute).Format("2006-01-02T15:04")
	if m := h.send(client.Draft{To: "+33639980012", Text: "x", SendAt: local}); m.HeldUntil == nil ||
		time.Until(*m.HeldUntil) > 61*time.Minute {
		t.Errorf("at %s in France: %s until %v", local, m.State, m.HeldUntil)
	}

	// Quiet from an hour ago to an hour from now.
	clock := func(d time.Duration) string { return time.Now().UTC().Add(d).Format("15:04") }
	must[client.Rule](t)(h.Client.PutRule(t.Context(), client.Rule{Country: "GB", Alphanumeric: "open", Numeric: "open", ShortCode: "open",
		Texts: "open", Links: "open", Quiet: []client.Quiet{{Kinds: []string{"bulk"}, From: clock(-time.Hour), To: clock(time.Hour)}}}))
	quiet := h.send(client.Draft{To: number, Text: "quiet", Kind: "bulk"})
	if quiet.State != "held" || quiet.HeldUntil == nil || time.Until(*quiet.HeldUntil) < 58*time.Minute || len(quiet.Warnings) == 0 {
		t.Errorf("in quiet hours: %s until %v, %v", quiet.State, quiet.HeldUntil, quiet.Warnings)
	}
	for _, d := range []client.Draft{
		{To: number, Text: "loud", Kind: "bulk", AtAnyHour: true},
		{To: number, Text: "moved", Kind: "transactional"},
	} {
		if m := h.send(d); m.State == "held" {
			t.Errorf("%s is held", m.Text)
		}
	}
	times := h.batched([]byte("mobile,when\n+447700900101,"+time.Now().UTC().Add(time.Hour).Format("2006-01-02 15:04")+
		"\n+447700900102,2020-01-01 09:00\n+447700900103,\n"), client.BatchWants{Text: "at your time", OwnTimes: true, AtAnyHour: true})
	if times.Totals.Goes != 2 || times.Totals.Left[0].Name != "time" {
		t.Errorf("at their own times: %+v", times.Totals)
	}
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), times.ID, client.Launch{}))
	h.batchWhen(times.ID, "one goes and one is held", func(b client.Batch) bool {
		return b.Tally.States["held"] == 1 && b.Tally.States["delivered"] == 1
	})
	of := must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), times.ID, "", "held", "", 5)).Items[0].Message
	if m := must[client.Message](t)(h.Client.Message(t.Context(), of, false)); m.Batch != times.ID || m.Row != 1 || m.HeldUntil == nil {
		t.Errorf("it is row %d of %s, held until %v", m.Row, m.Batch, m.HeldUntil)
	}
	// Rows of a batch that wait for the same hours stay rows, and those of other countries go.
	rows := []byte("mobile\n+447700900101\n+46701740612\n+447700900123\n+46701740613\n")
	held := func(b client.Batch) bool {
		return b.Tally.States["held"] == 2 && b.Waiting == 2 && b.Tally.States["delivered"] == 2
	}
	withdrawn := h.batched(rows, client.BatchWants{Text: "quiet, all of you"})
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), withdrawn.ID, client.Launch{}))
	h.batchWhen(withdrawn.ID, "those in quiet hours are held", held)
	for _, row := range must[client.List[client.BatchRow]](t)(h.Client.BatchRows(t.Context(), withdrawn.ID, "", "held", "", 5)).Items {
		if row.Message != "" || !strings.HasPrefix(row.To, "+44") {
			t.Errorf("it is held: %+v", row)
		}
	}
	must[client.Batch](t)(h.Client.CancelBatch(t.Context(), withdrawn.ID))
	h.batchWhen(withdrawn.ID, "they are withdrawn", func(b client.Batch) bool { return b.Tally.States["cancelled"] == 2 && finished(b) })

	one := h.batched(rows, client.BatchWants{Text: "quiet, later on"})
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{Pace: "10/s"}))
	h.batchWhen(one.ID, "those in quiet hours are held", held)
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), h.database))
	defer db.Close(t.Context())
	var ends time.Time
	if err := db.QueryRow(t.Context(), "SELECT max(opens_at) FROM batch_feeds").Scan(&ends); err != nil ||
		time.Until(ends) < 58*time.Minute {
		t.Errorf("they go at %s: %v", ends, err)
	}
	if f := must[client.BatchForecast](t)(h.Client.ForecastBatch(t.Context(), one.ID, client.Launch{})); f.EndsAt.Sub(ends).
		Abs() >
		time.Minute {
		t.Errorf("quiet until %s, it is forecast to end at %s", ends, f.EndsAt)
	}
	if code, out, _ := h.pigeon("", "batch", "show", one.ID); code != 0 ||
		!strings.Contains(out, "2 rows wait for the end of quiet hours in United Kingdom at ") {
		t.Errorf("%d\n%s", code, out)
	}
	// As if an hour had passed.
	if err := h.Client.ResetRule(t.Context(), "GB"); err != nil {
		t.Fatal(err)
	}
	must[pgconn.CommandTag](t)(db.Exec(t.Context(), "UPDATE batch_feeds SET opens_at = now()"))
	h.batchWhen(one.ID, "they go", func(b client.Batch) bool { return b.Tally.States["delivered"] == 4 && finished(b) })
}
