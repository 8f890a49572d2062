package e2e

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/label"
)

// Labels of key, batch and message tell what one application sends from the rest: in lists,
// in tallies, and on the command line.
func TestLabelsTellApplicationsApart(t *testing.T) {
	t.Parallel()
	h := build(t).withHarbourline()
	desk := must[client.Key](
		t,
	)(
		h.Client.NewKey(t.Context(), client.NewKey{Name: "desk", Labels: map[string]string{"app": "desk", "shop": "eu"}}),
	)
	atDesk := client.New(h.URL, desk.Key)
	must[client.Message](t)(h.Client.Send(t.Context(), client.Draft{To: "+447700900101", Text: "none"}))
	own := must[client.Message](
		t,
	)(
		h.Client.Send(t.Context(), client.Draft{To: "+447700900101", Text: "own", Labels: map[string]string{"shop": "us"}}),
	)
	both := must[client.Message](
		t,
	)(
		atDesk.Send(t.Context(), client.Draft{To: "+447700900101", Text: "both", Labels: map[string]string{"shop": "us", "x": "1"}}),
	)
	must[client.Message](t)(atDesk.Send(t.Context(), client.Draft{To: "+447700900101", Text: "key"}))
	if fmt.Sprint(own.Labels, both.Labels) != "map[shop:us] map[app:desk shop:us x:1]" {
		t.Errorf("%v, %v", own.Labels, both.Labels)
	}
	one := must[client.Batch](
		t,
	)(
		atDesk.NewBatch(t.Context(), client.BatchWants{Text: "Hello", Repeats: true, Labels: map[string]string{"run": "storm"}}),
	)
	must[client.BatchAppended](
		t,
	)(
		atDesk.AppendRows(t.Context(), one.ID, strings.NewReader("mobile\n+447700900101\n+447700900102\n"), client.ListHint{At: -1}),
	)
	h.rehearsed(one.ID)
	must[client.Batch](t)(atDesk.LaunchBatch(t.Context(), one.ID, client.Launch{Scouts: "1"}))
	h.batchWhen(one.ID, "the scout has gone", func(b client.Batch) bool { return b.Tally.States["delivered"] == 1 })

	for wanted, want := range map[string]int64{"shop": 5, "shop=us": 2, "shop=eu": 3, "app=desk": 4, "run=storm": 2, "app=desk shop=us": 1,
		"shop=nowhere": 0, "x": 1, "sho": 0} {
		f := client.Filter{Labels: strings.Fields(wanted)}
		tally := must[client.Tally](t)(h.Client.Tally(t.Context(), f))
		found := must[client.List[client.Message]](t)(h.Client.Find(t.Context(), f, "", 50))
		rows := int64(0) // of the batch one row is no message yet
		if slices.Contains([]string{"run=storm", "shop=eu", "app=desk", "shop"}, wanted) {
			rows = 1
		}
		if tally.Total != want || int64(len(found.Items)) != want-rows {
			t.Errorf("%s: %s, and %d are found; want %d", wanted, tally.Equation, len(found.Items), want)
		}
		for _, m := range found.Items {
			for _, w := range strings.Fields(wanted) {
				if name, value, exact := strings.Cut(w, "="); m.Labels[name] == "" || exact && m.Labels[name] != value {
					t.Errorf("%s: has %v", wanted, m.Labels)
				}
			}
		}
		to := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{To: "+447700900102", Labels: strings.Fields(wanted)}))
		if to.Total > 1 {
			t.Errorf("%s to one number: %s", wanted, to.Equation)
		}
	}
	if code, out, said := h.pigeon("", "tally", "--label", "shop=us", "--label", "app"); code != 0 || !strings.Contains(out, "1 message") {
		t.Errorf("%d\n%s%s", code, out, said)
	}
	if code, out, said := h.pigeon("", "message", "find", "--label", "x", "--output", "csv", "--columns", "text,labels"); code != 0 ||
		!strings.Contains(out, `both,"app=desk,shop=us,x=1"`) {
		t.Errorf("%d\n%s%s", code, out, said)
	}
	for what, labels := range map[string]map[string]string{`no name of a label`: {"Shop": "eu"}, `no value of a label`: {"shop": "a,b"}} {
		if _, err := h.Client.Send(t.Context(), client.Draft{To: "+447700900101", Text: "x", Labels: labels}); err == nil ||
			!strings.Contains(err.Error(), what) {
			t.Errorf("%v: %v", labels, err)
		}
	}
	form := "to=%2B447700900101&text=form&labels.shop=form"
	r, body := h.request("POST", "/v1/messages", form, "Content-Type", "application/x-www-form-urlencoded")
	if r.StatusCode != http.StatusAccepted || !strings.Contains(body, `"shop":"form"`) {
		t.Errorf("%d %s", r.StatusCode, body)
	}
	token := client.Draft{To: "+447700900101", Text: "again", Labels: map[string]string{"shop": "us"}}
	first := must[client.Message](t)(h.Client.SendOnce(t.Context(), token, "one"))
	if again := must[client.Message](t)(h.Client.SendOnce(t.Context(), token, "one")); again.ID != first.ID ||
		again.Labels["shop"] != "us" {
		t.Errorf("again: %+v", again)
	}
	token.Labels = map[string]string{"shop": "eu"}
	if _, err := h.Client.SendOnce(t.Context(), token, "one"); err == nil {
		t.Error("other labels are the same request")
	}

	// Where a label holds what is of one message alone its messages go, and are counted together; those of
	// another key are told apart all the same.
	others := 0
	for i := range label.SetsMost + 20 {
		d := client.Draft{To: "+447700900101", Text: "x", Labels: map[string]string{"order": fmt.Sprint(i)}}
		if m := must[client.Message](t)(h.Client.Send(t.Context(), d)); m.Labels["labels"] == "other" {
			if others++; len(m.Warnings) == 0 || !strings.Contains(m.Warnings[0].Say, "labels tell applications apart") {
				t.Fatalf("%+v", m.Warnings)
			}
		}
	}
	if others < 20 || others > 30 {
		t.Errorf("%d were counted as others", others)
	}
	if n := must[client.Tally](t)(h.Client.Tally(t.Context(), client.Filter{Labels: []string{"labels=other"}})).Total; n != int64(others) {
		t.Errorf("%d are counted as others, want %d", n, others)
	}
	another := client.New(h.URL, must[client.Key](t)(h.Client.NewKey(t.Context(), client.NewKey{Name: "another"})).Key)
	theirs := client.Draft{To: "+447700900101", Text: "x", Labels: map[string]string{"a": "b"}}
	if m := must[client.Message](t)(another.Send(t.Context(), theirs)); m.Labels["a"] != "b" {
		t.Errorf("another key: %v", m.Labels)
	}
	must[client.Message](
		t,
	)(
		h.Client.Send(t.Context(), client.Draft{To: "+447700900101", Text: "own", Labels: map[string]string{"shop": "us"}}),
	)
}
