package fleet

import (
	"context"
	"encoding/xml"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"
)

// Stamphouse is the seventh practice gateway: registered templates alone, no
// free text and no links in variables; one country; a quota by the month;
// recipients that must be verified first; and voice calls for passcodes besides
// texts. Its receipts come as XML under Basic authorization.
type Stamphouse struct {
	*chassis
	mu       sync.Mutex
	verified map[string]bool
	used     int
	quota    int
}

// StamphouseTemplates are the texts that are registered with it.
var StamphouseTemplates = map[string]string{
	"LH-4101": "Lanternholm Ferries: crossing {time} to {port} now leaves from berth {berth}. Boarding closes ten minutes before.",
	"LH-4102": "{code} is your boarding code for Lanternholm Ferries. Do not share it.",
}

var stamphouseWords = map[string]string{taken: "accepted", afloat: "moving", landed: "received", absent: "absent", invalid: "nonumber"}

func newStamphouse(f *Fleet) *Stamphouse {
	s := &Stamphouse{chassis: newChassis(f, "stamphouse", "st", 20_000), verified: map[string]bool{}, quota: 5000}
	s.tell, s.inbound = s.post, s.postInbound
	s.check = func(o offer) string {
		s.mu.Lock()
		defer s.mu.Unlock()
		switch {
		case !strings.HasPrefix(o.To, "+44"):
			return "country"
		case strings.HasPrefix(o.To, "+4477009009") && !s.verified[o.To]:
			return "unverified"
		case s.used >= s.quota:
			return "quota"
		}
		s.used++
		return ""
	}
	return s
}

// SetQuota sets how many texts it takes in the month.
func (s *Stamphouse) SetQuota(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.quota = n
}

func (s *Stamphouse) routes(mux *http.ServeMux) {
	mux.HandleFunc("POST /stamphouse/v1/texts", s.keyed(func(w http.ResponseWriter, r *http.Request) { s.submit(w, r, false) }))
	mux.HandleFunc("POST /stamphouse/v1/calls", s.keyed(func(w http.ResponseWriter, r *http.Request) { s.submit(w, r, true) }))
	mux.HandleFunc("GET /stamphouse/v1/quota", s.keyed(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		answer(w, http.StatusOK, map[string]any{"used": s.used, "of": s.quota})
	}))
	mux.HandleFunc("POST /stamphouse/v1/verified", s.keyed(func(w http.ResponseWriter, r *http.Request) {
		in, err := decode[struct{ Number string }](r)
		if err != nil || !isNumber("+"+in.Number) {
			answer(w, http.StatusBadRequest, map[string]any{"fault": "number"})
			return
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		s.verified["+"+in.Number] = true
		w.WriteHeader(http.StatusNoContent)
	}))
	mux.HandleFunc("GET /stamphouse/v1/texts/{id}", s.keyed(func(w http.ResponseWriter, r *http.Request) {
		e, ok := s.find(r.PathValue("id"))
		if !ok {
			answer(w, http.StatusNotFound, map[string]any{"fault": "id"})
			return
		}
		answer(w, http.StatusOK, map[string]any{"id": e.ID, "state": stamphouseWords[e.Status]})
	}))
}

func (s *Stamphouse) keyed(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("X-Stamp-Key") != StamphouseKey {
			s.fault(http.StatusUnauthorized, "key")(w)
			return
		}
		next(w, r)
	}
}

func (s *Stamphouse) fault(status int, word string) func(http.ResponseWriter) {
	return func(w http.ResponseWriter) { answer(w, status, map[string]any{"fault": word}) }
}

var stamphouseHole = regexp.MustCompile(`\{([a-z]+)\}`)

func (s *Stamphouse) submit(w http.ResponseWriter, r *http.Request, call bool) {
	in, err := decode[struct {
		Template  string
		Variables map[string]any
		Mobile    string // the national number, with its 0
		Header    string
		Ref       string
		Hook      string
	}](r)
	if err != nil || in.Header == "" || !loopbackOnly(in.Hook) {
		s.fault(http.StatusBadRequest, "request")(w)
		return
	}
	wording, known := StamphouseTemplates[in.Template]
	if !known {
		s.fault(http.StatusBadRequest, "template")(w)
		return
	}
	national, ok := strings.CutPrefix(in.Mobile, "0")
	if !ok || strings.Trim(national, "0123456789") != "" {
		s.fault(http.StatusBadRequest, "mobile")(w)
		return
	}
	wrong := ""
	text := stamphouseHole.ReplaceAllStringFunc(wording, func(hole string) string {
		value := fmt.Sprint(in.Variables[hole[1:len(hole)-1]])
		if in.Variables[hole[1:len(hole)-1]] == nil || strings.Contains(value, "://") || strings.Contains(value, "www.") ||
			len(value) > 40 {
			wrong = hole
		}
		return value
	})
	if wrong != "" {
		s.fault(http.StatusBadRequest, "variables")(w)
		return
	}
	s.serve(w, r, []offer{{From: in.Header, To: "+44" + national, Text: text, Ref: in.Ref, Report: in.Hook, Call: call}}, voice{
		taken: func(w http.ResponseWriter, all []verdict) {
			switch v := all[0]; v.Refused {
			case "":
				answer(w, http.StatusOK, map[string]any{"id": v.Entry.ID, "state": stamphouseWords[taken]})
			case "quota":
				answer(w, http.StatusForbidden, map[string]any{"fault": "quota", "resets_in": 3600})
			case invalid:
				s.fault(http.StatusBadRequest, "nonumber")(w)
			case blocked:
				s.fault(http.StatusBadRequest, "blocked")(w)
			default:
				s.fault(http.StatusBadRequest, v.Refused)(w)
			}
		},
		fault: s.fault(http.StatusInternalServerError, "internal"), limited: s.fault(http.StatusTooManyRequests, "rate"),
		noCredit: s.fault(http.StatusPaymentRequired, "credit"), noKey: s.fault(http.StatusUnauthorized, "key"),
	})
}

func (s *Stamphouse) post(ctx context.Context, r report) bool {
	body := fmt.Sprintf(
		`<?xml version="1.0" encoding="UTF-8"?><receipts><receipt id=%q state=%q><ref>%s</ref><at>%s</at></receipt></receipts>`,
		r.ID,
		stamphouseWords[r.Status],
		url.QueryEscape(r.Ref),
		r.at().Format(time.RFC3339),
	)
	password := StamphousePassword
	if r.Forged {
		password = "not the password"
	}
	return s.push(ctx, r.Report, password, body)
}

// postInbound pushes what somebody wrote back.
func (s *Stamphouse) postInbound(ctx context.Context, m written) bool {
	var text strings.Builder
	xml.EscapeText(&text, []byte(m.Text))
	return s.push(ctx, m.Report, StamphousePassword, fmt.Sprintf(
		`<?xml version="1.0" encoding="UTF-8"?><back id=%q mobile=%q header=%q><text>%s</text><at>%s</at></back>`,
		m.ID, m.From, m.To, text.String(), m.At.Format(time.RFC3339)))
}

func (s *Stamphouse) push(ctx context.Context, address, password, body string) bool {
	request, err := http.NewRequestWithContext(ctx, "POST", address, strings.NewReader(body))
	if err == nil {
		request.Header.Set("Content-Type", "application/xml")
		request.SetBasicAuth(StamphouseUser, password)
	}
	return s.deliver(request, err, done)
}
