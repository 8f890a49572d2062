package roster_test

import (
	"strings"
	"testing"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
)

const keyed = `dialect: keyed
secrets: [key, user]
submit:
  request: {post: /s, basic: {user: user, password: key}, json: '{to}'}
  reply: [{when: .status == 200, read: '{state: "accepted"}'}]
`

// Whoever may change where secrets go, or in which requests, has to know them.
func TestSecretsDoNotGoElsewhere(t *testing.T) {
	t.Parallel()
	known := map[string]string{"key": "a-secret", "user": "ferries"}
	source := strings.Replace(keyed, "json: '{to}'", "headers: '{x: .secrets.key}'", 1)
	empty := map[string]string{"user": "", "key": ""}
	at, same, slash, five := "https://elsewhere.example", "http://127.0.0.1:1", "http://127.0.0.1:1/", 5
	for name, tt := range map[string]struct {
		change roster.Settings
		wrong  string
	}{
		"another address":                   {roster.Settings{Address: &at}, "secrets.key secrets.user"},
		"another address, with one of them": {roster.Settings{Address: &at, Secrets: map[string]string{"user": "ferries"}}, "secrets.key"},
		"another address, with empty ones":  {roster.Settings{Address: &at, Secrets: empty}, "secrets.key secrets.user"},
		"another address, with all of them": {roster.Settings{Address: &at, Secrets: known}, ""},
		"another dialect":                   {roster.Settings{Source: &source}, "secrets.key secrets.user"},
		"the same address":                  {roster.Settings{Address: &same}, ""},
		"the same address with a slash":     {roster.Settings{Address: &slash}, ""},
		"its pace":                          {roster.Settings{PerSecond: &five}, ""},
		"one of the secrets":                {roster.Settings{Secrets: map[string]string{"key": "another"}}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r, _ := rostertest.Roster(t)
			g := rostertest.Gateway(t, r, keyed, roster.Settings{Secrets: known})
			_, err := r.ChangeGateway(t.Context(), g, tt.change)
			var fields []string
			for _, f := range fault.Of(err) {
				fields = append(fields, f.Field)
			}
			if got := strings.Join(fields, " "); got != tt.wrong || (err == nil) != (tt.wrong == "") {
				t.Errorf("got %q, %v, want %q", got, err, tt.wrong)
			}
			if now := r.ByName("keyed"); tt.wrong != "" && (now.Address != g.Address || now.Source != g.Source) {
				t.Errorf("it was changed to %s", now.Address)
			}
		})
	}
}
