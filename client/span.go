package client

import (
	"bytes"
	"encoding/json"
)

// Span is a span of time as the service writes it: a number and a unit, such as 30s,
// 5m or 48h. The service also takes a number without one, which is seconds, as a JSON
// number too.
type Span string

// UnmarshalJSON reads a string, or a number of seconds.
func (s *Span) UnmarshalJSON(given []byte) error {
	if given = bytes.TrimSpace(given); len(given) > 0 && (given[0] == '-' || given[0] >= '0' && given[0] <= '9') {
		*s = Span(given) + "s"
		return nil
	}
	return json.Unmarshal(given, (*string)(s))
}
