package api

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/store"
)

// acting lets what a request changes be written down under the name of its key,
// and, with If-Match (RFC 9110 §13.1.1), be refused where somebody else has changed
// it since it was read. What was read tells its version as ETag.
func (a *API) acting(c *gin.Context) {
	if c.Request.Method == http.MethodGet {
		// What was set through another instance is read now: else it could be shown under the version before it, and
		// whoever changes it be refused. Without the database what is known is shown.
		if err := a.engine.Roster.Reload(c.Request.Context()); err != nil {
			a.engine.Log.Warn("reading what was set", "error", err)
		}
		c.Header("ETag", fmt.Sprintf(`"%d"`, a.engine.Roster.Version()))
		return
	}
	var since *int64
	if given := c.GetHeader("If-Match"); given != "" && given != "*" {
		n, err := strconv.ParseInt(strings.Trim(strings.TrimPrefix(given, "W/"), `"`), 10, 64)
		if err != nil {
			a.refuse(c, fault.New("If-Match", fmt.Sprintf("%.40q is no version", given), "the ETag of what was read, such as \"42\""))
			return
		}
		last, err := a.engine.Store.LastChange(c.Request.Context())
		if err != nil {
			a.refuse(c, err)
			return
		}
		if n < 0 || n > last {
			a.refuse(c, fault.New("If-Match", fmt.Sprintf("the version %d was never given", n), "the ETag of what was read"))
			return
		}
		since = &n
	}
	c.Request = c.Request.WithContext(store.Acting(c.Request.Context(), keyOf(c).Name, since))
}

// whatChanges are the kinds of things whose changes are written down.
var whatChanges = []string{"gateway", "sender", "default", "rule", "template", "route", "prices", "key", "receiver",
	"passcode_limit", "passcode_rule", "passcode_alarm"}

func (a *API) changes(c *gin.Context) {
	f := store.ChangeFilter{What: c.Query("what"), Name: c.Query("name"), By: c.Query("by")}
	before, limit, faults := numbered(c)
	if f.What != "" && !slices.Contains(whatChanges, f.What) {
		faults.Add("what", fmt.Sprintf("%q is nothing whose changes are written down", f.What), strings.Join(whatChanges, ", "))
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.FindChanges(c.Request.Context(), f, before, limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.Change]{Items: []client.Change{}}
	if len(found) > limit {
		found = found[:limit]
		l.Next = strconv.FormatInt(found[limit-1].ID, 10)
	}
	for _, one := range found {
		l.Items = append(l.Items, client.Change{ID: one.ID, At: one.At, By: one.ByWhom, What: one.What, Name: one.Name, Action: one.Action,
			Before: one.Before, After: one.After})
	}
	c.JSON(http.StatusOK, l)
}
