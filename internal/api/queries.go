package api

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/internal/core/fault"
)

// queries are the parameters that each operation takes in the query string. Operations that are not here take none. A test
// holds them against openapi.yaml.
var queries = map[string][]string{
	"DELETE /v1/opt-outs/:number":                 {"why"},
	"DELETE /v1/recipient-lists/:list/recipients": {"group", "number"},
	"GET /v1/arrivals":                            {"by", "country", "gateway", "kind", "since", "step", "until"},
	"GET /v1/batches":                             {"cursor", "limit", "state"},
	"GET /v1/batches/:id/result":                  {"format", "left_out", "state"},
	"GET /v1/batches/:id/rows":                    {"cursor", "left_out", "limit", "state"},
	"GET /v1/changes":                             {"by", "cursor", "limit", "name", "what"},
	"GET /v1/conversations":                       {"cursor", "limit", "q", "waiting"},
	"GET /v1/conversations/:number":               {"cursor", "limit"},
	"GET /v1/events":                              {"cursor", "limit", "message", "outcome", "receiver", "since", "type", "until"},
	"GET /v1/inbound":                             {"cursor", "limit"},
	"GET /v1/messages": {
		"contested", "country", "cursor", "gateway", "gateway_ref", "key", "kind", "label", "limit",
		"reference", "sender", "since", "state", "template", "to", "until", "weak",
	},
	"GET /v1/messages/:id":                     {"raw"},
	"GET /v1/money":                            {"by", "country", "gateway", "kind", "since", "until"},
	"GET /v1/opt-outs":                         {"all", "cursor", "limit", "number"},
	"GET /v1/passcode-alarms":                  {"all"},
	"GET /v1/passcode-blocks":                  {"all"},
	"GET /v1/passcode-funnel":                  {"by", "country", "gateway", "purpose", "since", "template", "until"},
	"GET /v1/passcodes":                        {"country", "cursor", "limit", "purpose", "to"},
	"GET /v1/recipient-lists/:list/recipients": {"cursor", "group", "limit", "number"},
	"GET /v1/statements":                       {"cursor", "gateway", "limit"},
	"GET /v1/statements/:id/lines":             {"cursor", "heap", "how", "limit"},
	"GET /v1/statements/:id/ours":              {"cursor", "limit"},
	"GET /v1/strays":                           {"cursor", "fate", "gateway", "gateway_ref", "limit", "message", "number", "reason"},
	"GET /v1/tally": {
		"contested", "country", "gateway", "gateway_ref", "key", "kind", "label",
		"reference", "sender", "since", "state", "template", "to", "until",
	},
	"POST /v1/batches/:id/corrections": {"delimiter", "encoding", "head_row", "locale", "sheet"},
	"POST /v1/batches/:id/rows":        {"at", "delimiter", "encoding", "file", "head_row", "locale", "sheet"},
	"POST /v1/recipient-lists/:list/recipients": {
		"country", "delimiter", "dry_run", "encoding", "group", "head_row", "locale",
		"number", "replace", "sheet",
	},
	"POST /v1/rules/import": {"dry_run"},
	"POST /v1/statements": {
		"delimiter", "dry_run", "encoding", "file", "from",
		"gateway", "head_row", "locale", "mapping", "sheet", "until",
	},
	"PUT /v1/gateways/:name/prices": {"dry_run"},
	"PUT /v1/setup":                 {"dry_run"},
}

// inPath are the names of parameters in a path, which do not matter here.
var inPath = regexp.MustCompile(`[:*][^/]+`)

// queriesOf are the parameters of an operation, by its method and pattern as routes have them.
var queriesOf = func() map[string][]string {
	all := make(map[string][]string, len(queries))
	for operation, names := range queries {
		all[inPath.ReplaceAllString(operation, ":")] = names
	}
	return all
}()

// asked refuses parameters that an operation does not know: a filter that is passed over would choose everything.
func (a *API) asked(c *gin.Context) {
	if c.Request.URL.RawQuery == "" || strings.HasPrefix(c.FullPath(), "/v1/exports/") { // an export asks the list itself
		return
	}
	known := queriesOf[inPath.ReplaceAllString(c.Request.Method+" "+c.FullPath(), ":")]
	accepted := "no parameters"
	if len(known) > 0 {
		accepted = strings.Join(known, ", ")
	}
	var faults fault.Faults
	for name := range c.Request.URL.Query() {
		if !slices.Contains(known, name) {
			faults.Add(name, fmt.Sprintf("%s %s has no such parameter", c.Request.Method, c.FullPath()), accepted)
		}
	}
	if faults != nil {
		slices.SortFunc(faults, func(a, b fault.Fault) int { return strings.Compare(a.Field, b.Field) })
		a.refuse(c, faults)
	}
}
