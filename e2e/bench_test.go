package e2e

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/postgres"
)

// durable makes a house on a database that writes to disk before it answers,
// as in earnest.
func durable(b *testing.B) *house {
	b.Helper()
	folder, err := os.MkdirTemp("", "pigeon-bench-")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { os.RemoveAll(folder) })
	if err := os.Chmod(folder, 0o755); err != nil {
		b.Fatal(err)
	}
	server := must[*postgres.Server](b)(postgres.Start(b.Context(), folder, postgres.Options{}))
	b.Cleanup(server.Stop)
	return buildOn(b, server.URL)
}

const fastDialect = `
dialect: fast
limits: {per_second: 10000, in_flight: 200}
submit:
  request: {post: /send, json: "{to, text, ref: .id}"}
  reply:
    - when: .status == 200
      read: "{gateway_ref: .body.id, state: \"accepted\"}"
`

// How many messages a second are accepted, and how many go through to
// the gateway, with everything durable.
func BenchmarkAcceptAndSubmit(b *testing.B) {
	h := durable(b)
	var n atomic.Int64
	gateway := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.Copy(io.Discard, r.Body)
		fmt.Fprintf(w, `{"id":"f-%d"}`, n.Add(1))
	}))
	defer gateway.Close()
	must[client.Gateway](b)(h.Client.AddGateway(b.Context(), client.NewGateway{Source: fastDialect, Address: gateway.URL, AskAfter: "1h", GiveUpAfter: "2h"}))
	transport := http.DefaultTransport.(*http.Transport)
	transport.MaxIdleConnsPerHost = 128
	b.SetParallelism(32)
	b.ResetTimer()
	b.RunParallel(func(p *testing.PB) {
		for p.Next() {
			if _, err := h.Client.Send(b.Context(), client.Draft{To: "+447700900123", Text: "Crossing 0740 now leaves from berth 3", Kind: "bulk"}); err != nil {
				b.Error(err)
			}
		}
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "accepted/s")
	eventually(b, "all were taken by the gateway", func() bool {
		return must[client.Tally](b)(h.Client.Tally(b.Context(), client.Filter{})).States["accepted"] == int64(b.N)
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "through/s")
}

// How long it takes, in Chromium, from a key in the writing box until the page
// shows what the text weighs now.
func BenchmarkWritingBox(b *testing.B) {
	h := build(b).withHarbourline()
	page := open(b)
	page.do(chromedp.Navigate(h.URL + "/#key=" + h.Key))
	page.do(chromedp.Click(`a[href="/send"]`))
	page.write("#to", "+447700900123")
	page.write("#text", "Don’t miss it: ")
	page.shows("#text-sum", "15 units")
	var spans []float64
	units := 15
	for b.Loop() {
		units++
		if units > 900 {
			b.Fatal("the text grows too long; use -benchtime=300x or less")
		}
		ms, err := chromedp.Run(page.ctx, chromedp.Evaluate[float64](fmt.Sprintf(`new Promise((done) => {
			const box = document.querySelector("#text"), sum = document.querySelector("#text-sum"), began = performance.now();
			const look = () => { if (sum.textContent.includes(": %d units")) { watch.disconnect(); done(performance.now() - began); } };
			const watch = new MutationObserver(look);
			watch.observe(sum, {subtree: true, childList: true, characterData: true});
			Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(box, box.value + "a");
			box.dispatchEvent(new Event("input", {bubbles: true}));
		})`, units), chromedp.EvalAwaitPromise))
		if err != nil {
			b.Fatal(err)
		}
		spans = append(spans, ms)
	}
	slices.Sort(spans)
	b.ReportMetric(spans[len(spans)/2], "ms/median")
	b.ReportMetric(spans[len(spans)*95/100], "ms/95th")
}
