package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"sync"
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
	must[client.Gateway](
		b,
	)(
		h.Client.AddGateway(b.Context(), client.NewGateway{Source: fastDialect, Address: gateway.URL, AskAfter: "1h", GiveUpAfter: "2h"}),
	)
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
	// The gateway's own count first: the tally counts rows, and asking for it
	// again and again would be measured too.
	eventually(b, "all were taken by the gateway", func() bool {
		return n.Load() >= int64(b.N) &&
			must[client.Tally](b)(h.Client.Tally(b.Context(), client.Filter{})).States["accepted"] == int64(b.N)
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "through/s")
}

const arrayDialect = `
dialect: array
reference: carried
limits: {per_second: 10000, in_flight: 8}
submit:
  most: 500
  request: {post: /send, json: "[.messages[] | {to, text, ref: .id}]"}
  reply:
    - when: .status == 200
      read: ".body[] | {reference: .ref, gateway_ref: .id, state: \"accepted\"}"
`

// How many messages a second go through to a gateway that takes arrays, from a
// queue that is full, and how many a request carries.
func BenchmarkSubmitInPacks(b *testing.B) {
	h := durable(b)
	var requests, took atomic.Int64
	gateway := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		requests.Add(1)
		var in []struct{ Ref string }
		json.NewDecoder(r.Body).Decode(&in)
		took.Add(int64(len(in)))
		out := make([]map[string]string, len(in))
		for i, m := range in {
			out[i] = map[string]string{"ref": m.Ref, "id": "a-" + m.Ref}
		}
		json.NewEncoder(w).Encode(out)
	}))
	defer gateway.Close()
	must[client.Gateway](
		b,
	)(
		h.Client.AddGateway(b.Context(), client.NewGateway{Source: arrayDialect, Address: gateway.URL, AskAfter: "1h", GiveUpAfter: "2h"}),
	)
	must[client.Gateway](b)(h.Client.PauseGateway(b.Context(), "array", ""))
	http.DefaultTransport.(*http.Transport).MaxIdleConnsPerHost = 128
	var all sync.WaitGroup
	var next atomic.Int64
	for range 32 {
		all.Go(func() {
			for i := next.Add(1); i <= int64(b.N); i = next.Add(1) {
				if _, err := h.Client.Send(b.Context(), client.Draft{To: fmt.Sprintf("+447700%06d", 900000+i%1000), Text: fmt.Sprintf("Crossing %d now leaves from berth 3", i), Kind: "bulk"}); err != nil {
					b.Error(err)
				}
			}
		})
	}
	all.Wait()
	b.ResetTimer()
	must[client.Gateway](b)(h.Client.ResumeGateway(b.Context(), "array"))
	eventually(b, "all were taken by the gateway", func() bool {
		return took.Load() >= int64(b.N) &&
			must[client.Tally](b)(h.Client.Tally(b.Context(), client.Filter{})).States["accepted"] == int64(b.N)
	})
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "through/s")
	b.ReportMetric(float64(b.N)/float64(requests.Load()), "messages/request")
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
