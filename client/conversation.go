package client

import (
	"context"
	"net/http"
	"net/url"
	"time"
)

// Conversation is a number that wrote, by what it wrote last.
type Conversation struct {
	Number  string    `json:"number"`
	Sender  string    `json:"sender"` // to which it wrote last
	Gateway string    `json:"gateway"`
	Text    string    `json:"text"`
	At      time.Time `json:"at"`
	Count   int       `json:"count"`   // how often it wrote
	Waiting bool      `json:"waiting"` // it wrote last, and nobody said that it wants no answer
}

// Said is one text of a conversation.
type Said struct {
	ID        string    `json:"id"`
	At        time.Time `json:"at"`
	Ours      bool      `json:"ours"` // else they wrote it
	Text      string    `json:"text"`
	Sender    string    `json:"sender"` // of ours, or to which they wrote
	Gateway   string    `json:"gateway"`
	State     string    `json:"state"` // of ours
	Cause     string    `json:"cause"`
	Reference string    `json:"reference"`
	Message   string    `json:"message"` // that theirs answers; empty: none is known
}

// ConversationFilter chooses conversations.
type ConversationFilter struct {
	Q       string // a number, or part of what it wrote
	Waiting bool   // only those that want an answer
}

// Conversations lists numbers that wrote, those that wrote last first.
func (c *Client) Conversations(ctx context.Context, f ConversationFilter, cursor string, limit int) (l List[Conversation], err error) {
	q := map[string]string{"q": f.Q, "cursor": cursor}
	if f.Waiting {
		q["waiting"] = "true"
	}
	return l, c.call(ctx, "GET", "/v1/conversations"+choose(url.Values{}, q, limit), nil, nil, &l)
}

func conversationPath(number, rest string) string {
	return "/v1/conversations/" + url.PathEscape(number) + rest
}

// Conversation is what was said with a number, the newest first.
func (c *Client) Conversation(ctx context.Context, number, cursor string, limit int) (l List[Said], err error) {
	return l, c.call(ctx, "GET", conversationPath(number, choose(url.Values{}, map[string]string{"cursor": cursor}, limit)), nil, nil, &l)
}

// Reply is an answer. What is empty is as it fits: from the sender to which they wrote, through the gateway that brought
// it.
type Reply struct {
	Text      string            `json:"text"`
	Sender    string            `json:"sender,omitempty"`
	Gateway   string            `json:"gateway,omitempty"`
	Kind      string            `json:"kind,omitempty"`
	Reference string            `json:"reference,omitempty"`
	Labels    map[string]string `json:"labels,omitempty"`
}

// Answer answers what a number wrote last.
func (c *Client) Answer(ctx context.Context, number string, d Reply, idempotencyKey string) (m Message, err error) {
	var header http.Header
	if idempotencyKey != "" {
		header = http.Header{"Idempotency-Key": {idempotencyKey}}
	}
	return m, c.call(ctx, "POST", conversationPath(number, ""), header, d, &m)
}

// ConversationDone says whether it is taken back that a conversation wants no answer.
type ConversationDone struct {
	Undo bool `json:"undo,omitempty"`
}

// ConversationsDone is of how many texts it was said.
type ConversationsDone struct {
	Texts int `json:"texts"`
}

// SetConversationDone says that what a number wrote until now wants no answer, or takes that back.
func (c *Client) SetConversationDone(ctx context.Context, number string, undo bool) (d ConversationsDone, err error) {
	return d, c.call(ctx, "POST", conversationPath(number, "/done"), nil, ConversationDone{undo}, &d)
}
