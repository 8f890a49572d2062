package api

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/store"
)

const (
	optOutsMost = 1000 // numbers a request
	whyMost     = 200  // characters
)

func (a *API) optOuts(c *gin.Context) {
	before, limit, faults := numbered(c)
	number := c.Query("number")
	if number != "" {
		n, err := phone.Parse(number)
		if err != nil {
			faults.Add("number", fault.Why(err), phone.Accepted+`; in an address the plus is written %2B`)
		}
		number = n.String()
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.OptOuts(c.Request.Context(), number, c.Query("all") == "true", before, limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.OptOut]{Items: []client.OptOut{}}
	if len(found) > limit {
		found = found[:limit]
		l.Next = strconv.FormatInt(found[limit-1].ID, 10)
	}
	for _, o := range found {
		l.Items = append(l.Items, client.OptOut{Number: o.Number, Since: o.Since, Why: o.Why, By: o.ByWhom, EndedAt: o.EndedAt,
			EndedWhy: o.EndedWhy, EndedBy: o.EndedBy})
	}
	c.JSON(http.StatusOK, l)
}

// reason checks why somebody does something.
func reason(why string, faults *fault.Faults) {
	if n := utf8.RuneCountInString(why); n > whyMost || strings.ContainsRune(why, 0) {
		faults.Add("why", fmt.Sprintf("%d characters, or characters that cannot be kept", n), fmt.Sprintf("at most %d characters", whyMost))
	}
}

func (a *API) addOptOuts(c *gin.Context) {
	n, err := read[client.NewOptOuts](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	if len(n.Numbers) == 0 || len(n.Numbers) > optOutsMost {
		faults.Add("numbers", fmt.Sprintf("%d numbers", len(n.Numbers)), fmt.Sprintf("1 to %d", optOutsMost))
	}
	reason(n.Why, &faults)
	now := a.engine.Now()
	distinct := map[string]bool{}
	var set []store.OptOut
	for i, given := range n.Numbers[:min(len(n.Numbers), optOutsMost)] {
		r, err := phone.Read(given, n.Country)
		if err != nil {
			faults.Add(fmt.Sprintf("numbers[%d]", i), fault.Why(err), phone.Accepted)
			continue
		}
		if number := r.Number.String(); !distinct[number] {
			distinct[number] = true
			set = append(set, store.OptOut{Number: number, Since: now, Why: n.Why, ByWhom: keyOf(c).Name})
		}
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	var added int
	if n.DryRun {
		held, err := a.engine.Store.OptedOut(c.Request.Context(), keysOf(distinct))
		if err != nil {
			a.refuse(c, err)
			return
		}
		added = len(set) - len(held)
	} else if fresh, err := a.engine.Store.AddOptOuts(c.Request.Context(), set); err == nil {
		added = len(fresh)
	} else {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, client.OptOutsAdded{Added: added, Already: len(n.Numbers) - added})
}

func keysOf(set map[string]bool) []string {
	var list []string
	for one := range set {
		list = append(list, one)
	}
	return list
}

func (a *API) removeOptOut(c *gin.Context) {
	var faults fault.Faults
	reason(c.Query("why"), &faults)
	number, err := phone.Parse(c.Param("number"))
	if err != nil {
		faults.Add("number", fault.Why(err), phone.Accepted)
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	ended, err := a.engine.Store.EndOptOuts(c.Request.Context(), []string{number.String()}, a.engine.Now(), c.Query("why"), keyOf(c).Name)
	if err == nil && ended == 0 {
		err = &nothing{what: "opt-out of", name: number.String()}
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// heldAgainst adds to recipients that they do not want to be written to. Passcodes are
// asked for, and go all the same.
func (a *API) heldAgainst(c *gin.Context, recipients []client.Recipient) error {
	var numbers []string
	for _, r := range recipients {
		if r.Number != nil && r.Number.E164 != "" && r.Kind != string(pace.OTP) {
			numbers = append(numbers, r.Number.E164)
		}
	}
	held, err := a.engine.Store.OptedOut(c.Request.Context(), numbers)
	if err != nil {
		return err
	}
	for i := range recipients {
		r := &recipients[i]
		if r.Number == nil || r.Kind == string(pace.OTP) {
			continue
		}
		if o, ok := held[r.Number.E164]; ok {
			r.Errors = append(r.Errors, client.FieldError{
				Field: "to",
				Wrong: strings.TrimSuffix(
					fmt.Sprintf("the recipient opted out on %s: %s", o.Since.UTC().Format("2006-01-02"), o.Why),
					": ",
				),
				Accepted: "a recipient who wants it; passcodes go all the same",
			})
		}
	}
	return nil
}
