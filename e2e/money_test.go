package e2e

import (
	"fmt"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
)

// sum adds amounts up, of one currency.
func sum(t *testing.T, all ...*client.Money) string {
	t.Helper()
	total := new(big.Rat)
	for _, m := range all {
		if m == nil {
			continue
		}
		r, ok := new(big.Rat).SetString(m.Amount)
		if !ok || m.Currency != "EUR" {
			t.Fatalf("%v is no amount of euros", m)
		}
		total.Add(total, r)
	}
	return total.FloatString(6)
}

// one is the only sum of several, in six places.
func one(t *testing.T, all []client.Money) string {
	t.Helper()
	if len(all) > 1 {
		t.Fatalf("%v are sums of several currencies", all)
	}
	var some []*client.Money
	for i := range all {
		some = append(some, &all[i])
	}
	return sum(t, some...)
}

// What messages cost comes to what each of them costs: estimated, told by the gateway, billed by statements, of which
// several may bill for the same; and in Chromium it can be read and followed to the messages.
func TestMoney(t *testing.T) {
	t.Parallel()
	h := build(t).with("waxseal", "harbourline")
	must[client.PriceList](t)(h.Client.PutPrices(t.Context(), "waxseal", client.PricesFile{
		Source: "country,prefix,kind,per,price,currency,from\nGB,,,segment,0.030,EUR,2026-01-01\n"}, false))
	curly := "Today’s crossing leaves from berth 3. Please be at the gate a quarter of an hour before, with your boarding pass."
	var messages []client.Message
	for i := range 12 {
		text := "Berth 3"
		if i == 0 {
			text = curly
		}
		m := h.send(client.Draft{To: fmt.Sprintf("+4477009001%02d", i), Text: text, Gateway: "waxseal"})
		messages = append(messages, h.settled(m.ID))
	}
	h.settled(h.send(client.Draft{To: "+447700900181", Text: "Berth 3", Gateway: "waxseal"}).ID) // refused: it costs nothing
	unpriced := h.settled(h.send(client.Draft{To: "+447700900120", Text: "Berth 3", Gateway: "harbourline"}).ID)
	if unpriced.Price != nil || unpriced.Charged != nil {
		t.Errorf("it costs %v, and was charged %v", unpriced.Price, unpriced.Charged)
	}
	var estimated, told []*client.Money
	for _, m := range messages {
		estimated, told = append(estimated, m.Price), append(told, m.Charged)
	}
	ask := func(by ...string) client.Accounts {
		t.Helper()
		return must[client.Accounts](t)(h.Client.Accounts(t.Context(), client.Filter{Since: messages[0].CreatedAt}, by...))
	}
	a := ask("gateway", "country", "month")
	if len(a.Groups) != 2 || a.Groups[0].Gateway != "waxseal" || a.Groups[0].Country != "GB" || a.Groups[0].At == nil {
		t.Fatalf("%+v", a.Groups)
	}
	w := a.Groups[0]
	if w.Messages != 12 || one(t, w.Estimated) != sum(t, estimated...) || one(t, w.Estimated) != "0.390000" {
		t.Errorf("%d messages are estimated at %v, want %s", w.Messages, w.Estimated, sum(t, estimated...))
	}
	if w.Told.Messages != 12 || w.Told.Compared != 12 || one(t, w.Told.Charged) != sum(t, told...) ||
		one(t, w.Told.Charged) != "0.429000" || one(t, w.Told.Over) != "0.039000" {
		t.Errorf("told %+v, want %s", w.Told, sum(t, told...))
	}
	if w.AvoidableMessages != 1 || one(t, w.Avoidable) != "0.030000" {
		t.Errorf("%d messages cost %v too much", w.AvoidableMessages, w.Avoidable)
	}
	if other := a.Groups[1]; other.Messages != 1 || other.Unpriced != 1 || len(other.Estimated) != 0 || other.Told.Messages != 0 {
		t.Errorf("without a price: %+v", other)
	}
	needs := must[client.Attention](t)(h.Client.Attention(t.Context()))
	dear := ""
	for _, n := range needs.Items {
		if n.What == "charges_above" {
			dear = n.Gateway + ": " + n.Why
		}
	}
	if want := "waxseal: United Kingdom: 0.429 EUR charged for 12 messages that were estimated at 0.39 EUR, 10 % more."; dear != want {
		t.Errorf("attention says %q, want %q", dear, want)
	}

	bill := func(name, price string, of ...client.Message) client.Statement {
		var lines []string
		for _, m := range of {
			lines = append(
				lines,
				line{id: m.GatewayRef, to: m.To, sent: m.CreatedAt.Format(time.RFC3339), parts: fmt.Sprint(m.Segments), status: "3",
					price: price}.String(),
			)
		}
		lines = append(
			lines,
			line{id: "wx-foreign", to: "+33639980001", sent: of[0].CreatedAt.Format(time.RFC3339), parts: "1", status: "3",
				price: "0.2"}.String(),
		)
		return h.taken(name, file(lineHead, lines), client.StatementHint{Gateway: "waxseal"})
	}
	billed := func(n int64, want, foreign string) {
		t.Helper()
		a := ask("country")
		if a.All.Billed == nil || a.All.Billed.Messages != n || one(t, a.All.Billed.Charged) != want || one(t, a.All.Foreign) != foreign {
			t.Errorf("billed %+v, foreign %v; want %d messages for %s, and %s", a.All.Billed, a.All.Foreign, n, want, foreign)
		}
	}
	billed(0, "0.000000", "0.000000")
	first := bill("first.csv", "0.05", messages[:6]...)
	billed(6, "0.300000", "0.200000")
	second := bill("second.csv", "0.04", messages[:9]...) // six of them were billed before
	billed(9, "0.420000", "0.400000")
	for _, g := range ask("country").Groups {
		if g.Country == "FR" && (g.ForeignLines != 2 || one(t, g.Foreign) != "0.400000" || g.Messages != 0) {
			t.Errorf("of no message: %+v", g)
		}
	}
	must[client.Statement](t)(h.Client.WithdrawStatement(t.Context(), first.ID, "the wrong month"))
	h.statement(first.ID, "withdrawn")
	billed(9, "0.360000", "0.200000")
	if kinds := ask("kind"); kinds.All.Billed != nil || kinds.Groups[0].Billed != nil || kinds.All.Messages != 13 {
		t.Errorf("statements do not tell kinds apart: %+v", kinds.All)
	}

	for query, want := range map[string]string{
		"by=colour":          "month, day, gateway, country, kind; several with commas between",
		"to=%2B447700900123": "by, country, gateway, kind, since, until",
		"since=2026-02-01T00:00:00Z&until=2026-01-01T00:00:00Z": "a later time",
		"since=1990-01-01T00:00:00Z":                            "ten years at most",
	} {
		if r, body := h.request("GET", "/v1/money?"+query, ""); r.StatusCode != 422 || !strings.Contains(body, want) {
			t.Errorf("%s: %s, %s", query, r.Status, body)
		}
	}
	if code, out, _ := h.pigeon("", "money", "--by", "gateway,country"); code != 0 || !strings.Contains(out, "+0.0390") ||
		!strings.Contains(out, "Characters such as curly quotes cost 0.03 EUR of the estimate, in 1 message") {
		t.Errorf("%d\n%s", code, out)
	}
	if code, out, _ := h.pigeon("", "money", "--output", "csv"); code != 0 ||
		!strings.Contains(out, "waxseal,EUR,12,0.39,0,12,0.429,0.039,9,0.36,") {
		t.Errorf("%d\n%s", code, out)
	}
	if code, _, errOut := h.pigeon("", "money", "--month", "2026-13"); code == 0 ||
		!strings.Contains(errOut, "accepted is one such as 2026-10") {
		t.Errorf("%d\n%s", code, errOut)
	}

	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/money#key=" + h.Key))
	b.shows("h1", "13 messages for 0.39 EUR, and more was charged than estimated")
	b.shows(".accounts tbody", "+0.0390")
	b.shows(".remarks", "Characters such as curly quotes cost 0.03 EUR of the estimate, in 1 message")
	b.do(chromedp.Click(`.accounts tbody tr:first-child td a[href^="/money"]`)) // only this gateway, by country
	b.shows(".accounts thead", "Country")
	b.do(chromedp.Click(`.accounts tbody tr:first-child td a[href^="/messages"]`))
	b.shows(".tally .sum", "13 messages = 12 delivered + 1 rejected")
	must[client.Statement](t)(h.Client.WithdrawStatement(t.Context(), second.ID, "again"))
	h.statement(second.ID, "withdrawn")
	billed(0, "0.000000", "0.000000")
}
