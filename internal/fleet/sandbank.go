package fleet

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
)

// Sandbank is the second practice gateway: a form with user name and password
// in it, up to 500 recipients of one text with commas between them, always 200,
// with success or failure as a letter inside, receipts by GET, a test flag, and
// the balance in every reply.
type Sandbank struct{ *chassis }

// Its letters: of requests, and of texts.
//
//	K taken   X user or password wrong   M no money   B busy, come again
//	F fault, nothing was taken   P a parameter is wrong
//	S sent   N no such number   W wording blocked   D on the handset   U unreachable   T on its way
var sandbankWords = map[string]string{taken: "S", afloat: "T", landed: "D", absent: "U", invalid: "N", blocked: "W"}

const sandbankMost = 500

func newSandbank(f *Fleet) *Sandbank {
	s := &Sandbank{newChassis(f, "sandbank", "sb", 35_000)}
	s.tell, s.inbound = s.get, s.getInbound
	return s
}

func (s *Sandbank) routes(mux *http.ServeMux) {
	mux.HandleFunc("POST /sandbank/send", s.submit)
	mux.HandleFunc("POST /sandbank/credit", func(w http.ResponseWriter, r *http.Request) {
		if s.signedIn(w, r) {
			s.reply(w, "K", "", nil)
		}
	})
}

// reply is what it always answers: one line for the request, one for each text.
func (s *Sandbank) reply(w http.ResponseWriter, letter, why string, lines []string) {
	first := fmt.Sprintf("%s;balance=%.2f", letter, s.left())
	if why != "" {
		first += ";why=" + why
	}
	say(w, http.StatusOK, "text/plain", strings.Join(append([]string{first}, lines...), "\n")+"\n")
}

func (s *Sandbank) signedIn(w http.ResponseWriter, r *http.Request) bool {
	r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
	if r.ParseForm() != nil || r.PostForm.Get("user") != SandbankUser || r.PostForm.Get("pass") != SandbankPassword {
		s.reply(w, "X", "user or password", nil)
		return false
	}
	return true
}

func (s *Sandbank) submit(w http.ResponseWriter, r *http.Request) {
	if !s.signedIn(w, r) {
		return
	}
	form := r.PostForm
	numbers := strings.Split(form.Get("to"), ",")
	if len(numbers) > sandbankMost || form.Get("text") == "" || form.Get("from") == "" || !loopbackOnly(form.Get("tell")) {
		s.reply(w, "P", "to, text, from or tell", nil)
		return
	}
	offers := make([]offer, len(numbers))
	for i, n := range numbers {
		if n == "" || strings.Trim(n, "0123456789") != "" {
			s.reply(w, "P", "to: digits only, commas between", nil)
			return
		}
		offers[i] = offer{
			From:   form.Get("from"),
			To:     "+" + n,
			Text:   form.Get("text"),
			Report: form.Get("tell"),
			Flash:  form.Get("class") == "0",
		}
	}
	if form.Get("test") == "1" { // checked, and nothing is sent
		s.reply(w, "K", "", nil)
		return
	}
	whole := func(letter, why string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) { s.reply(w, letter, why, nil) }
	}
	s.serve(w, r, offers, voice{
		taken: func(w http.ResponseWriter, all []verdict) {
			var lines []string
			for _, v := range all {
				number := strings.TrimPrefix(v.Offer.To, "+")
				if v.Entry == nil {
					lines = append(lines, number+";"+sandbankWords[v.Refused])
					continue
				}
				lines = append(lines, fmt.Sprintf("%s;S;%s;%d;%s", number, v.Entry.ID, v.Entry.Billed, v.Entry.Charge))
			}
			s.reply(w, "K", "", lines)
		},
		fault: whole(
			"F",
			"nothing was taken",
		), limited: whole("B", "too fast"), noCredit: whole("M", ""), noKey: whole("X", "user or password"),
	})
}

// get pushes a receipt as a query string.
func (s *Sandbank) get(ctx context.Context, r report) bool {
	address := r.Report
	if r.Forged {
		address = elsewhere(address)
	}
	query := url.Values{
		"id": {r.ID},
		"st": {sandbankWords[r.Status]},
		"ts": {fmt.Sprint(r.at().Unix())},
		"to": {strings.TrimPrefix(r.To, "+")},
	}
	return s.push(ctx, address, query)
}

// getInbound pushes what somebody wrote back.
func (s *Sandbank) getInbound(ctx context.Context, m written) bool {
	return s.push(
		ctx,
		m.Report,
		url.Values{"back": {m.ID}, "from": {strings.TrimPrefix(m.From, "+")}, "to": {strings.TrimPrefix(m.To, "+")},
			"text": {m.Text}, "ts": {fmt.Sprint(m.At.Unix())}},
	)
}

func (s *Sandbank) push(ctx context.Context, address string, query url.Values) bool {
	request, err := http.NewRequestWithContext(ctx, "GET", address+"?"+query.Encode(), nil)
	return s.deliver(request, err, done)
}
