package dialect

import (
	"fmt"
	"slices"
	"time"
)

// foreign are answers that a web server, or whatever stands before one, gives
// without knowing of any message.
var foreign = []Reply{
	{Header: map[string]string{"content-type": "text/plain; charset=utf-8"}, Body: []byte("404 page not found\n")},
	{
		Header: map[string]string{"content-type": "text/html"},
		Body:   []byte("<html><head><title>404 Not Found</title></head><body>Not Found</body></html>"),
	},
	{
		Header: map[string]string{"content-type": "application/json"},
		Body:   []byte(`{"message":"Not Found","status":404,"error":"Not Found"}`),
	},
	{Header: map[string]string{}},
}

// saysAbsent reports whether an answer to a query says of a message that the
// gateway does not know it.
func (r Reading) saysAbsent() bool {
	return r.Meaning == Absent || slices.ContainsFunc(r.Items, func(i Item) bool { return i.Absent })
}

// bare reports whether any web server's answer with a status reads as if the
// gateway knew no such message.
func (d *Dialect) bare(status int) bool {
	return slices.ContainsFunc(foreign, func(reply Reply) bool {
		reply.Status = status
		return d.ReadQuery(reply, time.Time{}).saysAbsent()
	})
}

// Recognises reports whether an answer that says that the gateway knows no such
// message is recognisably the gateway's own. One that any web server could have
// given proves nothing.
func (d *Dialect) Recognises(reply Reply) bool { return !d.bare(reply.Status) }

// Warnings are what is well-formed in a dialect, and likely to do harm.
func (d *Dialect) Warnings() []string {
	if d.Query == nil {
		return nil
	}
	var all []string
	for _, status := range []int{404, 410, 400, 204, 200} {
		if d.bare(status) {
			all = append(
				all,
				fmt.Sprintf("query: any web server's answer %d reads as if the gateway knew no such message, so it proves nothing. "+
					"Add what only the gateway says, such as: when: .status == %d and .body.error? == \"no such message\"", status, status),
			)
		}
	}
	return all
}
