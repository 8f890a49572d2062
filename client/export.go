package client

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strings"
)

// Export is a list to be written as a whole.
type Export struct {
	List    string     // as it is called below /v1: messages, statements/ID/lines
	Filters url.Values // those of the list
	Format  string     // csv, xlsx or jsonl; csv if it is empty
	Columns []string   // fields of the list, with a dot for what stands within one: price.amount; all if there are none
}

// Export writes a list with all of its pages, as they come.
func (c *Client) Export(ctx context.Context, e Export, out io.Writer) error {
	q := url.Values{}
	for name, values := range e.Filters {
		q[name] = values
	}
	path := "/v1/exports/" + strings.Trim(
		e.List,
		"/",
	) + choose(
		q,
		map[string]string{"format": e.Format, "columns": strings.Join(e.Columns, ",")},
		0,
	)
	response, err := c.do(ctx, "GET", path, nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if _, err := io.Copy(out, response.Body); err != nil {
		return fmt.Errorf("exporting %s: %w", e.List, err)
	}
	if response.Trailer.Get("Result") != "whole" {
		return fmt.Errorf("exporting %s: it broke off", e.List)
	}
	return nil
}
