package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

func TestProblemsAreErrors(t *testing.T) {
	t.Parallel()
	for name, tt := range map[string]struct {
		status     int
		body, says string
	}{
		"problem details":     {422, `{"title":"No","status":422,"errors":[{"field":"to","wrong":"is empty","accepted":"a number"}]}`, "to: is empty\n    accepted: a number"},
		"a page of a proxy":   {502, "<html>", "answered 502 Bad Gateway"},
		"JSON of another one": {500, `{"error":"x"}`, "Internal Server Error"},
	} {
		t.Run(name, func(t *testing.T) {
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.WriteHeader(tt.status)
				fmt.Fprint(w, tt.body)
			}))
			defer server.Close()
			_, err := New(server.URL+"/", "k").Send(t.Context(), Draft{})
			var problem *Problem
			if !errors.As(err, &problem) || problem.Status != tt.status || !strings.Contains(err.Error(), tt.says) {
				t.Errorf("%v, want %q", err, tt.says)
			}
		})
	}
}

// A stream that breaks is taken up again; the end of the message ends it.
func TestFollowSurvivesABrokenStream(t *testing.T) {
	t.Parallel()
	var connections atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch connections.Add(1) {
		case 1:
			fmt.Fprint(w, "event:message\ndata:{\"state\":\"queued\"}\n\n: still here\n\n")
		case 2:
			w.WriteHeader(http.StatusServiceUnavailable)
		default:
			fmt.Fprint(w, "data:{\"state\":\"accepted\"}\n\ndata:{\"state\":\"delivered\",\"final\":true}\n\n")
		}
	}))
	defer server.Close()
	var states []string
	err := New(server.URL, "k").Follow(t.Context(), "m", func(m Message) bool {
		states = append(states, m.State)
		return true
	})
	if err != nil || strings.Join(states, " ") != "queued accepted delivered" {
		t.Errorf("%v, %v", states, err)
	}
}

// What only reads is tried again when the connection breaks; what sends is
// not: whether to repeat that is for the caller to say, with an idempotency key.
func TestOnlyReadingIsRepeated(t *testing.T) {
	t.Parallel()
	var asked atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if asked.Add(1) < readTries {
			panic(http.ErrAbortHandler)
		}
		fmt.Fprint(w, `{"total":7}`)
	}))
	defer server.Close()
	c := New(server.URL, "k")
	if tally, err := c.Tally(t.Context(), Filter{}); err != nil || tally.Total != 7 || asked.Load() != readTries {
		t.Errorf("%+v, %v after %d requests", tally, err, asked.Load())
	}
	asked.Store(0)
	if _, err := c.Send(t.Context(), Draft{}); err == nil || asked.Load() != 1 {
		t.Errorf("%v after %d requests, want an error after one", err, asked.Load())
	}
}

func TestFollowEnds(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.Path, "nobody") {
			w.WriteHeader(http.StatusNotFound)
			return
		}
		fmt.Fprint(w, "data:{\"state\":\"queued\"}\n\n")
		w.(http.Flusher).Flush()
		<-r.Context().Done()
	}))
	defer server.Close()
	c := New(server.URL, "k")
	if err := c.Follow(t.Context(), "m", func(Message) bool { return false }); err != nil {
		t.Errorf("when it has seen enough: %v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if err := c.Follow(ctx, "m", func(Message) bool { return true }); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("when time is over: %v", err)
	}
	var problem *Problem
	if err := c.Follow(t.Context(), "nobody", func(Message) bool { return true }); !errors.As(err, &problem) {
		t.Errorf("of no message: %v", err)
	}
}

func TestFilterLeavesOutWhatIsEmpty(t *testing.T) {
	if got := (Filter{}).values().Encode(); got != "" {
		t.Errorf("an empty filter is %q", got)
	}
	f := Filter{
		To:        "+447700900123",
		States:    []string{"expired", "rejected"},
		Contested: true,
		Since:     time.Date(2026, 11, 15, 7, 40, 0, 0, time.UTC),
	}
	if got, want := f.values().Encode(), "contested=true&since=2026-11-15T07%3A40%3A00Z&state=expired%2Crejected&to=%2B447700900123"; got != want {
		t.Errorf("got %s, want %s", got, want)
	}
}
