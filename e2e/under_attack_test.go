package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"calmpigeon.example/client"
)

// underAttack is a service under a limit of memory and of files, with an honest caller who sends, issues passcodes and gets
// receipts the whole time, from an address of its own.
type underAttack struct {
	*house
	full    bool // as large as the attacks were that were seen; else smaller, for make test
	served  atomic.Int64
	longest atomic.Int64 // that the honest caller waited, in nanoseconds
}

// of is how many of something there are: small in make test, large in make attack.
func (s *underAttack) of(small, large int) int {
	if s.full {
		return large
	}
	return small
}

// honest goes on until ctx ends: a text that is delivered, which takes a receipt, and a passcode that is checked.
func (s *underAttack) honest(ctx context.Context) {
	key := must[client.Key](s.t)(s.Client.NewKey(ctx, client.NewKey{Name: "honest", Practice: true}))
	c := client.New(s.URL, key.Key)
	tried := func(what string, do func() error) {
		began := time.Now()
		for err := do(); err != nil && ctx.Err() == nil; err = do() { // it may be told to try again in a moment
			if time.Since(began) > 20*time.Second {
				s.t.Errorf("the honest caller's %s has failed for %v: %v", what, time.Since(began).Round(time.Second), err)
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
		if took := int64(time.Since(began)); took > s.longest.Load() {
			s.longest.Store(took)
		}
	}
	for n := 0; ctx.Err() == nil; n++ {
		var m client.Message
		tried("text", func() (err error) {
			m, err = c.SendOnce(ctx, client.Draft{To: "+447700900001", Text: fmt.Sprintf("Crossing %d", n), Gateway: "harbourline"},
				fmt.Sprint("honest-", n))
			return err
		})
		tried("receipt", func() error {
			now, err := c.Message(ctx, m.ID, false)
			if err == nil && now.State != "delivered" {
				err = errors.New("it is " + now.State)
			}
			return err
		})
		var p client.Passcode
		tried("passcode", func() (err error) {
			p, err = c.Issue(ctx, client.NewPasscode{To: fmt.Sprintf("+4477009001%02d", n%90), Purpose: fmt.Sprint("sign-in ", n%20), Reveal: true,
				Gateway: "harbourline"}, fmt.Sprint("code-", n))
			return err
		})
		tried("check", func() error {
			v, err := c.Check(ctx, p.ID, p.Code)
			if err == nil && v.Verdict != "right" && v.Verdict != "used" {
				err = errors.New("the code is " + v.Verdict)
			}
			return err
		})
		if ctx.Err() == nil {
			s.served.Add(1)
		}
	}
}

// from is a client whose connections come from another address of loopback.
func from(address string) *http.Client {
	d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	return &http.Client{Transport: &http.Transport{DialContext: d.DialContext, MaxIdleConnsPerHost: 64}}
}

// post makes a request as somebody else does.
func (s *underAttack) post(c *http.Client, method, path, key, body string) (status int, said string, err error) {
	r, err := http.NewRequestWithContext(s.t.Context(), method, s.URL+path, strings.NewReader(body))
	if err != nil {
		return 0, "", err
	}
	r.Header.Set("Authorization", "Bearer "+key)
	r.Header.Set("Content-Type", "application/json")
	response, err := c.Do(r)
	if err != nil {
		return 0, "", err
	}
	defer response.Body.Close()
	read, err := io.ReadAll(response.Body)
	return response.StatusCode, string(read), err
}

// many does something n times, so many at the same time.
func many(n, atOnce int, do func(i int)) {
	var running sync.WaitGroup
	var next atomic.Int64
	for range atOnce {
		running.Go(func() {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				do(i)
			}
		})
	}
	running.Wait()
}

// Under every attack that was ever seen, each of which is made again here, the honest caller is served, and the service needs
// little memory. make attack makes them as large as they were.
func TestTheHonestAreServedUnderAttack(t *testing.T) {
	t.Parallel()
	s := &underAttack{full: os.Getenv("ATTACK") == "full"}
	s.house = build(t, func(h *house) { h.memory, h.files = 4<<20, s.of(768, 1280) }).withHarbourline()
	none := []client.PasscodeLimit{}
	for _, by := range []string{"number", "range"} {
		for _, window := range []string{"hour", "day"} {
			none = append(none, client.PasscodeLimit{By: by, Window: window})
		}
	}
	must[client.List[client.PasscodeLimit]](t)(s.Client.SetPasscodeLimits(t.Context(), none))
	rules := must[client.List[client.PasscodeRule]](t)(s.Client.PasscodeRules(t.Context()))
	for i := range rules.Items {
		rules.Items[i].Act = "off"
	}
	must[client.List[client.PasscodeRule]](t)(s.Client.SetPasscodeRules(t.Context(), rules.Items))
	key := must[client.Key](t)(s.Client.NewKey(t.Context(), client.NewKey{Name: "hostile"})).Key

	ctx, stop := context.WithCancel(t.Context())
	var caller sync.WaitGroup
	caller.Go(func() { s.honest(ctx) })
	t.Cleanup(func() { stop(); caller.Wait() })
	waits := func(what string, before int64) {
		t.Helper()
		eventually(t, "the honest caller is served "+what, func() bool { return s.served.Load() > before })
	}
	waits("at first", 0)
	hostile := from("127.0.0.2")
	for _, attack := range []struct {
		name string
		do   func(t *testing.T)
	}{
		{"strays", func(t *testing.T) { s.strays(t, hostile) }},
		{"headers of replies", s.headers},
		{"templates", func(t *testing.T) { s.templates(t, hostile, key) }},
		{"wrong keys", func(t *testing.T) { s.wrongKeys(t, hostile) }},
		{"streams", func(t *testing.T) { s.streams(t, hostile, key) }},
		{"connections that say nothing", s.connections},
		{"blocks", s.blocks},
		{"labels", func(t *testing.T) { s.labels(t, hostile, key) }},
		{"answers that nobody reads", func(t *testing.T) { s.unread(t, key) }},
		{"exports", func(t *testing.T) { s.exports(t, hostile, key) }},
	} {
		t.Run(attack.name, func(t *testing.T) {
			s.longest.Store(0)
			before, began := s.served.Load(), time.Now()
			attack.do(t)
			during, took := s.served.Load()-before, time.Since(began)
			waits("after "+attack.name, s.served.Load())
			if during == 0 && took > 10*time.Second {
				t.Errorf("in %v of it the honest caller was not served", took)
			}
			rss := s.mostMemory()
			if rss > 600 {
				t.Errorf("the service had %d MiB", rss)
			}
			t.Logf("%v; the honest caller was served %d times meanwhile and waited %v at most; %d MiB", took.Round(time.Millisecond), during,
				time.Duration(s.longest.Load()).Round(time.Millisecond), rss)
		})
	}
	if said := s.said(); strings.Contains(said, `"level":"ERROR"`) && strings.Contains(said, "panicked") {
		t.Errorf("something panicked:\n%s", said)
	}
}

// quayside adds a gateway whose receipts anybody can make who knows their address, which is returned.
func (s *underAttack) quayside(t *testing.T) (receipts string) {
	t.Helper()
	var told atomic.Value
	door := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var in struct{ Report string }
		json.NewDecoder(r.Body).Decode(&in)
		told.Store(in.Report)
		fmt.Fprint(w, `{"id":"1"}`)
	}))
	t.Cleanup(door.Close)
	must[client.Gateway](t)(s.Client.AddGateway(t.Context(), client.NewGateway{Name: "quayside", Address: door.URL,
		Secrets: map[string]string{}, Source: reading(`{gateway_ref: .query.id, state: "delivered"}`, 0)}))
	s.await(s.send(client.Draft{To: "+447700900002", Gateway: "quayside", Text: "x"}).ID, "taken", func(m client.Message) bool {
		return m.State != "queued" && m.State != "sending"
	})
	return strings.TrimPrefix(told.Load().(string), s.URL)
}

func (s *underAttack) strays(t *testing.T, hostile *http.Client) {
	at := s.quayside(t)
	n := s.of(4000, 60_000)
	many(n, 32, func(i int) {
		status, said, err := s.post(hostile, "GET", fmt.Sprintf("%s?id=nobody-%d", at, i), "", "")
		if err != nil || status >= 500 && status != 503 {
			t.Errorf("receipt %d: %d %.200s, %v", i, status, said, err)
		}
	})
	if !s.full {
		return
	}
	eventually(t, "the oldest are removed, which is told", func() bool {
		for _, one := range must[client.Attention](t)(s.Client.Attention(t.Context())).Items {
			if one.What == "strays_removed" && one.Gateway == "quayside" {
				return true
			}
		}
		return false
	})
}

func (s *underAttack) headers(t *testing.T) {
	long := strings.Repeat("h", 1<<16)
	var came atomic.Int64
	const together = 40
	door := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for n, began := came.Add(1), time.Now(); n < together && came.Load() < together && time.Since(began) < 5*time.Second; {
			time.Sleep(10 * time.Millisecond) // so that they are answered at the same time
		}
		for i := range 150 {
			w.Header().Set(fmt.Sprint("X-Long-", i), long)
		}
		fmt.Fprint(w, `{"id":"1"}`)
	}))
	t.Cleanup(door.Close)
	g := must[client.Gateway](t)(s.Client.AddGateway(t.Context(), client.NewGateway{Name: "shouter", Address: door.URL, InFlight: 64,
		Secrets: map[string]string{}, Source: reading(`{gateway_ref: .query.id, state: "delivered"}`, 0)}))
	for i := range s.of(64, 300) {
		s.send(client.Draft{To: fmt.Sprintf("+4477009002%02d", i%90), Gateway: g.Name, Text: fmt.Sprint("x", i)})
	}
	eventually(t, "many were tried at the same time", func() bool { return came.Load() >= together })
	must[client.Gateway](t)(s.Client.PauseGateway(t.Context(), g.Name, ""))
}

func (s *underAttack) templates(t *testing.T, hostile *http.Client, key string) {
	source := func(i, long int) string {
		return string(must[[]byte](t)(json.Marshal(map[string]string{"source": fmt.Sprintf(
			"name: t%d\nkind: transactional\nlanguage: en\ntexts: {en: %s}\n", i, strings.Repeat("x", long))})))
	}
	many(s.of(10, 60), 8, func(i int) {
		if status, said, err := s.post(hostile, "POST", "/v1/templates", key, source(i, 229_000)); err != nil || status != 422 {
			t.Errorf("a template of 229 KB: %d %.200s, %v", status, said, err)
		}
	})
	full := atomic.Int64{}
	many(s.of(40, 200), 8, func(i int) {
		status, said, err := s.post(hostile, "POST", "/v1/templates", key, source(i, 60_000))
		if err != nil || status != 201 && status != 409 {
			t.Errorf("a template of 60 KB: %d %.200s, %v", status, said, err)
		}
		if status == 409 && strings.Contains(said, "full") {
			full.Add(1)
		}
	})
	if s.full && full.Load() == 0 {
		t.Error("there is room for all of them")
	}
	many(s.of(8, 64), 16, func(i int) {
		path := []string{"/v1/templates", "/v1/setup"}[i%2]
		if status, said, err := s.post(hostile, "GET", path, key, ""); err != nil || status != 200 && status != 503 {
			t.Errorf("%s: %d %.200s, %v", path, status, said, err)
		}
	})
}

func (s *underAttack) wrongKeys(t *testing.T, hostile *http.Client) {
	before := strings.Count(s.said(), "wrong API keys")
	slowed := atomic.Int64{}
	many(s.of(400, 5000), 32, func(i int) {
		status, said, err := s.post(hostile, "GET", "/v1/messages", fmt.Sprintf("pigeon_%08d_%032d", i, i), "")
		if err != nil || status != 401 && status != 429 {
			t.Errorf("a wrong key: %d %.200s, %v", status, said, err)
		}
		if status == 429 {
			slowed.Add(1)
		}
	})
	if n := slowed.Load(); n < int64(s.of(300, 4500)) {
		t.Errorf("%d were slowed", n)
	}
	if n := strings.Count(s.said(), "wrong API keys") - before; n < 1 || n > 3 {
		t.Errorf("it was told %d times", n)
	}
}

func (s *underAttack) streams(t *testing.T, hostile *http.Client, key string) {
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var open, refused atomic.Int64
	var running sync.WaitGroup
	n := s.of(200, 1100)
	for range n {
		running.Go(func() {
			r := must[*http.Request](t)(http.NewRequestWithContext(ctx, "GET", s.URL+"/v1/messages/follow", nil))
			r.Header.Set("Authorization", "Bearer "+key)
			response, err := hostile.Do(r)
			if err != nil {
				refused.Add(1)
				return
			}
			defer response.Body.Close()
			if response.StatusCode != 200 {
				refused.Add(1)
				return
			}
			open.Add(1)
			io.Copy(io.Discard, response.Body)
		})
	}
	eventually(t, "each is answered", func() bool { return int(open.Load()+refused.Load()) >= n })
	if open.Load() == 0 || int(open.Load()) > n/2 {
		t.Errorf("%d streams of one key are open, %d refused", open.Load(), refused.Load())
	}
	before := s.served.Load()
	eventually(t, "the honest caller is served meanwhile", func() bool { return s.served.Load() > before+1 })
	stop()
	running.Wait()
}

func (s *underAttack) connections(t *testing.T) {
	var mu sync.Mutex
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	many(s.of(600, 1500), 32, func(i int) {
		d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, byte(2+i%5))}, Timeout: 5 * time.Second}
		c, err := d.DialContext(t.Context(), "tcp", s.listen())
		if err != nil {
			return // it waits to be accepted
		}
		mu.Lock()
		defer mu.Unlock()
		open = append(open, c)
	})
	before := s.served.Load()
	eventually(t, "the honest caller is served meanwhile", func() bool { return s.served.Load() > before })
}

func (s *underAttack) blocks(t *testing.T) {
	first := client.NewPasscodeBlock{What: "number", Value: "+447700900777", Why: "fraud"}
	must[client.PasscodeBlock](t)(s.Client.BlockPasscodes(t.Context(), first))
	n := s.of(2000, 49_999)
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), s.database))
	defer db.Close(context.Background())
	if _, err := db.Exec(t.Context(), `INSERT INTO passcode_blocks (id, by_what, value, since, by_whom, why)
		SELECT gen_random_uuid(), 'number', '+4420794' || (10000 + i), now(), '', '' FROM generate_series(1, $1::int) AS i`, n); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Client.Issue(t.Context(), client.NewPasscode{To: first.Value, Purpose: "sign-in"}, ""); err == nil ||
		!strings.Contains(err.Error(), "gets no passcodes") {
		t.Errorf("the oldest block: %v", err)
	}
	_, err := s.Client.BlockPasscodes(t.Context(), client.NewPasscodeBlock{What: "number", Value: "+447700900778", Why: "fraud"})
	if s.full != (err != nil) {
		t.Errorf("one more: %v", err)
	}
	if _, err := db.Exec(t.Context(), "DELETE FROM passcode_blocks"); err != nil {
		t.Fatal(err)
	}
}

func (s *underAttack) labels(t *testing.T, hostile *http.Client, key string) {
	many(s.of(300, 1500), 16, func(i int) {
		status, said, err := s.post(hostile, "POST", "/v1/messages", key, fmt.Sprintf(
			`{"to":"+447700900003","text":"x","gateway":"harbourline","send_at":"%s","labels":{"n":"%d"}}`,
			time.Now().Add(24*time.Hour).UTC().Format(time.RFC3339), i))
		if err != nil || status != 202 {
			t.Errorf("message %d: %d %.200s, %v", i, status, said, err)
		}
	})
	own := s.send(client.Draft{To: "+447700900004", Text: "x", Labels: map[string]string{"shop": "eu"}})
	if own.Labels["shop"] != "eu" {
		t.Errorf("another application's labels: %v", own.Labels)
	}
}

func (s *underAttack) unread(t *testing.T, key string) {
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	for i := range s.of(40, 200) {
		d := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 3)}}
		c := must[net.Conn](t)(d.DialContext(t.Context(), "tcp", s.listen()))
		c.(*net.TCPConn).SetReadBuffer(4096)
		open = append(open, c)
		fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n\r\n", []string{"/v1/templates", "/openapi.yaml"}[i%2], key)
	}
	before := s.served.Load()
	eventually(t, "the honest caller is served meanwhile", func() bool { return s.served.Load() > before+1 })
}

func (s *underAttack) exports(t *testing.T, hostile *http.Client, key string) {
	var list strings.Builder
	list.WriteString("to,name\n")
	for i := range s.of(2000, 300_000) {
		fmt.Fprintf(&list, "+4420794%05d,Passenger %d\n", 60_000+i%1000, i)
	}
	one := s.batched([]byte(list.String()), client.BatchWants{Text: "Hello {name}"})
	many(6, 6, func(int) {
		path := "/v1/exports/batches/" + one.ID + "/rows?format=xlsx"
		if status, said, err := s.post(hostile, "GET", path, key, ""); err != nil || status != 200 || len(said) < 10_000 {
			t.Errorf("an export: %d, %d octets, %v", status, len(said), err)
		}
	})
}
