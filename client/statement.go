package client

import (
	"context"
	"encoding/json"
	"io"
	"net/url"
	"time"
)

// TakeStatement takes a gateway's own list or bill in, as it is read. Matching goes on afterwards: see
// [Client.Statement].
func (c *Client) TakeStatement(ctx context.Context, file io.Reader, h StatementHint) (t StatementTaken, err error) {
	hint := ListHint{Encoding: h.Encoding, Delimiter: h.Delimiter, Sheet: h.Sheet, Locale: h.Locale, HeadRow: h.HeadRow}
	q := hint.values()
	q["gateway"], q["file"] = h.Gateway, h.File
	if h.Mapping != nil {
		encoded, err := json.Marshal(h.Mapping)
		if err != nil {
			return t, err
		}
		q["mapping"] = string(encoded)
	}
	if h.DryRun {
		q["dry_run"] = "true"
	}
	for name, at := range map[string]time.Time{"from": h.From, "until": h.Until} {
		if !at.IsZero() {
			q[name] = at.Format(time.RFC3339)
		}
	}
	return t, c.call(ctx, "POST", "/v1/statements"+choose(url.Values{}, q, 0), nil, file, &t)
}

// FetchStatement fetches a gateway's statement of a span of time, as its dialect says, and takes it in.
func (c *Client) FetchStatement(ctx context.Context, gateway string, from, until time.Time) (t StatementTaken, err error) {
	return t, c.call(ctx, "POST", "/v1/gateways/"+url.PathEscape(gateway)+"/statement", nil, StatementSpan{from, until}, &t)
}

// StatementSchedules tells of gateways whose statements are fetched how far they were.
func (c *Client) StatementSchedules(ctx context.Context) (l List[StatementSchedule], err error) {
	return l, c.call(ctx, "GET", "/v1/statement-schedules", nil, nil, &l)
}

func statementPath(id, rest string) string { return "/v1/statements/" + url.PathEscape(id) + rest }

// Statement is one statement.
func (c *Client) Statement(ctx context.Context, id string) (s Statement, err error) {
	return s, c.call(ctx, "GET", statementPath(id, ""), nil, nil, &s)
}

// Statements lists statements, the newest first; of a gateway, if it is given.
func (c *Client) Statements(ctx context.Context, gateway, cursor string, limit int) (l List[Statement], err error) {
	q := choose(url.Values{}, map[string]string{"gateway": gateway, "cursor": cursor}, limit)
	return l, c.call(ctx, "GET", "/v1/statements"+q, nil, nil, &l)
}

// StatementLines lists lines of a statement, of a heap and matched in one way, if these are given.
func (c *Client) StatementLines(ctx context.Context, id, heap, how, cursor string, limit int) (l List[StatementLine], err error) {
	q := choose(url.Values{}, map[string]string{"heap": heap, "how": how, "cursor": cursor}, limit)
	return l, c.call(ctx, "GET", statementPath(id, "/lines"+q), nil, nil, &l)
}

// StatementOurs lists messages of which a statement has no line.
func (c *Client) StatementOurs(ctx context.Context, id, cursor string, limit int) (l List[Message], err error) {
	q := choose(url.Values{}, map[string]string{"cursor": cursor}, limit)
	return l, c.call(ctx, "GET", statementPath(id, "/ours"+q), nil, nil, &l)
}

// WithdrawStatement takes all back that a statement said.
func (c *Client) WithdrawStatement(ctx context.Context, id, why string) (s Statement, err error) {
	return s, c.call(ctx, "POST", statementPath(id, "/withdraw"), nil, Why{why}, &s)
}
