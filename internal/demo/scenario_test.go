package demo

import (
	"slices"
	"strings"
	"testing"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/fleet"
)

// fictional are the ranges that regulators reserve for fiction.
var fictional = []string{"+447700900", "+120255501", "+336399800", "+3363998", "+467017406", "+61491570006"}

func TestScenarioShowsEveryEnding(t *testing.T) {
	digits := map[string]bool{}
	for _, act := range scenario {
		if _, err := phone.Parse(act.Draft.To); err != nil || !slices.ContainsFunc(fictional, func(p string) bool { return strings.HasPrefix(act.Draft.To, p) }) {
			t.Errorf("%s: the number %s: %v", act.About, act.Draft.To, err)
		}
		if _, err := smstext.Weigh(act.Draft.Text); err != nil {
			t.Errorf("%s: %v", act.About, err)
		}
		if s, err := delivery.ParseState(act.State); err != nil || !s.Final() {
			t.Errorf("%s: is to become %q", act.About, act.State)
		}
		digits[act.Draft.To[len(act.Draft.To)-2:]] = true
	}
	for _, e := range fleet.Endings[1:] {
		if !digits[e.Digit] {
			t.Errorf("the ending %s (%s) is not shown", e.Digit, e.Name)
		}
	}
}

// The example can fail: it sees every way in which a message can be wrong.
func TestExampleSeesWhatIsWrong(t *testing.T) {
	act := Act{State: "delivered", Evidence: []string{"receipt delivered", "receipt delivered"}}
	e := client.Evidence{Source: "receipt", Claim: "delivered"}
	good := client.Message{State: "delivered", Evidence: []client.Evidence{e, e}}
	if why := act.wrong(good); why != "" {
		t.Errorf("a good message is wrong: %s", why)
	}
	for name, change := range map[string]func(*client.Message){
		"another state":      func(m *client.Message) { m.State = "rejected" },
		"a cause":            func(m *client.Message) { m.Cause = "absent" },
		"contested":          func(m *client.Message) { m.Rivals = []string{"delivered", "expired"} },
		"evidence only once": func(m *client.Message) { m.Evidence = m.Evidence[:1] },
		"no evidence":        func(m *client.Message) { m.Evidence = nil },
	} {
		m := good
		change(&m)
		if act.wrong(m) == "" {
			t.Errorf("%s: is not seen", name)
		}
	}
}
