package api

import (
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/internal/core/fault"
)

func asked(method, target, kind, body string) *gin.Context {
	c, _ := gin.CreateTestContext(httptest.NewRecorder())
	c.Request = httptest.NewRequest(method, target, strings.NewReader(body))
	c.Request.Header.Set("Content-Type", kind)
	return c
}

func TestPageOf(t *testing.T) {
	t.Parallel()
	id := uuid.New()
	for query, want := range map[string]page{
		"":                                   {uuid.Nil, pageUsual},
		"?limit=500":                         {uuid.Nil, 500},
		"?limit=7&cursor=" + id.String():     {id, 7},
		"?limit=0":                           {},
		"?limit=501":                         {},
		"?limit=x&cursor=y":                  {},
		"?cursor=" + strings.Repeat("a", 99): {},
	} {
		p, faults := pageOf(asked("GET", "/v1/messages"+query, "", ""))
		if (faults != nil) != (want == page{}) || faults == nil && p != want {
			t.Errorf("%q: %+v, %v; want %+v", query, p, faults, want)
		}
	}
	// A list that is gone through page by page has everything once.
	all := make([]uuid.UUID, 23)
	for i := range all {
		all[i] = uuid.UUID{byte(i + 1)}
	}
	var seen []uuid.UUID
	p := page{limit: 5}
	for rounds := 0; rounds < 9; rounds++ {
		from := slices.Index(all, p.after) + 1
		some, next := cut(p, all[from:min(from+p.limit+1, len(all))], func(id *uuid.UUID) uuid.UUID { return *id })
		if seen = append(seen, some...); next == "" {
			break
		}
		p.after = uuid.MustParse(next)
	}
	if !slices.Equal(seen, all) {
		t.Errorf("seen were %d of %d", len(seen), len(all))
	}
}

func TestRead(t *testing.T) {
	t.Parallel()
	type request struct {
		To    string `json:"to"`
		Count int    `json:"count"`
	}
	const kind = "application/json"
	for name, tt := range map[string]struct{ kind, body, field, why string }{
		"as it should be":     {kind, `{"to":"x","count":3}`, "", ""},
		"with its characters": {kind + "; charset=utf-8", `{"to":"é"}`, "", ""},
		"a form":              {"application/x-www-form-urlencoded", "to=x", "body", "sent as"},
		"empty":               {kind, "", "body", "empty"},
		"no JSON":             {kind, "{", "body", "unexpected EOF"},
		"a list":              {kind, "[]", "body", "a list"},
		"two objects":         {kind, `{} {}`, "body", "follows"},
		"a field misspelt":    {kind, `{"too":"x"}`, "too", "no such field"},
		"a number for a word": {kind, `{"to":7}`, "to", "number"},
		"a word for a number": {kind, `{"count":"7"}`, "count", "string"},
		"a fraction":          {kind, `{"count":1.5}`, "count", "number"},
	} {
		got, err := read[request](asked("POST", "/", tt.kind, tt.body))
		if tt.field == "" {
			if err != nil || got.To == "" {
				t.Errorf("%s: %+v, %v", name, got, err)
			}
			continue
		}
		field, why := "body", fault.Why(err)
		if faults := fault.Of(err); faults != nil {
			field, why = faults[0].Field, faults[0].Wrong
		}
		if err == nil || field != tt.field || !strings.Contains(why, tt.why) {
			t.Errorf("%s: %s: %q; want %s: %q", name, field, why, tt.field, tt.why)
		}
	}
}
