package e2e

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
)

// rulesOff lets nothing look like fraud.
func (h *house) rulesOff() {
	h.t.Helper()
	var off []client.PasscodeRule
	for _, rule := range []string{"sequence", "untouched", "asking", "rise"} {
		off = append(off, client.PasscodeRule{Rule: rule, Act: "off"})
	}
	must[client.List[client.PasscodeRule]](h.t)(h.Client.SetPasscodeRules(h.t.Context(), off))
}

// Somebody asks for codes for numbers one after the other: an alarm stands at once, in each instance, through a crash,
// in what wants somebody, on the command line and in the console; it is lifted with one click, and taken back with
// another; and made to let nothing through.
func TestFraudIsStoppedAndShown(t *testing.T) {
	t.Parallel()
	h := build(t, quick).withHarbourline()
	prices := client.PricesFile{Source: "country,price,currency\n*,0.05,EUR\n"}
	must[client.PriceList](t)(h.Client.PutPrices(t.Context(), "harbourline", prices, false))
	other := h.beside()
	ask := func(c *client.Client, number int) error {
		_, err := c.Issue(t.Context(), client.NewPasscode{To: fmt.Sprintf("+447700900%03d", number), Purpose: "sign-in"}, "")
		return err
	}
	for i := range 6 {
		if err := ask(h.Client, 300+i); err != nil {
			t.Fatal(err)
		}
	}
	standing := func() []client.PasscodeAlarm {
		return must[client.List[client.PasscodeAlarm]](t)(other.Client.PasscodeAlarms(t.Context(), false)).Items
	}
	var alarm client.PasscodeAlarm
	eventually(t, "an alarm stands", func() bool {
		all := standing()
		if len(all) == 1 {
			alarm = all[0]
		}
		return len(all) == 1
	})
	if alarm.Rule != "sequence" || alarm.What != "range" || alarm.Value != "+447700900xxx" || alarm.Act != "slow" || !alarm.Standing ||
		len(alarm.Sample) != 6 || alarm.Chance <= 0 || !strings.Contains(alarm.Say, "6 numbers one after the other") {
		t.Errorf("%+v", alarm)
	}
	var p *client.Problem
	tries := 0
	defer func() {
		if t.Failed() {
			t.Logf("it refused at last with %+v, and these stand: %+v", p, standing())
		}
	}()
	eventually(t, "the other instance knows", func() bool {
		tries++
		err := ask(other.Client, 600+tries*37%290)
		return errors.As(err, &p) && p.Status == 429 && p.RetryAt != nil && strings.Contains(p.Detail, "numbers in sequence")
	})
	h.kill()
	h.start(h.listen())
	if err := ask(h.Client, 991); !errors.As(err, &p) || p.Status != 429 {
		t.Errorf("after a crash: %v", err)
	}
	eventually(t, "what was stopped is counted", func() bool { return standing()[0].Stopped >= 2 })
	if a := standing()[0]; len(a.Saved) != 1 || a.Saved[0].Currency != "EUR" || a.Saved[0].Amount < "0.1" {
		t.Errorf("saved were %+v with %d codes of 0.05 EUR", a.Saved, a.Stopped)
	}
	if r, said := h.request("GET", "/v1/attention", ""); !strings.Contains(said, "passcode_fraud") {
		t.Errorf("%s %s", r.Status, said)
	}
	s := must[client.Suspicion](t)(h.Client.Suspicion(t.Context(), client.WouldBePasscode{To: "+447700900306", Address: "192.0.2.9"}))
	if s.Suspicion < 90 || len(s.Reasons) < 2 {
		t.Errorf("%+v", s)
	}
	doubted := client.NewPasscode{To: "+447700900306", Purpose: "sign-in", SuspicionMost: 60}
	if _, err := h.Client.Issue(t.Context(), doubted, ""); !errors.As(err, &p) || p.Status != 403 ||
		!strings.HasSuffix(p.Type, ":suspicious") || !strings.Contains(p.Detail, "an alarm stands") {
		t.Errorf("%v", err)
	}
	for _, tt := range []struct{ method, path, body, want string }{
		{"POST", "/v1/passcode-suspicion", `{"to":"12"}`, "422"},
		{"POST", "/v1/passcode-suspicion", `{"to":"+447700900123","address":"here"}`, "422"},
		{"POST", "/v1/passcodes", `{"to":"+447700900123","purpose":"x","suspicion_most":101}`, "422"},
		{"PUT", "/v1/passcode-rules", `{"items":[{"rule":"none","act":"slow"}]}`, "422"},
		{"PUT", "/v1/passcode-rules", `{"items":[{"rule":"rise","act":"stop"}]}`, "422"},
		{"PUT", "/v1/passcode-rules", `{"items":[{"rule":"rise","act":"slow"},{"rule":"rise","act":"off"}]}`, "422"},
		{"POST", "/v1/passcode-alarms/" + alarm.ID + "/act", `{"act":"off"}`, "422"},
		{"POST", "/v1/passcode-alarms/" + alarm.ID + "/restore", `{}`, "409"},
		{"POST", "/v1/passcode-alarms/nonsense/lift", `{}`, "404"},
		{"GET", "/v1/passcode-alarms/019abd5d-0000-7000-8000-000000000000", "", "404"},
		{"POST", "/v1/passcodes/" + alarm.Sample[0].Passcode + "/again", `{"by":"pigeon"}`, "422"},
	} {
		if r, said := h.request(tt.method, tt.path, tt.body); !strings.HasPrefix(r.Status, tt.want) {
			t.Errorf("%s %s %s: %s %s", tt.method, tt.path, tt.body, r.Status, said)
		}
	}
	_, out, _ := h.pigeon("", "passcode", "alarm", "show", alarm.ID)
	if !strings.Contains(out, "numbers in sequence: range +447700900xxx") ||
		!strings.Contains(out, "it gets few codes") {
		t.Error(out)
	}

	b := open(t)
	b.do(chromedp.Navigate(h.URL+"/passcodes#key="+h.Key), chromedp.WaitVisible("h1"))
	b.shows("main", "This looks like fraud")
	b.shows(".alarm", "6 numbers one after the other")
	b.press(".alarm summary")
	b.do(chromedp.WaitReady(".alarm button"))
	b.press(".alarm button")
	b.shows("main", "The alarm about range +447700900xxx was lifted")
	if err := ask(h.Client, 971); err != nil {
		t.Errorf("lifted: %v", err)
	}
	b.do(chromedp.WaitReady(".notice button"))
	b.press(".notice button")
	eventually(t, "that it was lifted is taken back", func() bool { all := standing(); return len(all) == 1 && all[0].ID == alarm.ID })
	b.shows("main", "This looks like fraud")
	must[client.PasscodeAlarm](t)(h.Client.ActOnPasscodeAlarm(t.Context(), alarm.ID, "block"))
	if err := ask(h.Client, 951); !errors.As(err, &p) || p.Status != 403 {
		t.Errorf("blocked: %v", err)
	}
	if r, said := h.request("GET", "/v1/changes?what=passcode_alarm", ""); strings.Count(said, `"lifted_at"`) < 2 ||
		!strings.Contains(said, `"block"`) || strings.Contains(said, "the service") {
		t.Errorf("%s: that it was lifted, that this was taken back, and that it blocks is not written down: %s", r.Status, said)
	}
	b.do(chromedp.WaitReady(".alarm details a"))
	b.press(".alarm details a")
	b.shows("h1", "waits to be typed")
	b.shows("main", "A text bore it through harbourline")
	b.do(chromedp.Navigate(h.URL+"/passcodes"), chromedp.WaitVisible("#rule-rise"))
	b.do(chromedp.Focus("#rule-rise"), chromedp.KeyEvent("n")) // nothing: it is not judged
	eventually(t, "the rule is set", func() bool {
		rules := must[client.List[client.PasscodeRule]](t)(h.Client.PasscodeRules(t.Context()))
		return rules.Items[3].Act == "off" && rules.Items[3].Set
	})
	if code, out, said := h.pigeon("", "passcode", "rules", "--usual", "-o", "csv"); code != 0 || strings.Contains(out, ",set") {
		t.Error(out, said)
	}
	if code, _, said := h.pigeon("", "passcode", "rules", "--set", "rise"); code == 0 || !strings.Contains(said, "sequence=block") {
		t.Error(said)
	}
}
