package client

import (
	"context"
	"io"
	"net/url"
	"time"
)

// RecipientList is a list of recipients that is kept, to be written to again.
type RecipientList struct {
	Name      string           `json:"name"`
	Rows      int              `json:"rows"`
	Columns   []Column         `json:"columns"`
	Groups    []RecipientGroup `json:"groups"` // of one list only
	By        string           `json:"by"`     // the key that made it
	CreatedAt time.Time        `json:"created_at"`
	ChangedAt time.Time        `json:"changed_at"`
}

// RecipientGroup is how many recipients of a list are in a group.
type RecipientGroup struct {
	Name string `json:"name"`
	Rows int    `json:"rows"`
}

// ListedRecipient is somebody on a list.
type ListedRecipient struct {
	To     string            `json:"to"`
	Fields map[string]string `json:"fields"` // what stands in its columns, by their names
	Groups []string          `json:"groups"`
}

// SaveHint is how a sheet is read into a list.
type SaveHint struct {
	Encoding, Delimiter, Sheet string
	Locale                     string   // in whose conventions a workbook shows its cells; empty: that of the workbook
	HeadRow                    int      // the row that names the columns, 1 first; 0: it is recognised
	Country                    string   // where numbers without a country code are dialled
	Number                     string   // the column that holds numbers; empty: the one that is recognised
	Groups                     []string // that all of them are put in
	Replace                    bool     // what was on the list before goes, once all of this is there
	DryRun                     bool     // make every check and keep nothing
}

// RecipientsSaved says what came of a sheet that was read into a list. Rows = Added + Changed +
// Same + LeftOut.
type RecipientsSaved struct {
	List       RecipientList `json:"list"`
	Recognised string        `json:"recognised"` // what the sheet is written in
	Columns    []Column      `json:"columns"`    // of the sheet
	Rows       int           `json:"rows"`
	Added      int           `json:"added"`
	Changed    int           `json:"changed"`
	Same       int           `json:"same"` // were there already as they are, or stood there twice
	LeftOut    int           `json:"left_out"`
	Left       []LeftRow     `json:"left"` // the first of them
}

// LeftRow is a row that was left out.
type LeftRow struct {
	Line int    `json:"line"`
	Why  string `json:"why"`
}

// Invitation says which recipients of a list are to be rows of a batch.
type Invitation struct {
	List    string   `json:"list"`
	Groups  []string `json:"groups"`  // those in any of them; none: all
	Without []string `json:"without"` // and in none of these
	// At is how many rows stand before the first of them; nil: as many as there are.
	At *int `json:"at"`
}

// RecipientsRemoved says how many recipients were taken off a list, or out of a group.
type RecipientsRemoved struct {
	Removed int `json:"removed"`
}

func listPath(name, rest string) string { return "/v1/recipient-lists/" + url.PathEscape(name) + rest }

// RecipientLists are all lists that are kept.
func (c *Client) RecipientLists(ctx context.Context) ([]RecipientList, error) {
	return list[RecipientList](ctx, c, "/v1/recipient-lists")
}

// RecipientList is one list, with its groups.
func (c *Client) RecipientList(ctx context.Context, name string) (l RecipientList, err error) {
	return l, c.call(ctx, "GET", listPath(name, ""), nil, nil, &l)
}

// SaveRecipients reads a sheet (CSV, XLSX, JSON Lines, or numbers one a line) into a list, which
// is made if there is none. Numbers that are there are changed, and none stands there twice, so
// the same sheet may be saved again.
func (c *Client) SaveRecipients(ctx context.Context, name string, sheet io.Reader, h SaveHint) (s RecipientsSaved, err error) {
	q := url.Values{"group": h.Groups}
	for name, set := range map[string]bool{"replace": h.Replace, "dry_run": h.DryRun} {
		if set {
			q.Set(name, "true")
		}
	}
	hint := ListHint{Encoding: h.Encoding, Delimiter: h.Delimiter, Sheet: h.Sheet, Locale: h.Locale, HeadRow: h.HeadRow}
	values := hint.values()
	values["country"], values["number"] = h.Country, h.Number
	return s, c.call(ctx, "POST", listPath(name, "/recipients"+choose(q, values, 0)), nil, sheet, &s)
}

// Recipients lists who is on a list, and of a group where one is given, in the order in which they came.
func (c *Client) Recipients(ctx context.Context, name, group, number, cursor string, limit int) (l List[ListedRecipient], err error) {
	q := choose(url.Values{}, map[string]string{"group": group, "number": number, "cursor": cursor}, limit)
	return l, c.call(ctx, "GET", listPath(name, "/recipients"+q), nil, nil, &l)
}

// RemoveRecipients takes numbers off a list, up to a thousand, or out of a group where one is given.
func (c *Client) RemoveRecipients(ctx context.Context, name string, numbers []string, group string) (r RecipientsRemoved, err error) {
	q := choose(url.Values{"number": numbers}, map[string]string{"group": group}, 0)
	return r, c.call(ctx, "DELETE", listPath(name, "/recipients"+q), nil, nil, &r)
}

// RemoveRecipientList forgets a list. Batches that were made of it stay.
func (c *Client) RemoveRecipientList(ctx context.Context, name string) error {
	return c.call(ctx, "DELETE", listPath(name, ""), nil, nil, nil)
}

// Invite adds recipients of a list to the rows of a batch that is open.
func (c *Client) Invite(ctx context.Context, id string, i Invitation) (a BatchAppended, err error) {
	return a, c.call(ctx, "POST", batchPath(id, "/recipients"), nil, i, &a)
}
