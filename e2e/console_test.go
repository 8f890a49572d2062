package e2e

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
)

// browser opens a page in a headless Chromium of its own. It records every
// address that is asked for.
type browser struct {
	t   *testing.T
	ctx context.Context

	mu    sync.Mutex
	asked []string
}

func open(t *testing.T) *browser {
	t.Helper()
	// t.TempDir would fail the test when Chromium still writes as it is removed.
	folder, err := os.MkdirTemp("", "pigeon-chromium-")
	if err != nil {
		t.Fatal(err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath("/usr/bin/chromium"), chromedp.NoSandbox, chromedp.UserDataDir(filepath.Join(folder, "profile")),
		chromedp.WindowSize(1280, 800), chromedp.Flag("disable-quic", true), chromedp.Flag("disable-gpu", true), chromedp.Flag("disable-component-update", true))
	ctx, closeBrowser := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, closeTab := chromedp.NewContext(ctx)
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	t.Cleanup(func() { cancel(); closeTab(); closeBrowser(); os.RemoveAll(folder) })
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

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	if err := chromedp.Do(b.ctx, steps...); err != nil {
		b.t.Fatalf("%v; the page says:\n%s", err, b.text("body"))
	}
}

func (b *browser) text(selector string) string {
	text, _ := chromedp.Run(b.ctx, chromedp.Text(selector))
	return text
}

func (b *browser) shows(selector, want string) {
	b.t.Helper()
	eventually(b.t, selector+" shows "+want, func() bool { return strings.Contains(b.text(selector), want) })
}

// write replaces what stands in a field, key by key.
func (b *browser) write(selector, text string) {
	b.t.Helper()
	b.do(chromedp.WaitVisible(selector), chromedp.Focus(selector))
	if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](fmt.Sprintf("document.querySelector(%q).select?.(), true", selector))); err != nil {
		b.t.Fatal(err)
	}
	b.do(chromedp.KeyEvent(text))
}

func TestConsoleSendsAndShowsItDelivered(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	must[client.Sender](t)(h.Client.AddSender(t.Context(), client.NewSender{Sender: "LH Boarding"}))
	b := open(t)
	b.do(chromedp.Navigate(h.URL + "/#key=" + h.Key))
	b.shows("main", "Messages appear here as soon as they are accepted")
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
	if phones := h.Fleet.Phones.All("+447700900123", 5); len(phones) != 1 || phones[0].Texts[0].Text != "Crossing 0740 now leaves from berth 3" {
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
	b.do(chromedp.Click(`nav a[href="/"]`))
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
	b.shows("[role=alert]", "needs an API key")
	b.write("#key", h.Key+"\r")
	b.shows("nav", "Messages")
	if stored, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`document.cookie + JSON.stringify(localStorage)`)); err != nil || strings.Contains(stored, "pigeon_") {
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
	b.do(chromedp.Navigate(h.URL+"/#key="+h.Key), chromedp.WaitVisible(".messages"))
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
