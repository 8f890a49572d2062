package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/fleet"
)

// hushed judges strays soon.
func hushed(h *house) { h.flags = append(h.flags, "--stray-quiet", "1s") }

// silentOf is a dialect that ships, of whose receipts the number is not read: they bear the gateway's id alone.
func silentOf(t *testing.T, name, number string) string {
	t.Helper()
	source := string(must[[]byte](t)(dialects.Source(name)))
	receipt, rest, _ := strings.Cut(source, "\ninbound:")
	if !strings.Contains(receipt, number) {
		t.Fatalf("%s reads no %s", name, number)
	}
	return strings.Replace(receipt, number, "", 1) + "\ninbound:" + strings.ReplaceAll(rest, number, "")
}

// withSource adds a gateway at the place of one of the fleet, with a dialect of its own.
func (h *house) withSource(name, source string) *house {
	h.t.Helper()
	must[client.Gateway](h.t)(
		h.Client.AddGateway(h.t.Context(), client.NewGateway{Name: name, Source: source, Address: h.FleetURL + "/" + name,
			Secrets: practice[name], Timeout: "2s", AskAfter: "500ms", GiveUpAfter: "20s", Currency: "EUR"}),
	)
	return h
}

// entries is the ledger of a practice gateway, by its ids.
func (h *house) entries(gateway string) map[string]fleet.Entry {
	h.t.Helper()
	all := map[string]fleet.Entry{}
	for _, e := range h.Fleet.Gateway(gateway).Entries() {
		all[e.ID] = e
	}
	return all
}

// Connections are cut after a gateway took what it was given, and it knows no reference of ours: its receipts
// say which message they mean by the number, or nothing says it until it is asked. Every doubt that has only one
// way out is settled, rightly; what has several stays, and is told; and nothing goes twice.
func TestDoubtIsSettledByStrays(t *testing.T) {
	t.Parallel()
	for name, make := range map[string]func(*testing.T, *house) string{
		"receipts bear the number": func(_ *testing.T, h *house) string { h.with("sandbank"); return "sandbank" },
		"the gateway names it when asked": func(t *testing.T, h *house) string {
			h.withSource("oldpier", silentOf(t, "oldpier", ", to: .body.number"))
			return "oldpier"
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			h := build(t, quick, hushed)
			gateway := make(t, h)
			send := func(n int, to string) string {
				return h.send(client.Draft{To: to, Text: fmt.Sprintf("Berth %d", n), Kind: "bulk", Gateway: gateway, ValidFor: "10m"}).ID
			}
			h.settled(send(0, "+447700900100")) // it reports under the id that it gave
			if err := h.Fleet.Misbehave(fleet.Mood{Gateway: gateway, How: "cut after taking", Share: 0.4}); err != nil {
				t.Fatal(err)
			}
			all := map[string]string{} // message: text
			var mu sync.Mutex
			var sending sync.WaitGroup
			for i := range 60 {
				sending.Go(func() {
					id := send(i+1, fmt.Sprintf("+4477009002%02d", i%80))
					mu.Lock()
					defer mu.Unlock()
					all[id] = fmt.Sprintf("Berth %d", i+1)
				})
			}
			sending.Wait()
			h.kill()
			h.start(h.listen())
			eventually(t, "all have an end", func() bool {
				tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{}))
				return tally.States["delivered"]+tally.States["unknown"] == tally.Total && tally.Total == int64(len(all)+1)
			})
			eventually(t, "every stray has its message", func() bool { // on a slow machine some are judged after it was given up on theirs
				page := must[client.Strays](t)(h.Client.Strays(t.Context(), client.StrayFilter{}, "", 500))
				return !slices.ContainsFunc(page.Items, func(s client.Stray) bool { return s.Fate != "weak" })
			})
			weak := must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{Weak: true}, "", 500)).Items
			if len(weak) < 5 {
				t.Fatalf("only %d of %d are weakly known: nothing was cut", len(weak), len(all))
			}
			ledger, neverGone := h.entries(gateway), 0
			for id, text := range all {
				m := must[client.Message](t)(h.Client.Message(t.Context(), id, false))
				taken := 0
				for _, e := range ledger {
					if e.Text == text {
						taken += e.Submissions
					}
				}
				if taken == 0 && m.Attempts == 1 && m.State == "unknown" {
					neverGone++ // killed after it was written that it goes, before it went: nothing can tell what became of it
					continue
				}
				if taken != 1 && m.Attempts == 1 || taken > m.Attempts {
					t.Errorf("%s was taken %d times in %d attempts", id, taken, m.Attempts)
				}
				if m.State != "delivered" {
					t.Errorf("%s is %s: %+v", id, m.State, m.Evidence)
				}
				for _, e := range m.Evidence {
					if e.Weak && ledger[e.GatewayRef].Text != text {
						t.Errorf("%s %q was taken for %q", id, text, ledger[e.GatewayRef].Text)
					}
				}
			}
			if neverGone > len(all)/4 {
				t.Errorf("%d of %d never went: the kill cannot have caught so many", neverGone, len(all))
			}
			page := must[client.Strays](t)(h.Client.Strays(t.Context(), client.StrayFilter{}, "", 500))
			if i := slices.IndexFunc(page.Items, func(s client.Stray) bool { return s.Fate != "weak" }); i >= 0 {
				t.Errorf("a stray is left: %+v", page.Items[i])
			}
		})
	}
}

// Strays of a time of which the database lacks messages, as it was restored, may belong to one of these: they
// settle the doubt of no other message, and say so.
func TestStraysOfMissingMessagesSettleNothing(t *testing.T) {
	t.Parallel()
	h := build(t, quick, hushed).with("sandbank")
	sql(t, h.database, `INSERT INTO quarantines (id, since, reason, why, reaches, prepared_at, lifted_at, lifted_by)
		VALUES (gen_random_uuid(), now(), 'rewound', 'a test', now() - interval '1 minute', now(), now(), 'first')`)
	if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "sandbank", How: "cut after taking"}); err != nil {
		t.Fatal(err)
	}
	const many = 5
	for i := range many {
		h.send(client.Draft{To: fmt.Sprintf("+4477009002%02d", i), Text: fmt.Sprintf("Berth %d", i), Gateway: "sandbank"})
	}
	eventually(t, "every receipt is judged", func() bool {
		page := must[client.Strays](t)(h.Client.Strays(t.Context(), client.StrayFilter{Reason: "incomplete"}, "", 500))
		return len(page.Items) >= many
	})
	if weak := must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{Weak: true}, "", 500)).Items; len(weak) > 0 {
		t.Errorf("%d rest on what may belong to others", len(weak))
	}
	if tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})); tally.States["doubtful"] != many {
		t.Errorf("%s", tally.Equation)
	}
}

// What could be either of two stays in doubt, until a person says which; the command line says why, and what to do.
func TestStraysAreSettledByHand(t *testing.T) {
	t.Parallel()
	h := build(t, hushed).with("sandbank")
	h.settled(h.send(client.Draft{To: "+447700900100", Text: "Berth 1", Gateway: "sandbank"}).ID)
	if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "sandbank", How: "cut before taking", Times: 1},
		fleet.Mood{Gateway: "sandbank", How: "cut after taking", Times: 1}); err != nil {
		t.Fatal(err)
	}
	to := "+447700900123"
	var ids []string
	for i := range 2 {
		ids = append(ids, h.send(client.Draft{To: to, Text: fmt.Sprintf("Berth %d", i), Gateway: "sandbank"}).ID)
		h.await(ids[i], "in doubt", func(m client.Message) bool { return m.State == "doubtful" })
	}
	var stray client.Stray
	eventually(t, "the stray is judged", func() bool {
		page := must[client.Strays](t)(h.Client.Strays(t.Context(), client.StrayFilter{Reason: "in_doubt"}, "", 9))
		if len(page.Items) == 1 {
			stray = page.Items[0]
		}
		return stray.Rivals == 2
	})
	code, out, errOut := h.pigeon("", "stray", "list")
	if code != 0 || !strings.Contains(out, "in_doubt") || !strings.Contains(out, "1 stray from sandbank waiting. Nothing tells to which") {
		t.Errorf("list: %d, %s%s", code, out, errOut)
	}
	code, out, errOut = h.pigeon("", "stray", "show", stray.ID)
	if code != 0 || !strings.Contains(out, ids[0][:8]) || !strings.Contains(out, "GET /receipts/sandbank/‹callback›?") ||
		!strings.Contains(errOut, "pigeon stray attach") || strings.Count(out, "yes") != 2 {
		t.Errorf("show: %d, %s%s", code, out, errOut)
	}
	if code, _, errOut := h.pigeon("", "stray", "attach", stray.ID, "--to", ids[0], "--why", "its list says so"); code != 0 {
		t.Fatalf("attach: %d, %s", code, errOut)
	}
	if m := h.await(ids[0], "delivered", func(m client.Message) bool { return m.State == "delivered" }); m.Weak {
		t.Errorf("what a person attached is weak: %+v", m)
	}
	if code, _, errOut := h.pigeon("", "stray", "attach", stray.ID, "--to", ids[1]); code == 0 ||
		!strings.Contains(errOut, "has a message already") {
		t.Errorf("attached twice: %d, %s", code, errOut)
	}
	if code, _, errOut := h.pigeon("", "stray", "restore", stray.ID); code != 0 {
		t.Fatalf("restore: %d, %s", code, errOut)
	}
	h.await(ids[1], "the other one, as the first is not it", func(m client.Message) bool { return m.State == "delivered" && m.Weak })
	m := h.await(ids[0], "in doubt again", func(m client.Message) bool { return m.State == "doubtful" })
	if !slices.ContainsFunc(
		m.Evidence,
		func(e client.Evidence) bool { return e.Withdrawn && strings.Contains(e.Note, "its list says so") },
	) {
		t.Errorf("what was taken back is not told: %+v", m.Evidence)
	}
	// The first one never arrived: a person decides so, for all that are in doubt.
	code, out, errOut = h.pigeon(
		"",
		"message",
		"decide",
		"not_sent",
		"--all",
		"--state",
		"doubtful",
		"--why",
		"the gateway's list lacks it",
	)
	if code != 0 || !strings.Contains(out, "Decided about 1 message") {
		t.Errorf("decide: %d, %s%s", code, out, errOut)
	}
	if m := h.await(ids[0], "decided", func(m client.Message) bool { return m.State == "cancelled" }); !m.Decided {
		t.Errorf("%+v", m)
	}
	if code, _, errOut := h.pigeon("", "message", "decide", "send_again", ids[1]); code == 0 {
		t.Log(errOut) // weakly delivered: it may go again, by decision
	}
	for name, tt := range map[string]struct {
		path, body, field string
		status            int
	}{
		"a stray that is not there": {"/v1/strays/discard", `{"strays": ["019abd5e-0000-7000-8000-000000000000"]}`, "", 404},
		"a message that is not there": {"/v1/strays/attach",
			`{"strays": ["` + stray.ID + `"], "message": "019abd5e-0000-7000-8000-000000000000"}`, "", 404},
		"no strays":   {"/v1/strays/restore", `{"strays": []}`, "strays", 422},
		"no id":       {"/v1/strays/restore", `{"strays": ["x"]}`, "strays[0]", 422},
		"no decision": {"/v1/decisions", `{"messages": ["` + ids[0] + `"], "decision": "maybe"}`, "decision", 422},
		"no message":  {"/v1/decisions", `{"decision": "leave"}`, "messages", 422},
		"a reason that is too long": {"/v1/decisions",
			`{"messages": ["` + ids[0] + `"], "decision": "leave", "why": "` + strings.Repeat("x", 201) + `"}`, "why", 422},
		"weak, which tallies do not know": {"/v1/tally?weak=true", "", "weak", 422},
	} {
		method := http.MethodPost
		if tt.body == "" {
			method = http.MethodGet
		}
		request := must[*http.Request](t)(http.NewRequestWithContext(t.Context(), method, h.URL+tt.path, strings.NewReader(tt.body)))
		request.Header.Set("Authorization", "Bearer "+h.Key)
		request.Header.Set("Content-Type", "application/json")
		response := must[*http.Response](t)(http.DefaultClient.Do(request))
		var p client.Problem
		err := json.NewDecoder(response.Body).Decode(&p)
		response.Body.Close()
		if err != nil || response.StatusCode != tt.status || tt.field != "" && (len(p.Errors) == 0 || p.Errors[0].Field != tt.field) {
			t.Errorf("%s: %d, %+v, %v", name, response.StatusCode, p, err)
		}
	}
}

// A gateway whose clock is ten minutes ahead is named.
func TestAWrongClockIsNamed(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline")
	if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "harbourline", How: "clock skew"}); err != nil {
		t.Fatal(err)
	}
	for i := range 15 {
		h.send(client.Draft{To: fmt.Sprintf("+4477009001%02d", i), Text: "x", Gateway: "harbourline"})
	}
	within(t, 90*time.Second, "the clock is known", func() bool {
		g := must[client.Gateway](t)(h.Client.Gateway(t.Context(), "harbourline"))
		return g.Clock.Ahead != nil && *g.Clock.Ahead > 590 && *g.Clock.Ahead < 610 &&
			slices.ContainsFunc(g.Health.Warnings, func(w string) bool {
				return strings.Contains(w, "10 minutes ahead")
			})
	})
}

// From the first page to what wants somebody: a stray is attached, a message decided about, and both taken back.
func TestConsoleAttention(t *testing.T) {
	t.Parallel()
	h := build(t, hushed).with("sandbank")
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/#key=" + h.Key))
	b.shows("h1", "Nothing wants anybody")
	h.settled(h.send(client.Draft{To: "+447700900100", Text: "Berth 1", Gateway: "sandbank"}).ID)
	if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "sandbank", How: "cut before taking", Times: 1},
		fleet.Mood{Gateway: "sandbank", How: "cut after taking", Times: 1}); err != nil {
		t.Fatal(err)
	}
	var ids []string
	for i := range 2 {
		ids = append(ids, h.send(client.Draft{To: "+447700900123", Text: fmt.Sprintf("Berth %d", i), Gateway: "sandbank"}).ID)
		h.await(ids[i], "in doubt", func(m client.Message) bool { return m.State == "doubtful" })
	}
	b.shows(".needs", "1 receipt from sandbank without a message")
	b.shows(".needs", "Nothing tells to which of several messages it belongs.")
	b.do(chromedp.Click(`.need a`))
	b.shows("h1", "1 stray")
	b.do(chromedp.Click(`td .plain`))
	b.shows(".stray", "GET /receipts/sandbank/‹callback›?")
	b.write(`.stray input`, "its list says so")
	b.do(chromedp.Click(`.stray tbody .btn`))
	b.shows(".notice", "The stray is attached.")
	taken := ""
	eventually(t, "one of them is delivered", func() bool {
		for _, id := range ids {
			if m := must[client.Message](t)(h.Client.Message(t.Context(), id, false)); m.State == "delivered" && !m.Weak {
				taken = id
			}
		}
		return taken != ""
	})
	b.do(chromedp.Click(`.notice .btn-link`)) // undo
	b.shows(".notice", "waiting again")
	other := ids[0]
	if other == taken {
		other = ids[1]
	}
	h.await(other, "it can only be the other", func(m client.Message) bool { return m.Weak && m.State == "delivered" })

	b.do(chromedp.Navigate(h.URL + "/messages/" + taken))
	b.shows(".ledger", "withdrawn")
	b.shows(".notice", "It may have gone")
	b.write(".notice input", "the gateway's list lacks it")
	b.do(chromedp.Click(`.notice .btn:nth-of-type(3)`))
	b.shows("h1", "cancelled, decided")
	b.shows(".ledger", "not sent, decided by first: the gateway's list lacks it")
	b.do(chromedp.Click(`main .btn-link`))
	b.shows("h1", "doubtful")
	b.do(chromedp.Navigate(h.URL + "/messages?span=all&weak=true"))
	b.shows(".messages", "delivered, weakly known")
	b.do(chromedp.Click(`nav a[href="/"]`))
	b.shows(".tally", "3 messages = 1 doubtful + 2 delivered")
}

// A person asks about messages now, also about one whose end is known: it costs as many requests as are told, and
// once is enough.
func TestMessagesAreAskedAboutNow(t *testing.T) {
	t.Parallel()
	h := build(t).with("stillwater", "sandbank")
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "stillwater", client.GatewayChange{AskAfter: "1h", GiveUpAfter: "2h"}))
	var ids []string
	for i := range 5 {
		ids = append(ids, h.send(client.Draft{To: fmt.Sprintf("+4477009001%02d", i), Text: "x", Sender: fleet.StillwaterSenders[0],
			Gateway: "stillwater"}).ID)
	}
	unasked := h.settled(h.send(client.Draft{To: "+447700900109", Text: "x", Gateway: "sandbank"}).ID)
	for _, id := range ids {
		h.await(id, "taken", func(m client.Message) bool { return m.State == "accepted" })
	}
	// A kind may have a schedule of its own.
	var p *client.Problem
	_, err := h.Client.ChangeGateway(t.Context(), "stillwater", client.GatewayChange{AskAfterKinds: map[string]string{"sms": "5s"}})
	if !errors.As(err, &p) || len(p.Errors) != 1 || p.Errors[0].Field != "ask_after_kinds.sms" {
		t.Errorf("a kind that is none: %v", err)
	}
	g := must[client.Gateway](t)(
		h.Client.ChangeGateway(t.Context(), "stillwater", client.GatewayChange{AskAfterKinds: map[string]string{"otp": "300ms"}}),
	)
	if g.AskAfterKinds["otp"] != "300ms" || g.AskAfter != "1h" {
		t.Errorf("%v, %v", g.AskAfterKinds, g.AskAfter)
	}
	code1 := h.settled(
		h.send(
			client.Draft{To: "+447700900107", Text: "493117", Kind: "otp", Sender: fleet.StillwaterSenders[0], Gateway: "stillwater"},
		).ID,
	)
	if m := must[client.Message](t)(h.Client.Message(t.Context(), ids[0], false)); code1.State != "delivered" || m.State != "accepted" {
		t.Errorf("the code is %s, the rest %s", code1.State, m.State)
	}
	all := append([]string{unasked.ID}, ids...)
	tried := must[client.Chased](t)(h.Client.Chase(t.Context(), client.Chase{Messages: all, DryRun: true}))
	if tried.Messages != 5 || tried.Requests != 1 || len(tried.Refused) != 1 ||
		tried.Refused[0].Why != "sandbank cannot be asked about messages" {
		t.Fatalf("%+v", tried)
	}
	eventually(t, "they are on the handsets", func() bool {
		arrived := 0
		for _, e := range h.entries("stillwater") {
			arrived += len(h.Fleet.Phones.All(e.To, 1))
		}
		return arrived == 6
	})
	code, out, errOut := h.pigeon("", append([]string{"message", "chase"}, all...)...)
	if code != 3 || !strings.Contains(out, "stillwater") || !strings.Contains(errOut, "cannot be asked about messages") {
		t.Errorf("%d, %s%s", code, out, errOut)
	}
	for _, id := range ids {
		h.await(id, "told", func(m client.Message) bool { return m.State == "delivered" })
	}
	// Again, though its end is known: it is asked once, and not again and again.
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "stillwater", client.GatewayChange{AskAfter: "100ms"}))
	must[client.Chased](t)(h.Client.Chase(t.Context(), client.Chase{Messages: ids[:1]}))
	h.await(ids[0], "told again", func(m client.Message) bool { return m.Repeats == 1 })
	for n := range 4 { // as many looks as it takes to be sure
		must[client.Chased](t)(h.Client.Chase(t.Context(), client.Chase{Messages: ids[1:2]}))
		h.await(ids[1], "another told again", func(m client.Message) bool { return m.Repeats == n+1 })
	}
	if m := must[client.Message](t)(h.Client.Message(t.Context(), ids[0], false)); m.Repeats != 1 || m.State != "delivered" {
		t.Errorf("%s, said again %d times", m.State, m.Repeats)
	}
}

// What is only weakly known to have failed may have been delivered all the same: a batch is not sent to it again.
func TestWeaklyFailedRowsAreNotRetried(t *testing.T) {
	t.Parallel()
	h := build(t, hushed).with("sandbank")
	h.settled(h.send(client.Draft{To: "+447700900100", Text: "Berth 1", Gateway: "sandbank"}).ID)
	if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "sandbank", How: "cut after taking", Times: 1}); err != nil {
		t.Fatal(err)
	}
	one := h.batched([]byte("to\n+447700900280\n"), client.BatchWants{Name: "storm", Text: "Berth 2", AtAnyHour: true})
	must[client.Batch](t)(h.Client.LaunchBatch(t.Context(), one.ID, client.Launch{}))
	eventually(t, "it failed, weakly", func() bool {
		l := must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{Weak: true}, "", 9))
		return len(l.Items) == 1 && l.Items[0].State == "undeliverable"
	})
	_, err := h.Client.RetryBatch(t.Context(), one.ID)
	if p, ok := err.(*client.Problem); !ok || p.Status != 409 || !strings.Contains(p.Detail, "nothing of it failed") {
		t.Errorf("it is retried: %v", err)
	}
}
