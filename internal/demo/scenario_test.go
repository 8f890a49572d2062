package demo

import (
	"strings"
	"testing"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/fleet"
)

// The files of the demo are what they are said to be.
func TestFiles(t *testing.T) {
	for _, name := range templates {
		if parsed, err := template.Read([]byte(read(name + ".yaml"))); err != nil || parsed.Name != name {
			t.Errorf("%s: %v", name, err)
		}
	}
	if entries, err := price.ReadCSV(strings.NewReader(read("harbourline.csv"))); err != nil || len(entries) < 10 {
		t.Errorf("%d prices, %v", len(entries), err)
	}
}

func TestScenarioShowsEveryEnding(t *testing.T) {
	digits := map[string]bool{}
	for _, act := range scenario {
		number, err := phone.Read(act.Draft.To, act.Draft.Country)
		if err != nil || number.Number.Details().Fictional == "" {
			t.Errorf("%s: the number %s: %v", act.About, act.Draft.To, err)
		}
		if _, err := smstext.Weigh(act.Draft.Text); err != nil && act.Draft.Template == "" {
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
