package fleet

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// port is a fleet with somebody who takes receipts.
type port struct {
	t      *testing.T
	fleet  *Fleet
	url    string
	report string

	mu       sync.Mutex
	receipts []map[string]any
	refuse   int // how many receipts are refused first
}

func harbour(t *testing.T) *port {
	t.Helper()
	p := &port{t: t, fleet: New(t.Context(), 7, slog.New(slog.DiscardHandler))}
	gateway := httptest.NewServer(p.fleet.Handler())
	t.Cleanup(gateway.Close)
	reports := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mac := hmac.New(sha256.New, []byte(HarbourlineReceiptSecret))
		mac.Write(body)
		var in struct{ Events []map[string]any }
		if json.Unmarshal(body, &in) != nil || len(in.Events) != 1 {
			t.Errorf("a receipt is %s", body)
			return
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.refuse > 0 {
			p.refuse--
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		in.Events[0]["genuine"] = r.Header.Get("X-Signature") == hex.EncodeToString(mac.Sum(nil))
		p.receipts = append(p.receipts, in.Events[0])
	}))
	t.Cleanup(reports.Close)
	p.url, p.report = gateway.URL+"/harbourline/v2/texts", reports.URL
	return p
}

// submit hands a text over and returns status and body; 0 if there is no
// answer.
func (p *port) submit(to, ref string) (int, map[string]any, http.Header) {
	body, _ := json.Marshal(map[string]string{"from": "Lanternholm", "to": to, "text": "Berth 3", "ref": ref, "report": p.report})
	return p.call("POST", p.url, body, HarbourlineKey)
}

func (p *port) call(method, url string, body []byte, key string) (int, map[string]any, http.Header) {
	p.t.Helper()
	request, err := http.NewRequest(method, url, bytes.NewReader(body))
	if err != nil {
		p.t.Fatal(err)
	}
	request.Header.Set("Authorization", "Bearer "+key)
	client := http.Client{Timeout: 400 * time.Millisecond}
	response, err := client.Do(request)
	if err != nil {
		return 0, nil, nil
	}
	defer response.Body.Close()
	var said map[string]any
	json.NewDecoder(response.Body).Decode(&said)
	return response.StatusCode, said, response.Header
}

// statuses waits for so many receipts and returns what they said.
func (p *port) statuses(n int) []string {
	p.t.Helper()
	deadline := time.After(10 * time.Second)
	for {
		p.mu.Lock()
		var got []string
		for _, r := range p.receipts {
			word := r["status"].(string)
			if r["genuine"] != true {
				word = "forged " + word
			}
			if _, with := r["ref"]; !with {
				word += " without ref"
			}
			got = append(got, word)
		}
		p.mu.Unlock()
		if len(got) >= n {
			return got
		}
		select {
		case <-deadline:
			p.t.Fatalf("%d receipts came, want %d: %v", len(got), n, got)
		case <-time.After(10 * time.Millisecond):
		}
	}
}

func TestEndings(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		number   string
		statuses []int // of this submission and its repetitions
		receipts []string
		ends     string // what a query says then
	}{
		endDelivered:    {"+447700900123", []int{202, 202}, []string{"LANDED"}, "LANDED"},
		endAbsent:       {"+447700900180", []int{202}, []string{"NOBODY"}, "NOBODY"},
		endInvalid:      {"+447700900181", []int{422, 422}, nil, ""},
		endTwice:        {"+447700900183", []int{202}, []string{"LANDED", "LANDED"}, "LANDED"},
		endEarly:        {"+447700900184", []int{202}, []string{"LANDED without ref"}, "LANDED"},
		endMute:         {"+447700900185", []int{0, 202}, []string{"LANDED without ref"}, "LANDED"},
		endFault:        {"+447700900186", []int{500, 500, 500}, nil, ""},
		endLimited:      {"+447700900187", []int{429, 202}, []string{"LANDED"}, "LANDED"},
		endFalseSuccess: {"+447700900188", []int{200}, nil, ""},
		endCutBefore:    {"+447700900190", []int{0, 202}, []string{"LANDED"}, "LANDED"},
		endCutAfter:     {"+447700900191", []int{0, 202}, []string{"LANDED"}, "LANDED"},
		endGarbled:      {"+447700900192", []int{502, 202}, []string{"LANDED"}, "LANDED"},
		endBackwards:    {"+447700900193", []int{202}, []string{"LANDED", "AFLOAT"}, "LANDED"},
		endContested:    {"+447700900194", []int{202}, []string{"NOBODY", "LANDED"}, "LANDED"},
		endForged:       {"+447700900195", []int{202}, []string{"forged NONUMBER", "LANDED"}, "LANDED"},
		endFaultOnce:    {"+447700900196", []int{500, 202}, []string{"LANDED"}, "LANDED"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := harbour(t)
			id := ""
			for i, want := range tt.statuses {
				status, said, header := p.submit(tt.number, "m-1")
				if status != want {
					t.Errorf("submission %d is answered %d %v, want %d", i+1, status, said, want)
				}
				if status == 429 && header.Get("Retry-After") != "1" {
					t.Errorf("429 comes with %v", header)
				}
				if status == 202 {
					if id != "" && said["id"] != id {
						t.Errorf("the same reference is %v, and was %s", said["id"], id)
					}
					id = said["id"].(string)
				}
			}
			got := p.statuses(len(tt.receipts))
			if !slices.Equal(got, tt.receipts) {
				t.Errorf("receipts %v, want %v", got, tt.receipts)
			}
			entries := p.fleet.Harbourline.Entries()
			if tt.ends == "" {
				if len(entries) != 0 {
					t.Errorf("it took %+v", entries)
				}
				return
			}
			if len(entries) != 1 || entries[0].Submissions != len(tt.statuses) || entries[0].Ref != "m-1" {
				t.Errorf("the ledger says %+v", entries)
			}
			// Where the receipt comes before the reply, it comes before the text, too.
			said, texts, arrived := map[string]any{}, []Handset{}, tt.ends == "LANDED"
			deadline := time.After(30 * time.Second)
			for said["status"] != tt.ends || (len(texts) == 1 && len(texts[0].Texts) == 1) != arrived {
				select {
				case <-deadline:
					t.Fatalf("asked, it says %v, want %s; the handset shows %v", said, tt.ends, texts)
				case <-time.After(10 * time.Millisecond):
				}
				_, said, _ = p.call("GET", p.url+"/"+entries[0].ID, nil, HarbourlineKey)
				texts = p.fleet.Phones.All(tt.number, 5)
			}
		})
	}
}

func TestReceiptsAreTriedAgain(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	p.refuse = 3
	p.submit("+447700900123", "m-1")
	if got := p.statuses(1); !slices.Equal(got, []string{"LANDED"}) {
		t.Errorf("receipts %v", got)
	}
}

func TestHarbourlineRefuses(t *testing.T) {
	t.Parallel()
	p := harbour(t)
	good := `{"from":"Lanternholm","to":"+447700900123","text":"x","ref":"m-1","report":"http://127.0.0.1:1/"}`
	for name, tt := range map[string]struct {
		body, key string
		want      int
	}{
		"another key":          {good, "guess", 401},
		"no JSON":              {"to=1", HarbourlineKey, 400},
		"a space for the plus": {strings.Replace(good, "+44", " 44", 1), HarbourlineKey, 400},
		"no text":              {strings.Replace(good, `"x"`, `""`, 1), HarbourlineKey, 400},
		"no reference":         {strings.Replace(good, `"m-1"`, `""`, 1), HarbourlineKey, 400},
		"a report elsewhere":   {strings.Replace(good, "127.0.0.1", "192.0.2.1", 1), HarbourlineKey, 400},
	} {
		if status, said, _ := p.call("POST", p.url, []byte(tt.body), tt.key); status != tt.want {
			t.Errorf("%s is answered %d %v, want %d", name, status, said, tt.want)
		}
	}
	if status, _, _ := p.call("GET", p.url+"/hl-nobody", nil, HarbourlineKey); status != 404 {
		t.Errorf("an unknown id is answered %d", status)
	}
}
