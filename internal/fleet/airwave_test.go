package fleet

import (
	"strings"
	"testing"
	"time"

	"calmpigeon.example/internal/core/smstext"
)

// The fleet's network and the core were written apart from the same standards:
// here they are held against each other.
func TestNetworkAndCoreAgree(t *testing.T) {
	for _, text := range []string{
		"Crossing 0740 now leaves from berth 3",
		strings.Repeat("a", 160), strings.Repeat("a", 161), strings.Repeat("a", 306), strings.Repeat("a", 307),
		strings.Repeat("a", 152) + "€" + strings.Repeat("a", 152), strings.Repeat("[€]", 60), "@£$¥\n\r^{}\\~|",
		"Το πλοίο των 07:40 φεύγει από άλλη προβλήτα", strings.Repeat("α", 66) + "😀" + strings.Repeat("α", 70),
		"Deniz çok dalgalı, tüm seferler iptal edildi", "Wszystkie rejsy odwołane", "रविवार की सभी नावें रद्द",
	} {
		weight, err := smstext.Weigh(text)
		if err != nil {
			t.Fatal(err)
		}
		shorts := cutUp("Lanternholm", "+447700900123", text, 7)
		if len(shorts) != weight.Segments {
			t.Errorf("%.30q: %d short messages, the core says %d segments", text, len(shorts), weight.Segments)
		}
		start, cuts := 0, weight.Cuts(text)
		for i, s := range shorts {
			if len(s.data) > 140 {
				t.Errorf("%.30q: short message %d has %d octets", text, i+1, len(s.data))
			}
			r, err := s.decode()
			if want := text[start:cuts[i]]; err != nil || r.text != want || r.part != i+1 {
				t.Errorf("%.30q: segment %d is %q (part %d, %v), the core says %q", text, i+1, r.text, r.part, err, want)
			}
			start = cuts[i]
		}
	}
}

func TestHandsetPutsPartsTogether(t *testing.T) {
	h := newHandsets()
	text := strings.Repeat("All Sunday crossings are cancelled. ", 12)
	shorts := cutUp("Lanternholm", "+447700900123", text, 1)
	for i := len(shorts) - 1; i >= 0; i-- { // the last part first
		if got := h.All("", 5); len(got) != 0 {
			t.Fatalf("with %d of %d parts the handset shows %v", len(shorts)-1-i, len(shorts), got)
		}
		if err := h.receive(shorts[i], time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	got := h.All("+447700900123", 5)
	if len(got) != 1 || got[0].Texts[0].Text != text || got[0].Texts[0].Segments != len(shorts) {
		t.Errorf("the handset shows %v", got)
	}
}

func TestEndingsAndLuckAreRepeatable(t *testing.T) {
	seen := map[string]bool{}
	for _, e := range Endings {
		if seen[e.Digit] || e.About == "" {
			t.Errorf("ending %q stands twice or says nothing", e.Digit)
		}
		seen[e.Digit] = true
	}
	if endingOf("+447700900123") != endDelivered || endingOf("+447700900180") != endAbsent {
		t.Error("endings are read wrongly")
	}
	a, b := Fleet{seed: 1}, Fleet{seed: 2}
	if a.luck("network", "x") != a.luck("network", "x") || a.luck("network", "x") == b.luck("network", "x") {
		t.Error("luck is not drawn under the seed")
	}
}
