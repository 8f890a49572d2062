package setup

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const file = `gateways:
  - name: quayside
    source: |
      dialect: quayside
      secrets: [api_key]
      submit: {request: {post: /s, bearer: api_key, json: '{to}'}, reply: [{when: .status == 200, read: '{state: "accepted"}'}]}
    address: http://127.0.0.1:1
    secrets: {api_key: "${QUAYSIDE_API_KEY}"}
    per_second: 7
    in_flight: 3
    ask_after: 1m0s
    give_up_after: 48h0m0s
    timeout: 10s
routes:
  - name: all
    gateways: [{gateway: quayside}]
senders:
  - sender: Lanternholm
    defaults: [{kind: "", country: ""}]
templates:
  - name: storm
    language: en
    texts: {en: "{crossing|Your crossing} is cancelled."}
`

// take takes the file in with the secret it needs.
func take(t *testing.T, s *store.Store, r *roster.Roster, source string, rehearse bool) (Change, error) {
	t.Helper()
	return Take(t.Context(), s, r, []byte(source), map[string]string{"QUAYSIDE_API_KEY": "k-1"}, "test", time.Now(), rehearse)
}

// A set-up that is written and taken in elsewhere is the same there, and taken in
// a second time changes nothing.
func TestWhatIsWrittenIsTakenIn(t *testing.T) {
	t.Parallel()
	first, s := rostertest.Roster(t)
	change, err := take(t, s, first, file, false)
	if err != nil || len(change.New) != 4 || len(change.Changed) > 0 {
		t.Fatalf("%+v, %v", change, err)
	}
	written, err := Write(first)
	if err != nil || strings.Contains(string(written), "k-1") {
		t.Fatalf("%v\n%s", err, written)
	}
	second, elsewhere := rostertest.Roster(t)
	if _, err := take(t, elsewhere, second, string(written), false); err != nil {
		t.Fatal(err)
	}
	if again, err := Write(second); err != nil || string(again) != string(written) {
		t.Errorf("%v\n%s\nbecame\n%s", err, written, again)
	}
	change, err = Take(t.Context(), elsewhere, second, written, nil, "test", time.Now(), false) // the secret is there already
	if err != nil || len(change.New)+len(change.Changed) > 0 {
		t.Errorf("taken in again: %+v, %v", change, err)
	}
	if g := second.ByName("quayside"); g == nil || g.Secrets["api_key"] != "k-1" || g.PerSecond != 7 {
		t.Errorf("%+v", g)
	}
}

// Variables that are missing are told, each once, and nothing that only follows.
func TestWhatIsMissingIsTold(t *testing.T) {
	t.Parallel()
	r, s := rostertest.Roster(t)
	two := strings.Replace(file, "gateways:\n", `gateways:
  - name: northside
    source: |
      dialect: northside
      secrets: [user, password]
      submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: "accepted"}'}]}
    address: http://127.0.0.1:1
    secrets: {user: "${NORTH_USER}", password: "${NORTH_PASSWORD}"}
    per_second: 7
    in_flight: 3
    ask_after: soon
`, 1)
	two = strings.Replace(two, "{gateway: quayside}]", "{gateway: northside}, {gateway: quayside}]", 1)
	for name, tt := range map[string]struct{ source, want string }{
		"of a gateway that is sound": {file, "secrets: there is no value for QUAYSIDE_API_KEY"},
		"and another fault": {
			two, `gateway northside: ask_after: "soon" is not a time span; secrets: there is no value for QUAYSIDE_API_KEY`,
		},
		"each once": {strings.Replace(two, "soon", "1m", 1),
			"secrets: there is no value for NORTH_PASSWORD, NORTH_USER, QUAYSIDE_API_KEY"},
	} {
		_, err := Take(t.Context(), s, r, []byte(tt.source), nil, "test", time.Now(), false)
		if err == nil || err.Error() != tt.want {
			t.Errorf("%s: %v\nwant %s", name, err, tt.want)
		}
	}
	if err := r.Reload(t.Context()); err != nil || len(r.All()) > 0 {
		t.Errorf("%v, and there are %v", err, r.All())
	}
}

// Lists of prices are part of a set-up; those that are too long are named.
func TestPricesAreInASetUp(t *testing.T) {
	t.Parallel()
	r, s := rostertest.Roster(t)
	priced := strings.Replace(
		file,
		"    timeout: 10s\n",
		"    timeout: 10s\n    prices: |\n      country,price,currency\n      GB,0.04,EUR\n",
		1,
	)
	change, err := take(t, s, r, priced, false)
	if err != nil || !slices.Contains(change.New, "prices of quayside") {
		t.Fatalf("%+v, %v", change, err)
	}
	written, err := Write(r)
	if err != nil || !strings.Contains(string(written), "GB,,,segment,0.04,EUR,") {
		t.Fatalf("%v\n%s", err, written)
	}
	if change, err = take(t, s, r, string(written), false); err != nil || !slices.Contains(change.Same, "prices of quayside") {
		t.Errorf("taken in again: %+v, %v", change, err)
	}
	var long strings.Builder
	long.WriteString("country,prefix,price,currency\n")
	for i := range 10_000 {
		fmt.Fprintf(&long, "GB,44%04d,0.04,EUR\n", i)
	}
	entries, err := price.ReadCSV(strings.NewReader(long.String()))
	if err != nil {
		t.Fatal(err)
	}
	if err := r.PutPrices(t.Context(), r.ByName("quayside"), entries, "test", time.Now()); err != nil {
		t.Fatal(err)
	}
	written, err = Write(r)
	if err != nil || !strings.Contains(string(written), "# The prices of quayside are too many") ||
		strings.Contains(string(written), "GB,44") {
		t.Errorf("%v\n%.2000s", err, written)
	}
}

// All of a file or nothing: what is wrong is named, and a rehearsal changes
// nothing either.
func TestHalfAFileIsNotTakenIn(t *testing.T) {
	t.Parallel()
	r, s := rostertest.Roster(t)
	for name, tt := range map[string]struct{ source, field string }{
		"no YAML":              {"gateways: [", "source"},
		"a field too many":     {strings.Replace(file, "per_second", "per_secnd", 1), "source"},
		"not a span":           {strings.Replace(file, "1m0s", "soon", 1), "ask_after"},
		"a route that is none": {strings.Replace(file, "gateway: quayside}]", "gateway: none}]", 1), "routes"},
		"a sender too long":    {strings.Replace(file, "sender: Lanternholm", "sender: Lanternholm Ferries", 1), "sender"},
		"a template too few":   {strings.Replace(file, "language: en", "language: xx", 1), "template"},
	} {
		_, err := take(t, s, r, tt.source, false)
		var faults fault.Faults
		if !errors.As(err, &faults) || !strings.Contains(err.Error(), tt.field) {
			t.Errorf("%s: %v, want something of %s", name, err, tt.field)
		}
	}
	if change, err := take(t, s, r, file, true); err != nil || len(change.New) != 4 {
		t.Errorf("rehearsed: %+v, %v", change, err)
	}
	if err := r.Reload(t.Context()); err != nil {
		t.Fatal(err)
	}
	if len(r.All()) > 0 || len(r.Book().Senders) > 0 || len(r.Book().Templates()) > 0 || len(r.Book().Routes) > 0 {
		t.Errorf("something was taken in: %+v", r.Book())
	}
}

// Receivers of events are written without their secrets, and taken in before the senders whose replies they are told of.
func TestReceiversAreWrittenAndTakenIn(t *testing.T) {
	t.Parallel()
	const secret, other = "whsec_c2VjcmV0c2VjcmV0c2VjcmV0c2VjcmV0", "whsec_b3RoZXJvdGhlcm90aGVyb3RoZXJvdGhlcg=="
	const source = `receivers:
  - name: shop
    address: https://shop.example.net/hook
    secret: "${SHOP_WEBHOOK_SECRET}"
    types: [message.*, reply.received]
    kinds: [otp]
    labels: {pier: east}
    reports: also
    timeout: 5
senders:
  - sender: "+447700900000"
    two_way: true
    replies_to: shop
`
	r, s := rostertest.Roster(t)
	taken := func(source, secret string) (Change, error) {
		secrets := map[string]string{}
		if secret != "" {
			secrets["SHOP_WEBHOOK_SECRET"] = secret
		}
		return Take(t.Context(), s, r, []byte(source), secrets, "test", time.Now(), false)
	}
	if _, err := taken(source, ""); err == nil || err.Error() != "secrets: there is no value for SHOP_WEBHOOK_SECRET" {
		t.Errorf("without its secret: %v", err)
	}
	change, err := taken(source, secret)
	if err != nil || len(change.New) != 2 {
		t.Fatalf("%+v, %v", change, err)
	}
	written, err := Write(r)
	if err != nil || strings.Contains(string(written), "whsec_") || !strings.Contains(string(written), "${SHOP_WEBHOOK_SECRET}") {
		t.Fatalf("%v\n%s", err, written)
	}
	for name, tt := range map[string]struct {
		source, secret string
		changed        int
	}{
		"again": {string(written), "", 0}, "with its secret": {string(written), secret, 0},
		"with more of it": {strings.Replace(string(written), "at_once: 16", "at_once: 4", 1), "", 1},
	} {
		if change, err := taken(tt.source, tt.secret); err != nil || len(change.New) > 0 || len(change.Changed) != tt.changed {
			t.Errorf("%s: %+v, %v", name, change, err)
		}
		if _, err := taken(string(written), ""); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := taken(string(written), other); err != nil {
		t.Fatal(err)
	}
	if one := r.Receiver(uuid.Nil, "shop"); len(one.Signing(time.Now())) != 2 || one.Secrets[0].Secret.Reveal() != other ||
		one.AtOnce != 16 {
		t.Errorf("%+v", one)
	}
	for wrong, want := range map[string]string{
		`"${SHOP_WEBHOOK_SECRET}"`: "receiver shop: secret", "[otp]": "receiver shop: kinds[0]", "timeout: 5": "receiver shop: timeout",
		"https://": "receiver shop: address",
	} {
		put := map[string]string{"[otp]": "[sms]", "timeout: 5": "timeout: soon"}[wrong]
		if _, err := taken(strings.Replace(source, wrong, put, 1), ""); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("without %s: %v", wrong, err)
		}
	}
}
