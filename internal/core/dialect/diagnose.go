package dialect

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/delivery"
)

// Attempt is a request that did not come out as it should, with all that can be
// seen of it.
type Attempt struct {
	Address string
	Request Request
	Secrets map[string]string
	Reply   Reply  // zero if there was none
	Error   string // why there was none
	Reading Reading
	Now     time.Time
}

var (
	unencodedPlus = regexp.MustCompile(`=\+[0-9]{7,15}(&|$)`)
	spaceForPlus  = regexp.MustCompile(`["'>:= ] [1-9][0-9]{7,14}\b`)
	trialWords    = regexp.MustCompile(
		`(?i)\b(un-?verified|not verified|verified (numbers?|recipients?)|trial|sandbox|test account|allow-?list|whitelist)`,
	)
	clockWords = regexp.MustCompile(`(?i)\b(timestamp|time ?stamp|clock|expired signature|too old|time)\b`)
	jwtForm    = regexp.MustCompile(`^[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]{5,}$`)
)

// clockSlack is by how much a gateway's clock may differ from ours before it is
// worth a word.
const clockSlack = 30 * time.Second

// Diagnose says in plain words which of the usual mistakes an attempt looks
// like, the likeliest first. Of one that came out well it says nothing.
func (d *Dialect) Diagnose(a Attempt) []string {
	var said []string
	add := func(format string, args ...any) { said = append(said, fmt.Sprintf(format, args...)) }
	if a.Reply.Status == 0 {
		d.unreached(a, add)
		return said
	}
	body := string(a.Reply.Body)
	cause := a.Reading.Cause
	for _, item := range a.Reading.Items {
		if item.Cause != "" {
			cause = item.Cause
		}
		if item.NotTaken != "" {
			cause = item.NotTaken
		}
	}
	clocks := false
	if date, err := time.Parse(time.RFC1123, a.Reply.Header["date"]); err == nil && d.signs() {
		if off := a.Now.Sub(date); off > clockSlack || off < -clockSlack {
			clocks = true
			add(
				"The clocks differ: the gateway's shows %s, ours %s, %v apart. Requests are signed with the time, and a signature "+
					"that is too old or comes from the future is refused. Set this machine's clock.",
				date.UTC().Format(time.TimeOnly),
				a.Now.UTC().Format(time.TimeOnly),
				off.Abs().Round(time.Second),
			)
		} else if cause == delivery.CredentialsRefused && clockWords.MatchString(body) {
			add("The answer speaks of time. Requests are signed with it: see whether the dialect's sign writes it as the manual says (seconds, milliseconds, or a date).")
		}
	}
	switch cause {
	case delivery.CredentialsRefused:
		if !clocks { // that is reason enough
			d.credentials(a, add)
		}
	case delivery.SenderRefused:
		add("The sender is not yours at this gateway. Lease or register it there, or send as one that is.")
	case delivery.NoCredit:
		add("The credentials are good, but the account is empty. Top it up.")
	case delivery.Limited:
		add("The gateway asks for a slower pace. The credentials were not looked at, or are good.")
	}
	if cause != "" && cause != delivery.CredentialsRefused && trialWords.MatchString(body) {
		add(
			"It looks like a trial account, which reaches only numbers that were verified before. Verify the number at the " +
				"gateway, or have the account opened.",
		)
	}
	if unencodedPlus.MatchString(rawFields(a.Request)) {
		add(
			"A plus sign goes out unencoded and arrives as a space. In a query string or form it is %%2B; the dialect's query " +
				"and form write it so by themselves.",
		)
	} else if a.Reading.Meaning != Read || cause != "" {
		if spaceForPlus.MatchString(body) {
			add("The answer shows the number with a space in front: the plus sign of the number was lost on the way. Try number: digits or number: \"00\".")
		}
	}
	switch {
	case a.Reply.Status >= 300 && a.Reply.Status < 400:
		add(
			"The gateway sends us elsewhere (%d, %s). Calm Pigeon goes nowhere but to the address it was given; give that one, if it is right.",
			a.Reply.Status,
			orNone(a.Reply.Header["location"]),
		)
	case a.Reading.Meaning == Unreadable && looksLikePage(a.Reply):
		add(
			"A web page answered, not an interface. The address is perhaps that of the website, or something in between answers " +
				"instead of the gateway.",
		)
	case a.Reading.Meaning == Unreadable && a.Reply.Status == 404:
		add(
			"There is nothing at %s. Compare the address and the dialect's path with the manual: perhaps a part of the path is "+
				"missing, or stands twice.",
			a.Address+strings.SplitN(a.Request.Path, "?", 2)[0],
		)
	case a.Reading.Meaning == Unreadable && (a.Reply.Status == 401 || a.Reply.Status == 403):
		add(
			"It looks as if the credentials were refused, and the dialect has no rule that says so: add one with refused: credentials_refused.",
		)
		d.credentials(a, add)
	case a.Reading.Meaning == Unreadable:
		add("The dialect cannot read this answer: %s. Add a rule for it, and this answer to its examples.", a.Reading.Note)
	}
	return said
}

func orNone(s string) string {
	if s == "" {
		return "it does not say where"
	}
	return s
}

// signs reports whether requests are signed.
func (d *Dialect) signs() bool {
	for _, call := range []*Call{&d.Submit, d.Query, d.Balance, d.Token} {
		if call != nil && call.Request.Sign != nil {
			return true
		}
	}
	return false
}

func (d *Dialect) unreached(a Attempt, add func(string, ...any)) {
	u, _ := url.Parse(a.Address)
	switch {
	case strings.Contains(a.Error, "is not known"):
		add("The host in the address does not exist. Is it misspelt?")
	case strings.Contains(a.Error, "tls") || strings.Contains(a.Error, "certificate"):
		add("The connection could not be made secure: %s.", a.Error)
	case strings.Contains(a.Error, "HTTP response to HTTPS"):
		add("The gateway speaks plain HTTP at this address, and it is given with https.")
	case strings.Contains(a.Error, "no connection"):
		add("Nobody answers at this address. Is the port right, and may this machine reach it?")
	case strings.Contains(a.Error, "no answer within"):
		add("The gateway did not answer in time. It may have taken what was sent.")
	case strings.Contains(a.Error, "cut") && u != nil && u.Scheme == "http":
		add("The connection was cut. Does the gateway want https?")
	default:
		add("There was no answer: %s.", a.Error)
	}
}

// credentials says what secrets look wrong by their look alone.
func (d *Dialect) credentials(a Attempt, add func(string, ...any)) {
	before := 0
	odd := func(format string, args ...any) { before++; add(format, args...) }
	for _, name := range d.Secrets {
		secret := a.Secrets[name]
		lower := strings.ToLower(secret)
		switch {
		case secret == "":
			odd("%s is empty.", name)
		case strings.TrimSpace(secret) != secret:
			odd("%s begins or ends with a space or a line break. Copied too much?", name)
		case strings.Trim(secret, `"'`) != secret:
			odd("%s stands in quotation marks. Give it without them.", name)
		case strings.HasPrefix(lower, "bearer ") || strings.HasPrefix(lower, "basic "):
			odd("%s begins with %q, which the dialect adds by itself. Give the key alone.", name, secret[:strings.Index(secret, " ")])
		case strings.HasPrefix(lower, "http://") || strings.HasPrefix(lower, "https://"):
			odd("%s is an address, not a key.", name)
		case strings.Contains(secret, "…") || strings.Contains(secret, "***") || strings.HasPrefix(secret, "<"):
			odd("%s looks like a placeholder, or a key that was shown shortened.", name)
		case jwtForm.MatchString(secret) && d.Token == nil:
			odd(
				"%s looks like a token that was issued for a while (it has three parts with dots). Such expire; is there a lasting "+
					"key, or does the gateway issue tokens? Then describe it under token.",
				name,
			)
		}
	}
	if before > 0 {
		return
	}
	add(
		"The gateway does not accept these credentials. The usual reasons: a key of another kind (for the website, for " +
			"another product, or for testing), key and secret swapped, a key that was revoked, or one that only works from " +
			"certain addresses.",
	)
	if pairs := d.pairs(); len(pairs) > 0 {
		if a.Secrets[pairs[0][0]] == a.Secrets[pairs[0][1]] {
			add("%s and %s are the same. They are usually two different things.", pairs[0][0], pairs[0][1])
		}
	}
}

// pairs are secrets that could have been swapped.
func (d *Dialect) pairs() [][2]string {
	var pairs [][2]string
	for i, a := range d.Secrets {
		for _, b := range d.Secrets[i+1:] {
			pairs = append(pairs, [2]string{a, b})
		}
	}
	return pairs
}

// Swaps lists what the secrets are with two of them exchanged, for each pair of
// those that go out with requests and differ; at most three.
func (d *Dialect) Swaps(secrets map[string]string) []Swap {
	var swaps []Swap
	for _, pair := range d.pairs() {
		if secrets[pair[0]] == secrets[pair[1]] || len(swaps) == 3 {
			continue
		}
		swapped := map[string]string{}
		for name, secret := range secrets {
			swapped[name] = secret
		}
		swapped[pair[0]], swapped[pair[1]] = secrets[pair[1]], secrets[pair[0]]
		swaps = append(swaps, Swap{pair[0], pair[1], swapped})
	}
	return swaps
}

// Swap is what the secrets are with two of them exchanged.
type Swap struct {
	A, B    string
	Secrets map[string]string
}

// rawFields are the query string and the form of a request, as they go out.
func rawFields(r Request) string {
	_, query, _ := strings.Cut(r.Path, "?")
	all := query
	kinds := []string{"application/x-www-form-urlencoded", "text/plain"}
	if slices.ContainsFunc(kinds, func(k string) bool { return strings.HasPrefix(r.Header["Content-Type"], k) }) {
		all += "&" + string(r.Body)
	}
	return all
}

func looksLikePage(r Reply) bool {
	start := strings.ToLower(strings.TrimSpace(string(r.Body[:min(len(r.Body), 200)])))
	return strings.Contains(r.Header["content-type"], "html") || strings.HasPrefix(start, "<!doctype html") ||
		strings.HasPrefix(start, "<html")
}
