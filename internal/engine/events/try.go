package events

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/webhook"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// Trial is what was said when somebody wanted to see whether an address takes events.
type Trial struct {
	Header       http.Header
	Body         []byte
	Status       int // 0: there was no answer
	AnswerHeader http.Header
	Answer       []byte
	Took         time.Duration
	Taken        bool
	Wrong        string // why it was not
}

// Try tells an address of nothing but that it is told, once, whatever else it is told of or not.
func (e *Events) Try(ctx context.Context, to string, secrets []webhook.Secret, timeout time.Duration) (Trial, error) {
	now := e.Now()
	body, err := json.Marshal(Told{Type: webhook.Test, Timestamp: now.UTC().Truncate(time.Millisecond),
		Data: json.RawMessage(`{"about":"Somebody wanted to see that this arrives. Nothing happened."}`)})
	if err != nil {
		return Trial{}, fmt.Errorf("making a test: %w", err)
	}
	t := Trial{Header: headerOf(secrets, store.IDAt(now), now, body), Body: body}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return t, fmt.Errorf("making a test: %w", err)
	}
	request.Header = t.Header
	began := time.Now()
	response, err := e.client.Do(request)
	if err != nil {
		t.Took, t.Wrong = time.Since(began), courier.Plain(err, timeout)
		return t, nil
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(response.Body, answerKept))
	t.Took, t.Status, t.AnswerHeader = time.Since(began), response.StatusCode, response.Header
	t.Answer = []byte(strings.ToValidUTF8(string(answer), "\uFFFD"))
	switch {
	case t.Status < 200 || t.Status > 299:
		t.Wrong = refusal(t.Status)
	case err != nil:
		t.Wrong = courier.Plain(err, timeout)
	default:
		t.Taken = true
	}
	return t, nil
}

// Find is a receiver by its name or id; nil if there is none.
func (e *Events) Find(name string) *roster.Receiver {
	id, err := uuid.Parse(name)
	if err != nil {
		id = uuid.Nil
	}
	return e.Roster.Receiver(id, name)
}
