package statements

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/store"
)

const listing = "dialect: listing\nsecrets: [key]\n" +
	"submit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n" +
	"statement:\n  request: {get: /list, query: '{from, until}', headers: '{\"x-key\": .secrets.key}'}\n" +
	"  read: '{gateway_ref: .id, to: .to, at: .sent, code: .status}'\n" +
	"codes: {OK: delivered}\n"

// shelf is a gateway that gives its list.
type shelf struct {
	mu    sync.Mutex
	asked []string
	gives func(w http.ResponseWriter, r *http.Request)
}

func (s *shelf) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	q := r.URL.Query()
	s.asked = append(s.asked, q.Get("from")+" "+q.Get("until"))
	gives := s.gives
	s.mu.Unlock()
	gives(w, r)
}

// since are the spans that were asked for since the last time.
func (s *shelf) since() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	asked := s.asked
	s.asked = nil
	return asked
}

// give says what it answers from now on; without lines the list is empty.
func (s *shelf) give(gives func(w http.ResponseWriter, r *http.Request)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.gives = gives
}

// list is an answer with a line that is different each time.
func list(n int) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintln(w, "id,to,sent,status")
		for i := range n {
			fmt.Fprintf(w, "g-%s-%d,447700900123,%s,OK\n", r.URL.Query().Get("from"), i, r.URL.Query().Get("from"))
		}
	}
}

// fetching is a fetcher with a clock of its own and a gateway that gives its list a day.
type fetching struct {
	*Fetcher
	t     *testing.T
	g     *roster.Gateway
	shelf *shelf
	mu    sync.Mutex
	at    time.Time
}

func fetch(t *testing.T) *fetching {
	t.Helper()
	o := open(t)
	f := &fetching{t: t, shelf: &shelf{gives: list(1)}, at: time.Date(2026, 11, 26, 1, 30, 0, 0, time.UTC)}
	server := httptest.NewServer(f.shelf)
	t.Cleanup(server.Close)
	day := "24h"
	f.g = rostertest.Gateway(t, o.Roster, listing, roster.Settings{
		Address: &server.URL, Secrets: map[string]string{"key": "a-key-that-nobody-sees"}, StatementEvery: &day})
	k := o.Kit
	k.Now = func() time.Time {
		f.mu.Lock()
		defer f.mu.Unlock()
		return f.at
	}
	carrier := courier.New(k.Now, false)
	t.Cleanup(carrier.Close)
	f.Fetcher = &Fetcher{Kit: k, Statements: o.Statements, Courier: carrier, After: time.Hour}
	return f
}

func (f *fetching) set(day, hour, minute int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.at = time.Date(2026, 11, day, hour, minute, 0, 0, time.UTC)
}

// look looks whether anything is due, and tells what was asked for.
func (f *fetching) look(want ...string) {
	f.t.Helper()
	if err := f.All(f.t.Context()); err != nil {
		f.t.Fatal(err)
	}
	if got := f.shelf.since(); !slices.Equal(got, want) {
		f.t.Errorf("at %s it is asked for %q, want %q", f.Now().Format(time.DateTime), got, want)
	}
}

func (f *fetching) schedule() Schedule {
	f.t.Helper()
	all, err := f.Schedules(f.t.Context())
	if err != nil || len(all) != 1 {
		f.t.Fatal(all, err)
	}
	return all[0]
}

func (f *fetching) taken() []store.Statement {
	f.t.Helper()
	all, err := f.Store.Statements(f.t.Context(), f.g.ID, [16]byte{}, 50)
	if err != nil {
		f.t.Fatal(err)
	}
	return all
}

// span is what is asked for of a day, with ten minutes more at both ends.
func span(day int) string {
	return fmt.Sprintf("2026-11-%02dT23:50:00Z 2026-11-%02dT00:10:00Z", day-1, day+1)
}

// Each day is fetched once, an hour after its end; what could not be fetched is tried again, with growing pauses, and
// days that were missed are made good.
func TestStatementsAreFetchedOnTime(t *testing.T) {
	t.Parallel()
	f := fetch(t)
	f.look(span(25)) // the last whole day, at once
	f.look()
	one := f.taken()[0]
	if one.Lines != 1 || one.ByWhom != "schedule" || !one.FromAt.Equal(time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC)) ||
		!one.UntilAt.Equal(time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)) || one.Mapping.Dialect != true {
		t.Errorf("%+v", one)
	}
	f.set(27, 0, 59)
	f.look()
	f.set(27, 1, 0)
	f.look(span(26))
	f.set(28, 1, 0)
	f.shelf.give(func(w http.ResponseWriter, r *http.Request) {
		http.Error(w, "closed for you, "+r.Header.Get("x-key"), http.StatusForbidden)
	})
	f.look(span(27))
	f.look()
	f.set(28, 1, 1)
	f.look(span(27))
	f.set(28, 1, 2)
	f.look()
	s := f.schedule()
	if s.FailedAt == nil || s.FailedAt.Minute() != 0 || s.Tries != 2 ||
		!strings.HasPrefix(s.Failure, "it answered 403: closed for you, ") ||
		strings.Contains(s.Failure, "nobody-sees") ||
		!s.Due.Equal(time.Date(2026, 11, 28, 1, 3, 0, 0, time.UTC)) {
		t.Errorf("%+v", s)
	}
	f.set(28, 1, 3)
	f.shelf.give(func(w http.ResponseWriter, r *http.Request) { // it breaks off
		w.Header().Set("Content-Length", "10000")
		list(50)(w, r)
	})
	f.look(span(27))
	if s := f.schedule(); s.Tries != 3 || s.Failure == "" || len(f.taken()) != 2 {
		t.Errorf("what broke off is kept: %+v, %d statements", s, len(f.taken()))
	}
	f.set(28, 1, 7)
	f.shelf.give(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "<html>\n<p>Please sign in</p>\n</html>\n")
	})
	f.look(span(27))
	if s := f.schedule(); s.Tries != 4 ||
		!strings.HasPrefix(s.Failure, "what it answered is no statement: none of its 2 lines can be read") {
		t.Errorf("a page is taken for a statement: %+v", s)
	}
	f.set(30, 12, 0) // and then nobody was there for two days
	f.shelf.give(list(0))
	f.look(span(27)) // nothing was carried
	if empty := f.taken()[0]; empty.Lines != 0 || empty.FromAt.Day() != 27 {
		t.Errorf("%+v", empty)
	}
	f.shelf.give(list(3))
	f.look(span(28))
	f.look(span(29))
	f.look()
	if s := f.schedule(); s.FailedAt != nil || s.Failure != "" || !s.Due.Equal(time.Date(2026, 12, 1, 1, 0, 0, 0, time.UTC)) ||
		len(f.taken()) != 5 {
		t.Errorf("%+v, %d statements", s, len(f.taken()))
	}
	hourly := "6h"
	g, err := f.Roster.ChangeGateway(t.Context(), f.g, roster.Settings{StatementEvery: &hourly})
	if err != nil {
		t.Fatal(err)
	}
	f.g = g
	f.look("2026-11-29T23:50:00Z 2026-11-30T06:10:00Z") // from then on by six hours
	f.look()
}

// Of many at once one fetches; what was begun by somebody who is gone is fetched when the lease is over; and where it is
// sent elsewhere nobody goes.
func TestStatementsAreFetchedOnce(t *testing.T) {
	t.Parallel()
	f := fetch(t)
	elsewhere := 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere++ }))
	defer other.Close()
	var many sync.WaitGroup
	for range 20 {
		many.Go(func() {
			if err := f.All(context.Background()); err != nil {
				t.Error(err)
			}
		})
	}
	many.Wait()
	if asked := f.shelf.since(); len(asked) != 1 {
		t.Errorf("it is asked %d times", len(asked))
	}
	if err := f.fetchNext(t.Context(), f.g); err != nil || f.shelf.since() != nil { // who looked before it was fetched
		t.Errorf("it is fetched twice, %v", err)
	}
	f.set(27, 1, 0)
	now := f.Now()
	if gone, err := f.Store.ClaimFetch(t.Context(), f.g.ID, now, now, now.Add(fetchLease)); err != nil || gone == nil {
		t.Fatal(gone, err)
	}
	f.look()
	f.set(27, 1, 29)
	f.look()
	f.set(27, 1, 30)
	f.shelf.give(func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, other.URL, http.StatusFound) })
	f.look(span(26))
	if s := f.schedule(); elsewhere > 0 || !strings.HasPrefix(s.Failure, "it answered 302") {
		t.Errorf("%d went elsewhere; %s", elsewhere, s.Failure)
	}
	stopped, stop := context.WithCancel(t.Context())
	f.set(27, 2, 0)
	f.shelf.give(func(_ http.ResponseWriter, r *http.Request) { stop(); <-r.Context().Done() })
	if err := f.All(stopped); err != nil {
		t.Error(err)
	}
	if s := f.schedule(); s.Tries != 1 || s.LeasedUntil != nil {
		t.Errorf("stopping counts as a failure, or holds the next one up: %+v", s)
	}
}

// A schedule that makes no sense is refused.
func TestSchedulesAreChecked(t *testing.T) {
	t.Parallel()
	f := fetch(t)
	for given, want := range map[string]string{"59m": "1h to 744h", "32 days": "1h to 744h", "daily": "1h to 744h"} {
		_, err := f.Roster.ChangeGateway(t.Context(), f.g, roster.Settings{StatementEvery: &given})
		if faults := fault.Of(err); len(faults) != 1 || faults[0].Field != "statement_every" ||
			!strings.HasPrefix(faults[0].Accepted, want) {
			t.Errorf("%s: %v, %+v", given, err, faults)
		}
	}
	mute, day := f.Roster.ByName("plain"), "24h"
	if _, err := f.Roster.ChangeGateway(t.Context(), mute, roster.Settings{StatementEvery: &day}); !strings.Contains(
		fmt.Sprint(err),
		"does not say how",
	) {
		t.Errorf("%v", err)
	}
	none := ""
	g, err := f.Roster.ChangeGateway(t.Context(), f.g, roster.Settings{StatementEvery: &none})
	if err != nil || g.StatementEveryMs != 0 {
		t.Error(g, err)
	}
	f.look()
}
