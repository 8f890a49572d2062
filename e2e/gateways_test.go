package e2e

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/fleet"
)

// practice are the credentials of the practice fleet.
var practice = func() map[string]map[string]string {
	all := map[string]map[string]string{}
	for _, b := range fleet.Berths() {
		all[b.Dialect] = b.Secrets
	}
	return all
}()

// with adds gateways of the practice fleet, with short spans.
func (h *house) with(names ...string) *house {
	h.t.Helper()
	for _, name := range names {
		place, _, _ := strings.Cut(name, "-")
		n := client.NewGateway{
			Dialect:     name,
			Address:     h.FleetURL + "/" + place,
			Secrets:     practice[name],
			Timeout:     "2s",
			AskAfter:    "500ms",
			GiveUpAfter: "15s",
			Currency:    "EUR",
		}
		if name == "stillwater" {
			n.Senders = fleet.StillwaterSenders
		}
		must[client.Gateway](h.t)(h.Client.AddGateway(h.t.Context(), n))
	}
	return h
}

// registered is a template that stamphouse has, and the boarding code that it
// speaks.
const (
	registered = `name: berth
language: en
texts: {en: "Lanternholm Ferries: crossing {time} to {port} now leaves from berth {berth}. Boarding closes ten minutes before."}
registered:
  - {country: GB, gateway: stamphouse, id: LH-4101, wording: "Lanternholm Ferries: crossing {5} to {20} now leaves from berth {3}. Boarding closes ten minutes before."}
`
	spoken = `name: code
kind: otp
language: en
texts: {en: "{code} is your boarding code for Lanternholm Ferries. Do not share it."}
registered:
  - {country: GB, gateway: stamphouse-voice, id: LH-4102, wording: "{6} is your boarding code for Lanternholm Ferries. Do not share it."}
`
)

// Every dialect through every operation against its practice gateway, and what
// numbers make it do.
func TestEveryDialect(t *testing.T) {
	t.Parallel()
	h := build(
		t,
	).with("harbourline", "sandbank", "longshore", "stillwater", "oldpier", "commonquay", "stamphouse", "waxseal", "stamphouse-voice")
	for name := range practice { // a busy machine must not make anybody give up
		must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), name, client.GatewayChange{GiveUpAfter: "30s"}))
	}
	for _, source := range []string{registered, spoken} {
		must[client.Template](t)(h.Client.AddTemplate(t.Context(), client.TemplateFile{Source: source}))
	}
	greek := "Λόγω κακοκαιρίας ακυρώνονται όλα τα δρομολόγια της Κυριακής. Τα εισιτήρια ισχύουν έως την Τετάρτη."
	latin := "Größe & Straße: 5 < 6 + \"ça\" = 100 % £"
	long := strings.Repeat("All Sunday crossings are cancelled [storm]. ", 9)
	type expected struct{ state, cause string }
	delivered, unknown := expected{"delivered", ""}, expected{"unknown", ""}
	common := map[string]expected{
		"00": delivered,
		"80": {"undeliverable", "absent"},
		"81": {"rejected", "invalid_number"},
		"88": {"rejected", "content_refused"},
		"83": delivered,
		"87": delivered,
		"93": delivered,
		"95": delivered,
		"96": delivered,
		"97": delivered,
	}
	var gateways sync.WaitGroup
	for _, g := range []struct {
		name string
		// What becomes of a text whose receipt is lost, of one that is cut off
		// before it is taken and after it, and of one whose reply is garbled.
		lost, before, after, garbled expected
		different                    map[string]expected
	}{
		{"harbourline", delivered, delivered, delivered, delivered, nil},
		{"sandbank", unknown, unknown, unknown, unknown, nil},
		{"longshore", delivered, unknown, delivered, delivered, nil},
		{"stillwater", delivered, unknown, unknown, unknown, nil},
		{"oldpier", delivered, unknown, unknown, unknown, nil},
		{"commonquay", delivered, delivered, delivered, delivered, nil},
		{"stamphouse", delivered, unknown, delivered, delivered, nil},
		{"waxseal", delivered, delivered, delivered, delivered, nil},
	} {
		gateways.Go(func() {
			var all sync.WaitGroup
			// In a request with others, what a number does to the request it does to
			// them.
			together := g.name == "sandbank" || g.name == "longshore"
			try := func(to, text string, want expected) {
				gone := make(chan struct{})
				defer func() {
					if together {
						<-gone
					}
				}()
				all.Go(func() {
					defer close(gone)
					d := client.Draft{To: to, Text: text, Gateway: g.name}
					if g.name == "stamphouse" {
						d.Text, d.Template, d.Fields = "", "berth", map[string]any{
							"time":  "07:40",
							"port":  "Skerrow & Pans",
							"berth": text[:min(3, len(text))],
						}
					}
					sent := h.send(d)
					if together {
						h.await(sent.ID, "it went", func(m client.Message) bool { return m.State != "queued" && m.State != "sending" })
						gone <- struct{}{}
					}
					m := h.settled(sent.ID)
					if m.State != want.state || m.Cause != want.cause {
						t.Errorf("%s, to %s: %s %s, want %s %s; %+v", g.name, to, m.State, m.Cause, want.state, want.cause, m.Evidence)
						return
					}
					if m.State == "delivered" {
						phones := h.Fleet.Phones.All(to, 50)
						if !slices.ContainsFunc(
							phones[0].Texts,
							func(shown fleet.Text) bool { return shown.Text == m.Text && shown.From == m.Sender },
						) {
							t.Errorf("%s, to %s: the handset shows %+v, want %q from %s", g.name, to, phones[0].Texts, m.Text, m.Sender)
						}
					}
				})
			}
			for ending, want := range common {
				if other, ok := g.different[ending]; ok {
					want = other
				}
				try("+4477009001"+ending, "Berth "+ending, want)
			}
			try("+447700900182", "Berth 82", g.lost)
			try("+447700900190", "Berth 90", g.before)
			try("+447700900191", "Berth 91", g.after)
			try("+447700900192", "Berth 92", g.garbled)
			try("+447700900101", greek, delivered)
			try("+447700900102", latin, delivered)
			try("+447700900103", long, delivered)
			try("+447700900104", "Τη 3", delivered)
			all.Wait()
		})
	}
	gateways.Wait()
	code := h.settled(
		h.send(
			client.Draft{To: "+447700900110", Template: "code", Fields: map[string]any{"code": "493117"}, Gateway: "stamphouse-voice"},
		).ID,
	)
	if phones := h.Fleet.Phones.All("+447700900110", 1); code.State != "delivered" || !phones[0].Texts[0].Call ||
		phones[0].Texts[0].Text != "493117 is your boarding code for Lanternholm Ferries. Do not share it." {
		t.Errorf("the call: %s, %+v", code.State, phones)
	}
	h.settled(h.send(client.Draft{To: "+447700900111", Text: "Leave the pier now", Gateway: "sandbank", Flash: true}).ID)
	if phones := h.Fleet.Phones.All("+447700900111", 1); !phones[0].Texts[0].Flash {
		t.Errorf("it was to be flashed: %+v", phones)
	}
	// A recipient that the gateway wants verified first, and a quota that is used up.
	fields := map[string]any{"time": "07:40", "port": "Skerrow", "berth": "3"}
	if m := h.settled(h.send(client.Draft{
		To: "+447700900912", Template: "berth", Fields: fields, Gateway: "stamphouse"}).ID); m.State != "rejected" ||
		m.Cause != "barred" {
		t.Errorf("not verified: %s %s", m.State, m.Cause)
	}
	h.Fleet.Stamphouse.SetQuota(0)
	over := h.send(client.Draft{To: "+447700900112", Template: "berth", Fields: fields, Gateway: "stamphouse"})
	h.await(over.ID, "the quota is used up", func(m client.Message) bool { return m.State == "queued" && m.Cause == "limited" })
	eventually(t, "the gateway rests, and says why", func() bool { // that is known a moment after the message is
		g := must[client.Gateway](t)(h.Client.Gateway(t.Context(), "stamphouse"))
		return g.Health.State == "resting" && g.Health.Cause == "limited"
	})
	must[client.Message](t)(h.Client.Cancel(t.Context(), over.ID))
	tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{}))
	var sum int64
	for _, n := range tally.States {
		sum += n
	}
	if sum != tally.Total {
		t.Errorf("%s", tally.Equation)
	}
	if p := must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{States: []string{"sending"}}, "", 10)); len(
		p.Items,
	) > 0 {
		t.Errorf("still being sent: %+v", p.Items)
	}
	t.Run("charges", func(t *testing.T) {
		for _, name := range []string{"sandbank", "longshore", "stillwater", "waxseal"} {
			p := must[client.List[client.Message]](
				t,
			)(
				h.Client.Find(t.Context(), client.Filter{Gateway: name, States: []string{"delivered"}, To: "+447700900103"}, "", 10),
			)
			m := must[client.Message](t)(h.Client.Message(t.Context(), p.Items[0].ID, false))
			i := slices.IndexFunc(m.Evidence, func(e client.Evidence) bool { return e.Source == "reply" && e.Claim == "accepted" })
			if i < 0 || m.Evidence[i].Charge == nil || m.Evidence[i].Charge.Currency != "EUR" || m.Evidence[i].Segments != m.Segments ||
				m.Segments != 3 {
				t.Errorf("%s: %d segments, and the evidence says %+v", name, m.Segments, m.Evidence[i])
			}
		}
	})
	t.Run("receipts by segment", func(t *testing.T) {
		p := must[client.List[client.Message]](
			t,
		)(
			h.Client.Find(t.Context(), client.Filter{Gateway: "waxseal", To: "+447700900103"}, "", 10),
		)
		m := must[client.Message](t)(h.Client.Message(t.Context(), p.Items[0].ID, false))
		parts := map[int]bool{}
		for _, e := range m.Evidence {
			if e.Source == "receipt" {
				parts[e.Part] = true
			}
		}
		if len(parts) != 3 {
			t.Errorf("receipts for segments %v, want one for each of 3", parts)
		}
	})
	t.Run("secrets are masked everywhere", func(t *testing.T) {
		for cursor, more := "", true; more; {
			p := must[client.List[client.Message]](t)(h.Client.Find(t.Context(), client.Filter{}, cursor, 200))
			for _, m := range p.Items {
				_, body := h.request("GET", "/v1/messages/"+m.ID+"?raw=true", "")
				for name, secrets := range practice {
					for which, secret := range secrets {
						if strings.Contains(body, secret) {
							t.Fatalf("the exchanges of a message through %s show %s of %s: %s", m.Gateway, which, name, body)
						}
					}
				}
				if strings.Contains(body, "Bearer swt-") || strings.Contains(body, `"swt-`) {
					t.Fatalf("a fetched token is shown: %s", body)
				}
			}
			cursor, more = p.Next, p.Next != ""
		}
	})
}

// Messages go in packs where a gateway takes several, each keeps its own
// outcome, and the gateway's ledger agrees.
func TestPacksKeepEachOutcome(t *testing.T) {
	t.Parallel()
	h := build(t).with("sandbank", "longshore")
	for _, name := range []string{"sandbank", "longshore"} {
		t.Run(name, func(t *testing.T) {
			must[client.Gateway](t)(h.Client.PauseGateway(t.Context(), name, "to fill the queue"))
			const n = 300
			sent := make([]client.Message, n)
			var numbers []string // but those that make a gateway stumble over the whole request
			for i := 0; len(numbers) < n; i++ {
				if i%100 <= 83 || i%100 == 88 {
					numbers = append(numbers, fmt.Sprintf("+447700900%03d", i))
				}
			}
			var all sync.WaitGroup
			gate := make(chan struct{}, 20)
			for i := range n {
				gate <- struct{}{}
				all.Go(func() {
					sent[i] = h.send(client.Draft{To: numbers[i], Text: "All Sunday crossings are cancelled.", Kind: "bulk", Gateway: name})
					<-gate
				})
			}
			all.Wait()
			must[client.Gateway](t)(h.Client.ResumeGateway(t.Context(), name))
			packed := 0
			for _, m := range sent {
				m = h.settled(m.ID)
				switch m.To[len(m.To)-2:] {
				case "81", "88":
					if m.State != "rejected" {
						t.Errorf("%s: %s", m.To, m.State)
					}
				case "80":
					if m.State != "undeliverable" {
						t.Errorf("%s: %s %+v", m.To, m.State, m.Evidence)
					}
				}
				if packed < 50 { // none of the requests looked at carried as many
					raw := must[client.Message](t)(h.Client.Message(t.Context(), m.ID, true))
					for _, e := range raw.Evidence {
						if e.Raw != nil && e.Raw.Purpose == "submit" {
							packed = max(packed, strings.Count(e.Raw.RequestBody, "447700900"))
						}
					}
				}
			}
			if packed < 50 {
				t.Errorf("a request carried %d messages", packed)
			}
			tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{Gateway: name}))
			if tally.Total != n || tally.States["delivered"] < n*8/10 {
				t.Errorf("%s", tally.Equation)
			}
			// What the gateway took is what we know or doubt to be taken.
			took := map[string]bool{}
			for _, e := range h.Fleet.Gateway(name).Entries() {
				took[e.To] = true
			}
			for i, m := range sent {
				now := must[client.Message](t)(h.Client.Message(t.Context(), m.ID, false))
				gone := !slices.Contains([]string{"rejected", "expired", "queued"}, now.State)
				if took[m.To] && !gone || !took[m.To] && gone && now.State != "unknown" {
					t.Errorf("message %d to %s is %s, and taken: %v", i, m.To, now.State, took[m.To])
				}
			}
		})
	}
}

// A token is fetched before it is needed, again before it expires, and again
// when the gateway has ended it early.
func TestTokens(t *testing.T) {
	t.Parallel()
	h := build(t).with("stillwater")
	if m := h.settled(h.send(client.Draft{To: "+447700900101", Text: "x"}).ID); m.State != "delivered" || m.Attempts != 1 {
		t.Fatalf("%s after %d attempts", m.State, m.Attempts)
	}
	issued := h.Fleet.Stillwater.Issued()
	if issued == 0 || issued > 2 {
		t.Errorf("%d tokens for one message", issued)
	}
	h.Fleet.Stillwater.Revoke()
	m := h.settled(h.send(client.Draft{To: "+447700900102", Text: "x"}).ID)
	if m.State != "delivered" {
		t.Errorf("after its token was ended: %s, %+v", m.State, m.Evidence)
	}
	if g := must[client.Gateway](t)(h.Client.Gateway(t.Context(), "stillwater")); g.Health.State != "working" {
		t.Errorf("it %s: %+v", g.Health.State, g.Health)
	}
	if m, err := h.Client.Send(t.Context(), client.Draft{To: "+447700900102", Text: "x", Sender: "Ferry"}); err == nil {
		t.Errorf("a sender that is not leased was accepted: %+v", m)
	}
}

// Why no token could be had stands in the message's evidence, raw.
func TestTokenRefused(t *testing.T) {
	t.Parallel()
	h := build(t)
	must[client.Gateway](
		t,
	)(
		h.Client.AddGateway(
			t.Context(),
			client.NewGateway{Dialect: "stillwater", Address: h.FleetURL + "/stillwater", Senders: fleet.StillwaterSenders,
				Secrets: map[string]string{"client_id": fleet.StillwaterClient, "client_secret": "of another account"}},
		),
	)
	m := h.await(h.send(client.Draft{To: "+447700900101", Text: "x"}).ID, "the credentials are refused", func(m client.Message) bool {
		return m.State == "queued" && m.Cause == "credentials_refused"
	})
	i := slices.IndexFunc(m.Evidence, func(e client.Evidence) bool { return e.Cause == "credentials_refused" })
	if raw := m.Evidence[i].Raw; raw == nil || raw.Purpose != "token" || raw.Status != 401 ||
		!strings.Contains(raw.ReplyBody, "invalid_client") ||
		strings.Contains(fmt.Sprint(raw), "of another account") {
		t.Errorf("%+v", raw)
	}
}

// A gateway out of credit or whose credentials are refused rests, says why, and
// its messages take the next gateway of their route.
func TestRoutes(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline", "longshore", "commonquay")
	must[client.Routes](t)(h.Client.PutRoutes(t.Context(), []client.Route{
		{Name: "codes", Kinds: []string{"otp"}, Gateways: []client.Leg{{Gateway: "commonquay"}}},
		{Name: "all", Gateways: []client.Leg{{Gateway: "longshore"}, {Gateway: "harbourline"}}}}))
	send := func(to, kind string) client.Message {
		return h.settled(h.send(client.Draft{To: to, Text: "Berth 3", Kind: kind}).ID)
	}
	if m := send("+447700900101", "otp"); m.Gateway != "commonquay" || m.Route != "codes" ||
		!strings.Contains(m.Evidence[0].Note, "route codes: commonquay") {
		t.Errorf("a passcode went through %s: %+v", m.Gateway, m.Evidence[0])
	}
	if m := send("+447700900102", ""); m.Gateway != "longshore" || m.Route != "all" || m.State != "delivered" {
		t.Errorf("it went through %s", m.Gateway)
	}
	h.Fleet.Longshore.SetBalance(0)
	m := send("+447700900103", "")
	notes := ""
	for _, e := range m.Evidence {
		notes += e.Note + "\n"
	}
	if m.Gateway != "harbourline" || m.State != "delivered" ||
		!strings.Contains(notes, "goes through harbourline instead: longshore (no_credit)") {
		t.Errorf("out of credit: %s through %s\n%s", m.State, m.Gateway, notes)
	}
	var g client.Gateway
	eventually(t, "longshore rests", func() bool {
		g = must[client.Gateway](t)(h.Client.Gateway(t.Context(), "longshore"))
		return g.Health.State == "resting"
	})
	if g.Health.Cause != "no_credit" || g.Health.Advice == "" {
		t.Errorf("it rests: %+v", g.Health)
	}
	if m := send("+447700900104", ""); m.Gateway != "harbourline" || !strings.Contains(m.Evidence[0].Note, "longshore rests (no_credit)") {
		t.Errorf("while it rests: through %s, %q", m.Gateway, m.Evidence[0].Note)
	}
	h.Fleet.Longshore.SetBalance(100)
	must[client.Gateway](t)(h.Client.PauseGateway(t.Context(), "harbourline", "for a look"))
	if m := send("+447700900105", ""); m.Gateway != "longshore" || m.State != "delivered" {
		t.Errorf("topped up, and the other paused: %s through %s", m.State, m.Gateway)
	}
	eventually(t, "longshore works again", func() bool {
		return must[client.Gateway](t)(h.Client.Gateway(t.Context(), "longshore")).Health.State == "working"
	})
	// What waits for a gateway that is paused takes the next one.
	must[client.Gateway](t)(h.Client.PauseGateway(t.Context(), "longshore", ""))
	waits := h.send(client.Draft{To: "+447700900106", Text: "x"})
	if waits.State != "queued" {
		t.Fatalf("both are paused, and it is %s", waits.State)
	}
	must[client.Gateway](t)(h.Client.ResumeGateway(t.Context(), "harbourline"))
	w := must[client.Weighing](t)(h.Client.Rehearse(t.Context(), client.Draft{To: "+447700900106", Text: "x"}))
	if r := w.Recipients[0]; r.Gateway != "harbourline" ||
		!strings.Contains(r.Why, "route all: longshore, then harbourline; longshore is paused") {
		t.Errorf("rehearsed through %s: %s", r.Gateway, r.Why)
	}
	if m := h.settled(waits.ID); m.Gateway != "harbourline" || m.State != "delivered" {
		t.Errorf("%s through %s", m.State, m.Gateway)
	}
	if err := h.Client.RemoveGateway(t.Context(), "longshore"); err == nil || !strings.Contains(err.Error(), "route all") {
		t.Errorf("a gateway that a route names was removed: %v", err)
	}
	must[client.Routes](t)(h.Client.PutRoutes(t.Context(), nil))
	if err := h.Client.RemoveGateway(t.Context(), "longshore"); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Client.Gateway(t.Context(), "longshore"); err == nil {
		t.Error("it is still there")
	}
	h.with("longshore") // its name is free
	if m := h.settled(h.send(client.Draft{To: "+447700900107", Text: "x", Gateway: "longshore"}).ID); m.State != "delivered" {
		t.Errorf("through the new one: %s", m.State)
	}
	old := must[client.Message](t)(h.Client.Message(t.Context(), m.ID, false))
	if old.State != "delivered" {
		t.Errorf("what went before is %s", old.State)
	}
}

// What is changed of a gateway holds from the next request on; credentials that
// were wrong and are set right end its rest.
func TestGatewayIsChanged(t *testing.T) {
	t.Parallel()
	h := build(t)
	must[client.Gateway](
		t,
	)(
		h.Client.AddGateway(
			t.Context(),
			client.NewGateway{Dialect: "commonquay", Address: h.FleetURL + "/commonquay", Secrets: map[string]string{"key": "wrong"}},
		),
	)
	m := h.send(client.Draft{To: "+447700900101", Text: "x"})
	eventually(t, "it rests", func() bool {
		return must[client.Gateway](t)(h.Client.Gateway(t.Context(), "commonquay")).Health.Cause == "credentials_refused"
	})
	per := 3
	changed := must[client.Gateway](
		t,
	)(
		h.Client.ChangeGateway(t.Context(), "commonquay", client.GatewayChange{Secrets: practice["commonquay"], PerSecond: &per}),
	)
	if changed.PerSecond != 3 || changed.InFlight != 8 {
		t.Errorf("changed to %+v", changed)
	}
	if m := h.settled(m.ID); m.State != "delivered" {
		t.Errorf("with the right key: %s", m.State)
	}
}

// What people write back to a number is kept, once, through whichever gateway it
// comes; to a name nobody can write.
func TestInbound(t *testing.T) {
	t.Parallel()
	gateways := []string{"harbourline", "sandbank", "longshore", "oldpier", "commonquay", "stamphouse", "waxseal"}
	h := build(t).with(gateways...)
	const own = "+447700900000"
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: own, TwoWay: true}))
	must[client.Template](t)(h.Client.AddTemplate(t.Context(), client.TemplateFile{Source: `name: code
language: en
texts: {en: "{code} is your boarding code for Lanternholm Ferries. Do not share it."}
registered: [{country: GB, gateway: stamphouse, id: LH-4102, wording: "{} is your boarding code for Lanternholm Ferries. Do not share it."}]
`}))
	write := func(number, text string) int {
		t.Helper()
		response, err := http.Post(
			h.FleetURL+"/phones/"+number+"/reply",
			"application/json",
			strings.NewReader(fmt.Sprintf(`{"text":%q}`, text)),
		)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		return response.StatusCode
	}
	for i, gateway := range gateways {
		number := fmt.Sprintf("+4477009001%02d", i+1)
		d := client.Draft{To: number, Text: "Berth 3?", Sender: own, Gateway: gateway}
		if gateway == "stamphouse" {
			d.Text, d.Template, d.Fields = "", "code", map[string]any{"code": "1234"}
		}
		if m := h.settled(h.send(d).ID); m.State != "delivered" {
			t.Errorf("through %s: %s, %s", gateway, m.State, m.Cause)
		}
		if status := write(number, "Yes, ναι & <3"); status != http.StatusNoContent {
			t.Errorf("to %s: answered %d", gateway, status)
		}
	}
	var page client.List[client.Inbound]
	eventually(t, "all came in", func() bool {
		page = must[client.List[client.Inbound]](t)(h.Client.Inbound(t.Context(), ""))
		return len(page.Items) == len(gateways)
	})
	for _, in := range page.Items {
		digits := func(s string) string { return strings.TrimLeft(strings.TrimPrefix(s, "tel:"), "+") }
		i := slices.Index(gateways, in.Gateway)
		if i < 0 || digits(in.From) != fmt.Sprintf("4477009001%02d", i+1) || digits(in.To) != digits(own) || in.Text != "Yes, ναι & <3" ||
			in.GatewayRef == "" || in.GatewayAt == nil {
			t.Errorf("%+v", in)
		}
	}
	h.settled(h.send(client.Draft{To: "+447700900109", Text: "Berth 3?", Sender: "Lanternholm", Gateway: "harbourline"}).ID)
	if status := write("+447700900109", "Yes"); status != http.StatusConflict {
		t.Errorf("to a name: answered %d", status)
	}
}

// Every misbehaviour against what must happen: whatever a gateway does, no
// message is sent twice by accident and none is unaccounted for.
func TestMisbehaviour(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline", "longshore", "oldpier", "waxseal")
	for i, how := range []struct {
		name  string
		times int
		want  []string // states that it may end in
	}{
		{"slow", 2, []string{"delivered"}}, {"500", 2, []string{"delivered"}}, {"429", 2, []string{"delivered"}}, {"429 without Retry-After", 2, []string{"delivered"}},
		{"cut before taking", 1, []string{"delivered", "unknown"}}, {"cut after taking", 1, []string{"delivered", "unknown"}},
		{"reply never comes", 1, []string{"delivered", "unknown"}}, {"unreadable reply", 1, []string{"delivered", "unknown"}},
		{"no credit", 1, []string{"delivered"}}, {"credentials expired", 1, []string{"delivered"}},
		{"receipt lost", 1, []string{"delivered"}}, {"receipt twice", 1, []string{"delivered"}}, {"receipts late", 1, []string{"delivered"}},
		{"receipts backwards", 1, []string{"delivered"}}, {"forged receipt", 1, []string{"delivered"}}, {"wrong segments", 1, []string{"delivered"}},
	} {
		t.Run(how.name, func(t *testing.T) {
			h.Fleet.Behave()
			var moods []fleet.Mood
			names := []string{"harbourline", "longshore", "oldpier", "waxseal"}
			for _, name := range names {
				moods = append(moods, fleet.Mood{Gateway: name, How: how.name, Times: how.times})
			}
			if err := h.Fleet.Misbehave(moods...); err != nil {
				t.Fatal(err)
			}
			var all sync.WaitGroup
			for j, name := range names {
				all.Go(func() {
					to := fmt.Sprintf("+44770090%02d%02d", i+20, j)
					m := h.settled(h.send(client.Draft{To: to, Text: "Berth " + how.name, Gateway: name}).ID)
					if !slices.Contains(how.want, m.State) {
						t.Errorf("%s: %s, want %v; %+v", name, m.State, how.want, m.Evidence)
					}
					arrived := 0
					for _, phone := range h.Fleet.Phones.All(to, 10) {
						arrived += len(phone.Texts)
					}
					if arrived > 1 {
						t.Errorf("%s: it arrived %d times", name, arrived)
					}
				})
			}
			all.Wait()
		})
	}
	h.Fleet.Behave()
	t.Run("clock skew", func(t *testing.T) {
		if err := h.Fleet.Misbehave(fleet.Mood{Gateway: "waxseal", How: "clock skew", For: "1500ms"}); err != nil {
			t.Fatal(err)
		}
		if m := h.settled(h.send(client.Draft{To: "+447700900150", Text: "x", Gateway: "waxseal"}).ID); m.State != "delivered" ||
			m.Attempts < 2 {
			t.Errorf("%s after %d attempts", m.State, m.Attempts)
		}
	})
}

// The statement of a gateway can be fetched and read: its lines are what its
// ledger says.
func TestStatementIsFetchedAndRead(t *testing.T) {
	t.Parallel()
	h := build(t).with("waxseal")
	sent := map[string]bool{}
	for i := range 3 {
		sent[h.settled(h.send(client.Draft{To: fmt.Sprintf("+4477009001%02d", i), Text: strings.Repeat("x", 200)}).ID).ID] = true
	}
	d := must[*dialect.Dialect](t)(dialect.Load("waxseal.yaml", must[[]byte](t)(dialects.Source("waxseal"))))
	now := time.Now()
	r := must[dialect.Request](
		t,
	)(
		d.StatementRequest(
			now.Add(-time.Hour),
			now.Add(time.Hour),
			dialect.Means{Secrets: practice["waxseal"], Base: "/waxseal", Now: now},
		),
	)
	request := must[*http.Request](t)(http.NewRequestWithContext(t.Context(), r.Method, h.FleetURL+"/waxseal"+r.Path, nil))
	for name, value := range r.Header {
		request.Header.Set(name, value)
	}
	response := must[*http.Response](t)(http.DefaultClient.Do(request))
	defer response.Body.Close()
	n := 0
	for item, err := range d.ReadStatement(response.Body) {
		if err != nil {
			t.Fatal(err)
		}
		n++
		if !sent[item.Reference] || item.State != "delivered" || item.Segments != 2 || item.Charge.Micros != 66_000 || item.At.IsZero() {
			t.Errorf("a line reads as %+v", item)
		}
	}
	if n != 3 {
		t.Errorf("%d lines", n)
	}
}

// That a gateway rests, and why, outlives a restart, and so does its recovery.
func TestRestOutlivesARestart(t *testing.T) {
	t.Parallel()
	h := build(t).with("longshore")
	h.Fleet.Longshore.SetBalance(0)
	m := h.send(client.Draft{To: "+447700900101", Text: "x"})
	state := func(want string) {
		t.Helper()
		eventually(t, "it is "+want, func() bool {
			return must[client.Gateway](t)(h.Client.Gateway(t.Context(), "longshore")).Health.State == want
		})
	}
	state("resting")
	h.await(m.ID, "it waits", func(m client.Message) bool { return m.State == "queued" && m.Cause == "no_credit" })
	h.kill()
	h.restart()
	if g := must[client.Gateway](t)(h.Client.Gateway(t.Context(), "longshore")); g.Health.State != "resting" ||
		g.Health.Cause != "no_credit" {
		t.Errorf("after a restart: %+v", g.Health)
	}
	h.Fleet.Longshore.SetBalance(10)
	if m := h.settled(m.ID); m.State != "delivered" {
		t.Errorf("topped up: %s", m.State)
	}
	state("working")
}
