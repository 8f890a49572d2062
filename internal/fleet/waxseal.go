package fleet

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/csv"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Waxseal is the eighth practice gateway: requests signed with an HMAC over
// method, path, time and body; a form; a receipt for each segment; a query by
// our reference; and a statement as CSV.
type Waxseal struct{ *chassis }

var waxsealWords = map[string]string{taken: "1", afloat: "2", landed: "3", absent: "4", invalid: "5", blocked: "6"}

// waxsealSlack is how far a request's time may be off.
const waxsealSlack = 2 * time.Minute

func newWaxseal(f *Fleet) *Waxseal {
	x := &Waxseal{newChassis(f, "waxseal", "wx", 33_000)}
	x.perPart, x.tell, x.inbound = true, x.post, x.postInbound
	return x
}

func (x *Waxseal) routes(mux *http.ServeMux) {
	mux.HandleFunc("POST /waxseal/messages", x.sealed(x.submit))
	mux.HandleFunc("GET /waxseal/messages", x.sealed(func(w http.ResponseWriter, r *http.Request) {
		e, ok := x.findRef(r.URL.Query().Get("ref"))
		if !ok {
			say(w, http.StatusNotFound, "application/x-www-form-urlencoded", "error=ref")
			return
		}
		say(
			w,
			http.StatusOK,
			"application/x-www-form-urlencoded",
			url.Values{"id": {e.ID}, "ref": {e.Ref}, "status": {waxsealWords[e.Status]}}.Encode(),
		)
	}))
	mux.HandleFunc("GET /waxseal/funds", x.sealed(func(w http.ResponseWriter, r *http.Request) {
		say(w, http.StatusOK, "application/x-www-form-urlencoded", fmt.Sprintf("funds=%.2f&currency=EUR", x.left()))
	}))
	mux.HandleFunc("GET /waxseal/statement", x.sealed(x.statement))
}

// sealed lets only requests pass whose signature is good and whose time is
// about now.
func (x *Waxseal) sealed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		now := time.Now().Add(x.skew())
		w.Header().Set("Date", now.UTC().Format(http.TimeFormat))
		body, _ := io.ReadAll(io.LimitReader(r.Body, 1<<20))
		r.Body = io.NopCloser(bytes.NewReader(body))
		at, err := strconv.ParseInt(r.Header.Get("X-Wax-Time"), 10, 64)
		if off := now.Sub(time.Unix(at, 0)); err != nil || off > waxsealSlack || off < -waxsealSlack {
			say(w, http.StatusForbidden, "application/x-www-form-urlencoded", "error=time")
			return
		}
		mac := hmac.New(sha256.New, []byte(WaxsealSigningKey))
		fmt.Fprintf(mac, "%s\n%s\n%s\n%d\n%s", r.Method, r.URL.EscapedPath(), r.URL.RawQuery, at, body)
		given, _ := base64.StdEncoding.DecodeString(r.Header.Get("X-Wax-Seal"))
		if r.Header.Get("X-Wax-Key") != WaxsealKeyID || !hmac.Equal(mac.Sum(nil), given) {
			x.noKey(w)
			return
		}
		next(w, r)
	}
}

func (x *Waxseal) noKey(w http.ResponseWriter) {
	say(w, http.StatusForbidden, "application/x-www-form-urlencoded", "error=seal")
}

func (x *Waxseal) submit(w http.ResponseWriter, r *http.Request) {
	refuse := func(status int, word string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) {
			say(w, status, "application/x-www-form-urlencoded", "error="+url.QueryEscape(word))
		}
	}
	if r.ParseForm() != nil {
		refuse(http.StatusBadRequest, "form")(w)
		return
	}
	f := r.PostForm
	number, ok := strings.CutPrefix(f.Get("to"), "00")
	if !ok || strings.Trim(number, "0123456789") != "" || f.Get("text") == "" || f.Get("ref") == "" || !loopbackOnly(f.Get("report")) {
		refuse(http.StatusBadRequest, "to, text, ref or report")(w)
		return
	}
	from := f.Get("from")
	if digits, ok := strings.CutPrefix(from, "00"); ok { // as it wants numbers written
		from = "+" + digits
	}
	x.serve(w, r, []offer{{From: from, To: "+" + number, Text: f.Get("text"), Ref: f.Get("ref"), Report: f.Get("report")}}, voice{
		taken: func(w http.ResponseWriter, all []verdict) {
			v := all[0]
			if v.Entry == nil {
				refuse(http.StatusUnprocessableEntity, waxsealWords[v.Refused])(w)
				return
			}
			say(
				w,
				http.StatusAccepted,
				"application/x-www-form-urlencoded",
				fmt.Sprintf("id=%s&parts=%d&price=%s", v.Entry.ID, v.Entry.Billed, v.Entry.Charge),
			)
		},
		fault: refuse(http.StatusInternalServerError, "not taken"), limited: refuse(http.StatusTooManyRequests, "rate"),
		noCredit: refuse(http.StatusPaymentRequired, "funds"), noKey: x.noKey,
	})
}

func (x *Waxseal) post(ctx context.Context, r report) bool {
	form := url.Values{
		"id":     {r.ID},
		"status": {waxsealWords[r.Status]},
		"part":   {fmt.Sprint(max(r.Part, 1))},
		"parts":  {fmt.Sprint(r.Parts)},
		"time":   {fmt.Sprint(r.at().Unix())},
	}
	if !r.NoRef {
		form.Set("ref", r.Ref)
	}
	key := WaxsealSigningKey
	if r.Forged {
		key = "not the key"
	}
	return x.push(ctx, r.Report, key, form)
}

// postInbound pushes what somebody wrote back.
func (x *Waxseal) postInbound(ctx context.Context, m written) bool {
	return x.push(ctx, m.Report, WaxsealSigningKey, url.Values{
		"back": {m.ID}, "from": {m.From}, "to": {m.To}, "text": {m.Text}, "time": {fmt.Sprint(m.At.Unix())}})
}

func (x *Waxseal) push(ctx context.Context, address, key string, form url.Values) bool {
	body := form.Encode()
	mac := hmac.New(sha256.New, []byte(key))
	mac.Write([]byte(body))
	request, err := http.NewRequestWithContext(ctx, "POST", address, strings.NewReader(body))
	if err == nil {
		request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		request.Header.Set("X-Wax-Seal", base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	}
	return x.deliver(request, err, done)
}

// statement lists what it carried in a span of time.
func (x *Waxseal) statement(w http.ResponseWriter, r *http.Request) {
	from, err1 := time.Parse(time.RFC3339, r.URL.Query().Get("from"))
	until, err2 := time.Parse(time.RFC3339, r.URL.Query().Get("until"))
	if err1 != nil || err2 != nil {
		say(w, http.StatusBadRequest, "text/plain", "from and until, by RFC 3339")
		return
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	lines := csv.NewWriter(w)
	lines.Comma = ';'
	lines.Write([]string{"Id", "Reference", "Recipient", "Sent", "Parts", "Status", "Price EUR"})
	for _, e := range x.Entries() {
		if !e.TakenAt.Before(from) && e.TakenAt.Before(until) {
			lines.Write([]string{e.ID, e.Ref, e.To, e.TakenAt.Format(time.RFC3339), fmt.Sprint(e.Billed), waxsealWords[e.Status], e.Charge})
		}
	}
	lines.Flush()
}
