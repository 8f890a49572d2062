package fleet

import (
	"context"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode/utf16"
)

// Oldpier is the fifth practice gateway: everything in the query string of a
// GET, key and secret too; numbers without plus, what is not Latin-1 as
// hexadecimal UTF-16 with a flag; an answer in XML; receipts as a form that must
// be answered with a fixed word.
type Oldpier struct{ *chassis }

var oldpierWords = map[string]string{
	taken:   "ACCEPTD",
	afloat:  "ENROUTE",
	landed:  "DELIVRD",
	absent:  "UNDELIV",
	invalid: "REJECTD",
	blocked: "REJECTD",
}

func newOldpier(f *Fleet) *Oldpier {
	o := &Oldpier{newChassis(f, "oldpier", "op", 28_000)}
	o.tell, o.inbound = o.post, o.postInbound
	return o
}

func (o *Oldpier) routes(mux *http.ServeMux) {
	mux.HandleFunc("GET /oldpier/http/send", o.keyed(o.submit))
	mux.HandleFunc("GET /oldpier/http/state", o.keyed(func(w http.ResponseWriter, r *http.Request) {
		e, ok := o.find(r.URL.Query().Get("text_id"))
		if !ok {
			o.answer(w, oldpierAnswer{Code: 404, Text: "no such message"})
			return
		}
		o.answer(
			w,
			oldpierAnswer{Message: []oldpierMessage{{ID: e.ID, Number: strings.TrimPrefix(e.To, "+"), State: oldpierWords[e.Status]}}},
		)
	}))
	mux.HandleFunc("GET /oldpier/http/credit", o.keyed(func(w http.ResponseWriter, r *http.Request) {
		o.answer(w, oldpierAnswer{Credit: fmt.Sprintf("%.3f", o.left())})
	}))
}

type oldpierMessage struct {
	ID     string `xml:"id,attr"`
	Number string `xml:"number,attr"`
	Parts  int    `xml:"parts,attr,omitempty"`
	State  string `xml:",chardata"`
}

type oldpierAnswer struct {
	XMLName xml.Name         `xml:"answer"`
	Code    int              `xml:"code"`
	Text    string           `xml:"text,omitempty"`
	Message []oldpierMessage `xml:"message"`
	Credit  string           `xml:"credit,omitempty"`
}

func (o *Oldpier) answer(w http.ResponseWriter, a oldpierAnswer) {
	body, _ := xml.Marshal(a)
	say(w, http.StatusOK, "text/xml; charset=utf-8", xml.Header+string(body))
}

func (o *Oldpier) keyed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if q := r.URL.Query(); q.Get("key") != OldpierKey || q.Get("secret") != OldpierSecret {
			o.answer(w, oldpierAnswer{Code: 401, Text: "key or secret"})
			return
		}
		next(w, r)
	}
}

func (o *Oldpier) submit(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	number := q.Get("number")
	if number == "" || strings.Trim(number, "0123456789") != "" {
		o.answer(w, oldpierAnswer{Code: 422, Text: fmt.Sprintf("number %q: digits without a plus", number)})
		return
	}
	text, err := oldpierText(q)
	if err != nil || text == "" || q.Get("source") == "" || !loopbackOnly(q.Get("tell_at")) {
		o.answer(w, oldpierAnswer{Code: 422, Text: fmt.Sprintf("text, source or tell_at: %v", err)})
		return
	}
	code := func(code int, text string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) { o.answer(w, oldpierAnswer{Code: code, Text: text}) }
	}
	o.serve(w, r, []offer{{From: q.Get("source"), To: "+" + number, Text: text, Report: q.Get("tell_at")}}, voice{
		taken: func(w http.ResponseWriter, all []verdict) {
			v := all[0]
			switch {
			case v.Refused == invalid:
				o.answer(w, oldpierAnswer{Code: 11, Text: "no such number"})
			case v.Refused != "":
				o.answer(w, oldpierAnswer{Code: 12, Text: "wording"})
			default:
				o.answer(
					w,
					oldpierAnswer{
						Message: []oldpierMessage{{ID: v.Entry.ID, Number: number, Parts: v.Entry.Billed, State: oldpierWords[taken]}},
					},
				)
			}
		},
		fault: code(500, "try later"), limited: code(429, "too fast"), noCredit: code(402, "no credit"), noKey: code(401, "key or secret"),
	})
}

// oldpierText is the text: Latin-1 in percent signs, or hexadecimal.
func oldpierText(q url.Values) (string, error) {
	given := q.Get("text")
	if q.Get("unicode") != "1" {
		var out strings.Builder
		for i := range len(given) {
			out.WriteRune(rune(given[i]))
		}
		return out.String(), nil
	}
	data, err := hex.DecodeString(given)
	if err != nil || len(data)%2 != 0 {
		return "", fmt.Errorf("text is not hexadecimal UTF-16")
	}
	units := make([]uint16, len(data)/2)
	for i := range units {
		units[i] = uint16(data[2*i])<<8 | uint16(data[2*i+1])
	}
	return string(utf16.Decode(units)), nil
}

// post pushes a receipt as a form; it wants to hear OK.
func (o *Oldpier) post(ctx context.Context, r report) bool {
	address := r.Report
	if r.Forged {
		address = elsewhere(address)
	}
	form := url.Values{
		"text_id": {r.ID},
		"state":   {oldpierWords[r.Status]},
		"number":  {strings.TrimPrefix(r.To, "+")},
		"when":    {r.at().Format("2006-01-02T15:04:05Z07:00")},
	}
	if r.Status == invalid {
		form.Set("err", "011")
	}
	return o.push(ctx, address, form)
}

// postInbound pushes what somebody wrote back.
func (o *Oldpier) postInbound(ctx context.Context, m written) bool {
	return o.push(
		ctx,
		m.Report,
		url.Values{"back_id": {m.ID}, "writer": {strings.TrimPrefix(m.From, "+")}, "source": {strings.TrimPrefix(m.To, "+")},
			"text": {m.Text}, "when": {m.At.Format(time.RFC3339)}},
	)
}

func (o *Oldpier) push(ctx context.Context, address string, form url.Values) bool {
	request, err := http.NewRequestWithContext(ctx, "POST", address, strings.NewReader(form.Encode()))
	if err == nil {
		request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	return o.deliver(request, err, func(status int, body string) bool { return status == 200 && strings.TrimSpace(body) == "OK" })
}
