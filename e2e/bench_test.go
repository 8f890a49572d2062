package e2e

import (
	"fmt"
	"slices"
	"testing"

	"github.com/chromedp/chromedp"
)

// How long it takes, in Chromium, from a key in the writing box until the page
// shows what the text weighs now.
func BenchmarkWritingBox(b *testing.B) {
	h := build(b).withHarbourline()
	page := open(b)
	page.do(chromedp.Navigate(h.URL + "/messages#key=" + h.Key))
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
