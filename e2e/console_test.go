package e2e

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet"
)

// chromium is the one that all tests share: to start one for each of them costs
// more than most of them do. Nothing runs before the first test that needs it.
var chromium func() (context.Context, error)

// prepareChromium says where it will keep its profile; what is returned ends it.
func prepareChromium(profile string) (end func()) {
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"),
		chromedp.NoSandbox,
		chromedp.UserDataDir(profile),
		chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-gpu", true),
		chromedp.Flag("disable-component-update", true),
	)
	ctx, closeAll := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, closeBrowser := chromedp.NewContext(ctx)
	chromium = sync.OnceValues(func() (context.Context, error) { return ctx, chromedp.Do(ctx) })
	return func() { closeBrowser(); closeAll() }
}

// browser is a window of Chromium with nothing in it from any other: no cookies,
// no storage, no cache. It records every address that is asked for.
type browser struct {
	t   testing.TB
	ctx context.Context

	mu    sync.Mutex
	asked []string
}

func open(t testing.TB) *browser {
	t.Helper()
	ctx, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	ctx, closeTab := chromedp.NewContext(ctx, chromedp.WithNewBrowserContext())
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	t.Cleanup(func() { cancel(); closeTab() })
	b := &browser{t: t, ctx: ctx}
	b.do(chromedp.EmulateViewport(1280, 800))
	requests := chromedp.Events(ctx, network.RequestWillBeSent)
	if _, err := chromedp.Call(ctx, network.Enable, network.EnableParams{}); err != nil {
		t.Fatal(err)
	}
	go func() {
		for e, err := range requests {
			if err != nil {
				return
			}
			b.mu.Lock()
			b.asked = append(b.asked, e.Request.URL)
			b.mu.Unlock()
		}
	}()
	return b
}

// addresses lists every address that was asked for.
func (b *browser) addresses() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Clone(b.asked)
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	if err := chromedp.Do(b.ctx, steps...); err != nil {
		b.t.Fatalf("%v; the page says:\n%s", err, b.text("body"))
	}
}

// press presses something wherever it is by then, also where it moves.
func (b *browser) press(selector string) {
	b.t.Helper()
	if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf("document.querySelector(%q).click(), true", selector))); err != nil {
		b.t.Fatal(err)
	}
}

// text is what the first of these shows by now; nothing if there is none. It asks
// but once: it is called again and again until something is there.
func (b *browser) text(selector string) string {
	text, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string](fmt.Sprintf(`document.querySelector(%q)?.innerText ?? ""`, selector)))
	return text
}

func (b *browser) shows(selector, want string) {
	b.t.Helper()
	eventually(b.t, selector+" shows "+want, func() bool { return strings.Contains(b.text(selector), want) })
}

// write replaces what stands in a field, key by key. A page that is still being built may take the keyboard away
// meanwhile; then it is written again, as anybody would.
func (b *browser) write(selector, text string) {
	b.t.Helper()
	for range 5 {
		b.do(chromedp.WaitVisible(selector), chromedp.Focus(selector))
		choose := fmt.Sprintf("document.querySelector(%q).select?.(), true", selector)
		if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](choose)); err != nil {
			b.t.Fatal(err)
		}
		b.do(chromedp.KeyEvent(text))
		if strings.HasSuffix(text, "\r") { // the field may be gone
			return
		}
		stands, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf(
			"(e => !(e instanceof HTMLInputElement || e instanceof HTMLTextAreaElement) || e.value.includes(%q))(document.querySelector(%q))",
			text, selector)))
		if err != nil {
			b.t.Fatal(err)
		}
		if stands {
			return
		}
	}
}

func TestConsoleSendsAndShowsItDelivered(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: "LH Boarding"}))
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/messages#key=" + h.Key))
	b.shows("main", "Messages appear here as soon as they are handed over")
	if address, err := chromedp.Run(b.ctx, chromedp.Location()); err != nil || strings.Contains(address, "pigeon_") {
		t.Errorf("the key stays in the address: %s %v", address, err)
	}

	b.do(chromedp.Click(`a[href="/send"]`))
	b.write("#to", "07700900123")
	b.write("#text", "Crossing 0740 now leaves from berth 3")
	b.do(chromedp.Click(`button[type=submit]`))
	b.shows("#to-fault", "no country code in front")
	b.write("#to", "+44 7700 900123")
	b.write("#sender", "LH")
	b.do(chromedp.Click(`button[type=submit]`))
	b.shows("main", "delivered")
	b.shows("main", "On the practice phone")
	if phones := h.Fleet.Phones.All("+447700900123", 5); len(phones) != 1 ||
		phones[0].Texts[0].Text != "Crossing 0740 now leaves from berth 3" {
		t.Errorf("the handset shows %+v", phones)
	}
	if tally := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{})); tally.Total != 1 {
		t.Errorf("%s after one click that was good", tally.Equation)
	}

	b.do(chromedp.Click(`section a[href^="/messages/"]`))
	b.shows(".ledger", "LANDED")
	b.do(chromedp.Click(`.ledger button.unfold`))
	b.shows(".exchange", "authorization: Bearer ‹api_key›")

	// The list is live: what is sent elsewhere appears by itself.
	b.do(chromedp.Click(`nav a[href="/messages"]`))
	b.shows("h1", "All is well")
	h.send(client.Draft{To: "+447700900180", Text: "switched off", Reference: "storm"})
	b.shows(".messages", "undeliverable")
	b.shows(".tally", "2 messages = 1 delivered + 1 undeliverable")
	b.shows("h1", "1 did not arrive")
	b.do(chromedp.Click(`.sum a.wrong`))
	eventually(t, "the tally's number leads to what it counts", func() bool {
		return !strings.Contains(b.text(".messages tbody"), "delivered\n") && strings.Contains(b.text(".messages tbody"), "absent")
	})

	b.mu.Lock()
	defer b.mu.Unlock()
	if i := slices.IndexFunc(b.asked, func(asked string) bool {
		u, err := url.Parse(asked)
		return err != nil || u.Scheme != "data" && u.Scheme+"://"+u.Host != h.URL
	}); i >= 0 {
		t.Errorf("the console asks elsewhere: %s", b.asked[i])
	}
	if len(b.asked) == 0 {
		t.Error("no request was seen")
	}
}

func TestConsoleSignsInAndOut(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	b := open(t)
	b.do(chromedp.Navigate(h.URL))
	b.write("#key", "pigeon_aaaaaaaa_guess")
	b.do(chromedp.Click("button[type=submit]"))
	b.shows("[role=alert]", "is not in use")
	b.write("#key", h.Key+"\r")
	b.shows("nav", "Messages")
	if stored, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.cookie + JSON.stringify(localStorage)`)); err != nil ||
		strings.Contains(stored, "pigeon_") {
		t.Errorf("a script can read the key: %s %v", stored, err)
	}
	b.do(chromedp.Click("nav .foot button:last-child"), chromedp.WaitVisible("#key"))
	b.do(chromedp.Reload(), chromedp.WaitVisible("#key"))
}

func TestConsolePagesAndSearches(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	var last client.Message
	for range 30 {
		last = h.send(client.Draft{To: "+447700900123", Text: "x"})
	}
	other := h.send(client.Draft{To: "+447700900124", Text: "another", Reference: "storm-sunday"})
	b := open(t)
	b.do(chromedp.Navigate(h.URL+"/messages#key="+h.Key), chromedp.WaitVisible(".messages"))
	rows := func() int {
		n, err := chromedp.Run(b.ctx, chromedp.Evaluate[int](`document.querySelectorAll(".messages tbody tr").length`))
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	eventually(t, "a page of 25", func() bool { return rows() == 25 })
	b.do(chromedp.Click(".pager button"))
	eventually(t, "the rest of 31", func() bool { return rows() == 6 })
	b.do(chromedp.Click(".pager button"))
	eventually(t, "the first page again", func() bool { return rows() == 25 })
	// The slash leads to the search box.
	b.do(chromedp.KeyEvent("/"))
	b.write(":focus", "storm-sunday\r")
	eventually(t, "the one with the reference", func() bool { return rows() == 1 && strings.Contains(b.text(".messages"), other.To) })
	b.write(".search", "+44 7700 900123\r")
	eventually(t, "those to the number", func() bool { return rows() == 25 })
	b.write(".search", last.ID+"\r")
	b.shows(".facts", last.ID)
}

// A browser opens six connections to a host. Eight tabs of the console all show what
// happens nevertheless: they share one stream.
func TestEightTabsAreLive(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	h.send(client.Draft{To: "+447700900120", Text: "the first"})
	b := open(t)
	b.do(chromedp.Navigate(h.URL+"/messages#key="+h.Key), chromedp.WaitVisible(".messages"))
	tabs := []*browser{b}
	for range 7 {
		ctx, closeTab := chromedp.NewContext(b.ctx)
		t.Cleanup(closeTab)
		tab := &browser{t: t, ctx: ctx}
		tab.do(chromedp.Navigate(h.URL+"/messages"), chromedp.WaitVisible(".messages"))
		tabs = append(tabs, tab)
	}
	h.send(client.Draft{To: "+447700900121", Text: "the second"})
	for i, tab := range tabs {
		eventually(
			t,
			fmt.Sprintf("tab %d shows the second", i+1),
			func() bool { return strings.Contains(tab.text(".messages"), "the second") },
		)
	}
}

func TestPracticePhoneIsLive(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	b := open(t)
	b.do(chromedp.Navigate(h.FleetURL + "/phone"))
	b.shows("#screen", "Nothing has arrived yet")
	h.send(client.Draft{To: "+447700900123", Text: "Το πλοίο των 07:40 φεύγει από την προβλήτα 3"})
	b.shows("#screen", "Το πλοίο των 07:40 φεύγει από την προβλήτα 3")
	b.shows("#numbers", "+447700900123")
}

// The writing box weighs while one types, marks who is to blame in place, and
// a click cures; what is sent is what it said.
func TestConsoleWritingBox(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	must[client.PriceList](t)(h.Client.PutPrices(t.Context(), "harbourline", client.PricesFile{Source: prices}, false))
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/messages#key=" + h.Key))
	b.do(chromedp.Click(`a[href="/send"]`))
	b.write("#text", strings.Repeat("a", 70))
	b.shows("#text-sum", "1 segment of GSM 7-bit: 70 units, 90 left")
	b.do(chromedp.KeyEvent("’"))
	b.shows("#text-sum", "2 segments of UCS-2: 71 units, 63 left of 67")
	b.shows(".marks mark", "’")
	b.shows(".blame", "forces UCS-2")
	b.write("#to", "+44 (0) 7700 900123")
	b.shows(".verdict", "United Kingdom, mobile")
	b.shows(".verdict", "dropped the trunk 0")
	b.shows(".verdict", "0.08 EUR through harbourline")
	b.shows(".verdict", "may go, by the rule GB of 2026-11-01")
	b.shows(".cure", "1 segment instead of 2, saves 0.04 EUR")
	b.do(chromedp.Click(`.blame button`))
	b.shows("#text-sum", "1 segment of GSM 7-bit: 71 units")
	b.do(chromedp.Focus("#text"), chromedp.KeyEvent("–"))
	b.shows(".marks mark", "–")
	b.do(chromedp.Click(`.marks mark`)) // cured where it stands
	b.shows("#text-sum", "1 segment of GSM 7-bit: 72 units")
	b.shows(".verdict", "0.04 EUR")

	// A recipient whose country takes no names: it says so before anything goes.
	b.write("#to", "+12025550143")
	b.shows("main", "takes no alphanumeric senders such as Lanternholm")
	b.do(chromedp.Click(`button[type=submit]`))
	b.shows("#sender-fault, .fault", "none in use can be chosen")
	b.write("#to", "+447700900123")
	b.shows(".verdict", "0.04 EUR")
	b.press(`button[type=submit]`) // what was said of the number before gives way, and moves it
	b.shows("main", "On the practice phone")
	if phones := h.Fleet.Phones.All("+447700900123", 5); len(phones) != 1 || phones[0].Texts[0].Text != strings.Repeat("a", 70)+"'-" {
		t.Errorf("the handset shows %+v", phones)
	}
	b.do(chromedp.Click(`section a[href^="/messages/"]`))
	b.shows(".facts", "0.04 EUR")
	b.shows(".strips", "aaa")
}

// Templates, senders, countries and prices are kept in the console, and hold
// at once.
func TestConsoleKeepsTheBook(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/messages#key=" + h.Key))
	b.do(chromedp.Click(`a[href="/templates"]`))
	b.shows("main", "There is no template yet")
	b.do(chromedp.Click(`main button`))
	b.write("#name", "berth")
	b.write("#text", "Crossing {time} leaves from berth {berth}.")
	b.shows(".fields", "berth")
	b.shows(".strips", "Crossing time leaves from berth berth.")
	b.do(chromedp.Click(`button[type=submit]`))
	b.shows("h1", "berth")
	b.do(chromedp.Click(`p > button.plain`))
	b.write("#data", "time,berth\n07:40,3\n19:05,\n")
	b.do(chromedp.Click(`#data ~ button`))
	b.shows("main", "2 rows, 1 segment in all. 1 cannot be sent.")
	b.shows("main", "row 2, berth: it is missing")
	b.do(chromedp.Click(`a[href="/send?template=berth"]`))
	b.write("#to", "+447700900123")
	b.write("#field-time", "07:40")
	b.shows("main", "it is missing")
	b.write("#field-berth", "3")
	b.shows(".strips", "Crossing 07:40 leaves from berth 3.")
	b.do(chromedp.Click(`button[type=submit]`))
	b.shows("main", "On the practice phone")

	b.do(chromedp.Click(`a[href="/senders"]`))
	b.shows("main", "Lanternholm")
	b.do(chromedp.Click(`.page > button`))
	b.write("#sender", "LanternholmS")
	b.shows("#sender-count", "12 of 11 characters, 1 too many")
	b.do(chromedp.Click(`button[type=submit]`))
	b.shows("#sender-fault", "12 characters, at most 11")
	b.write("#sender", "LH Boarding")
	b.write("#registrations", "IE=IE-7")
	b.do(chromedp.Click(`button[type=submit]`))
	b.shows("table", "IE IE-7")

	b.do(chromedp.Click(`a[href="/countries"]`))
	b.write(`input[type=search]`, "Zealand")
	b.shows("table", "New Zealand")
	b.do(chromedp.Click(`button[aria-label="Change New Zealand"]`))
	b.write("#alphanumeric", "open")
	b.write("#origin", "the gateway")
	b.do(chromedp.Click(`.narrow button[type=submit]`))
	b.shows("table", "by first")
	if rule := must[client.Rule](t)(h.Client.Rule(t.Context(), "NZ")); rule.Alphanumeric != "open" || rule.Origin != "the gateway" ||
		rule.ChangedBy != "first" {
		t.Errorf("the rule is %+v", rule)
	}

	b.do(chromedp.Click(`a[href="/prices"]`))
	b.shows("main", "It has no price list")
	b.do(chromedp.Click(`section button`))
	b.write("#csv-harbourline", "country,price,currency\nGB,free,EUR")
	b.do(chromedp.Click(`.narrow button[type=submit]`))
	b.shows(".fault", `line 2: price "free"`)
	b.write("#csv-harbourline", "country,price,currency\nGB,0.04,EUR")
	b.do(chromedp.Click(`.narrow button[type=submit]`))
	b.shows("table", "0.04")
	if m := h.send(client.Draft{To: "+447700900123", Text: "x"}); m.Price == nil || m.Price.String() != "0.04 EUR" {
		t.Errorf("a message costs %v", m.Price)
	}
	for _, address := range b.addresses() {
		if !strings.HasPrefix(address, h.URL) && !strings.HasPrefix(address, "data:") && !strings.HasPrefix(address, "blob:") {
			t.Errorf("the console asked for %s", address)
		}
	}
}

func TestConsoleGateways(t *testing.T) {
	t.Parallel()
	h := build(t).with("harbourline", "sandbank")
	b := open(t)
	b.do(chromedp.Navigate(h.URL+"/messages#key="+h.Key), chromedp.WaitVisible("nav"))
	b.do(chromedp.Click(`a[href="/gateways"]`))
	b.shows("main", "All 2 gateways work.")
	button := func(label string) {
		t.Helper()
		eventually(t, "button "+label, func() bool {
			pressed, err := chromedp.Run(
				b.ctx,
				chromedp.Evaluate[bool](
					fmt.Sprintf(
						`(() => { const b = [...document.querySelectorAll("button")]
							.find(b => b.textContent.trim() === %q && !b.disabled); b?.click(); return !!b; })()`,
						label,
					),
				),
			)
			return err == nil && pressed
		})
	}
	b.do(chromedp.Click(`a[href="/gateways/sandbank"]`))
	b.shows("h1", "working")
	button("Test its credentials")
	b.shows(".trial", "The credentials are accepted")
	b.shows(".trial", "‹password›")
	button("Pause")
	b.shows("h1", "paused")
	button("Resume")
	b.shows("h1", "working")
	button("Change")
	b.write("#per_second", "0")
	button("Save")
	b.shows(".fault", "out of range")
	b.write("#per_second", "17")
	button("Save")
	b.shows(".facts", "17 a second")
	// What somebody else changes while one writes is not written over.
	button("Change")
	b.do(chromedp.Click("#per_second"))
	per := 9
	must[client.Gateway](t)(h.Client.ChangeGateway(t.Context(), "sandbank", client.GatewayChange{PerSecond: &per}))
	b.write("#per_second", "21")
	button("Save")
	b.shows("main", "Somebody else has changed this meanwhile")
	b.do(chromedp.Reload())
	b.shows(".facts", "9 a second")
	b.do(chromedp.Click(`main a[href="/gateways"]`))
	button("Add a route")
	b.write("#route-name", "codes")
	b.write("#route-gateways", "sandbank harbourline")
	b.do(chromedp.Click("#route-otp"))
	button("Save")
	b.shows("main", "sandbank, then harbourline")
	if r := must[client.Routes](t)(h.Client.Routes(t.Context())); len(r.Items) != 1 || r.Items[0].Kinds[0] != "otp" {
		t.Errorf("%+v", r)
	}
	button("Remove")
	b.shows(".notice", "Route codes is gone.")
	eventually(t, "no route is shown", func() bool { return !strings.Contains(b.text("main"), "sandbank, then harbourline") })
	button("Undo")
	b.shows("main", "sandbank, then harbourline")
	button("Add a gateway")
	b.shows("#dialect", "longshore")
	b.write("#dialect", "longshore")
	b.write("#address", h.FleetURL+"/longshore")
	b.write("#secret-account", fleet.LongshoreAccount)
	button("Add it")
	b.shows(".fault", "is missing")
	b.write("#secret-token", fleet.LongshoreToken)
	button("Add it")
	b.shows("h1", "longshore")
	b.do(chromedp.Click(`main a[href="/gateways"]`), chromedp.Click(`a[href="/dialects"]`), chromedp.WaitVisible("textarea"))
	b.write("textarea", "dialect: X\nsubmit: {request: {post: send}}")
	button("Check it")
	b.shows(".notice", "dialect:1: dialect:")
	b.shows(".notice", "expected it to start with /")
}

// On a narrow screen nothing lies over the headline and every room is within reach; on
// a wide one no table is cut.
func TestConsoleFitsItsScreen(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/messages#key=" + h.Key))
	b.do(chromedp.WaitVisible("h1"))
	ask := func(script string) string {
		t.Helper()
		said, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](script))
		if err != nil {
			t.Fatal(err)
		}
		return said
	}
	b.do(chromedp.Navigate(h.URL + "/countries"))
	b.shows("tbody", "Austria")
	if said := ask(`(() => {
		const t = document.querySelector(".table-responsive");
		return t.scrollWidth > t.clientWidth ? t.scrollWidth + " of " + t.clientWidth : "";
	})()`); said != "" {
		t.Errorf("the table of countries needs %s pixels", said)
	}
	b.do(chromedp.EmulateViewport(390, 844))
	for _, path := range []string{
		"/", "/send", "/gateways", "/gateways/harbourline", "/senders",
		"/optouts", "/countries", "/changes", "/batches", "/messages", "/strays",
		"/money", "/passcodes", "/arrivals", "/events", "/replies", "/statements",
	} {
		b.do(chromedp.Navigate(h.URL + path))
		b.do(chromedp.WaitVisible("h1"))
		said := ""
		eventually(t, path+" is drawn", func() bool { // its headline may be drawn anew as what is on it comes
			said = ask(fits)
			return said != "no headline"
		})
		if said != "" {
			t.Errorf("%s: %s", path, said)
		}
	}
}

// fits says what of a page does not fit its screen.
const fits = `(() => {
	const box = (e) => e.getBoundingClientRect(), wrong = [];
	const headline = document.querySelector("h1");
	if (!headline) return "no headline";
	const title = box(headline);
	for (const one of document.querySelectorAll(".rail a, .rail button")) {
		const b = box(one);
		const over = b.bottom > title.top && b.top < title.bottom && b.right > title.left && b.left < title.right;
		if (over) wrong.push(one.textContent + " lies over the headline");
		const outside = b.left < 0 || b.right > innerWidth || b.bottom > innerHeight;
		if (outside || b.width < 24) wrong.push(one.textContent + " is out of reach");
	}
	if (document.documentElement.scrollWidth > innerWidth) wrong.push("the page is wider than the screen");
	return wrong.join("; ");
})()`

// Numbers are put on the list of opt-outs and taken off it, with a way back.
func TestConsoleKeepsOptOuts(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	b := open(t)
	b.do(chromedp.Navigate(h.URL+"/messages#key="+h.Key), chromedp.WaitVisible("h1"), chromedp.Navigate(h.URL+"/senders"),
		chromedp.Click(`a[href="/optouts"]`))
	b.shows("main", "Nobody has opted out.")
	b.write(`input[aria-label="Numbers to put on the list"]`, "+447700900123, +447700900144")
	b.write(`input[aria-label="Why"]`, "asked at the desk")
	b.do(chromedp.Click(`button[type=submit]`))
	b.shows("tbody", "asked at the desk")
	if l := must[client.List[client.OptOut]](t)(h.Client.OptOuts(t.Context(), "", false, "", 0)); len(l.Items) != 2 {
		t.Errorf("%+v", l.Items)
	}
	b.do(chromedp.Click(`button[aria-label="Take +447700900123 off the list"]`))
	b.shows(".notice", "+447700900123 may be written to again.")
	b.do(chromedp.Click(`.notice button`))
	eventually(t, "it is back", func() bool {
		return len(must[client.List[client.OptOut]](t)(h.Client.OptOuts(t.Context(), "", false, "", 0)).Items) == 2
	})
	b.write(`input[aria-label="Numbers to put on the list"]`, "nobody")
	b.do(chromedp.Click(`button[type=submit]`))
	b.shows("main", "numbers[0]")
}
