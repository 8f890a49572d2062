package api

import (
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/engine/money"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

// money tells what messages cost: estimated, told and billed.
func (a *API) money(c *gin.Context) {
	f, by, err := a.spending(c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	all, groups, err := a.engine.Money.Side(c.Request.Context(), f, by)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.Accounts{Since: f.Since, Until: f.Until, By: []string{}, All: a.wireAccount(all), Groups: []client.Account{}}
	for _, one := range by {
		w.By = append(w.By, string(one))
	}
	for _, g := range groups {
		w.Groups = append(w.Groups, a.wireAccount(g))
	}
	c.JSON(http.StatusOK, w)
}

// spanMost is how many days are told at most.
const spanMost = 3700

// spending reads what is to be told of money. A span is widened to whole days of UTC.
func (a *API) spending(c *gin.Context) (f store.Spending, by []money.By, err error) {
	chosen, err := a.filter(c, "by")
	if err != nil {
		return f, nil, err
	}
	var faults fault.Faults
	for _, one := range strings.FieldsFunc(c.Query("by"), func(r rune) bool { return r == ',' }) {
		switch one := money.By(strings.TrimSpace(one)); {
		case !slices.Contains(money.Bys, one):
			faults.Add("by", "that is not held side by side", fault.Words(money.Bys)+"; several with commas between")
		case !slices.Contains(by, one):
			by = append(by, one)
		}
	}
	now := a.engine.Now()
	f = store.Spending{
		Since:   chosen.Since.UTC(),
		Until:   chosen.Until.UTC(),
		Gateway: chosen.Gateway,
		Country: chosen.Country,
		Kind:    chosen.Kind,
	}
	if chosen.Until.IsZero() {
		f.Until = now.UTC()
		if chosen.Since.After(now) {
			f.Until = f.Since
		}
	}
	if chosen.Since.IsZero() {
		last := f.Until.Add(-time.Nanosecond)
		f.Since = time.Date(last.Year(), last.Month(), 1, 0, 0, 0, 0, time.UTC)
	}
	const day = 24 * time.Hour
	f.Since, f.Until = widened(f.Since, f.Until, day, spanMost, "ten years at most", &faults)
	if faults != nil {
		return f, nil, faults
	}
	return f, by, nil
}

func (a *API) wireAccount(g money.Group) client.Account {
	w := client.Account{
		Country: g.Country, Kind: g.Kind, Messages: g.Messages,
		Estimated: wireSums(g.Estimated), Unpriced: g.Unpriced, Told: wireCharged(g.Told),
		Avoidable: wireSums(g.Avoidable), AvoidableMessages: g.AvoidableMessages,
	}
	if g.Gateway != uuid.Nil {
		w.Gateway = a.gatewayName(g.Gateway)
	}
	if !g.At.IsZero() {
		w.At = &g.At
	}
	if !g.Kinds {
		billed := wireCharged(g.Billed)
		w.Billed = &billed
		w.Foreign, w.ForeignLines = wireSums(g.Foreign), g.ForeignLines
	}
	return w
}

func wireSums(s price.Sums) []client.Money {
	all := []client.Money{}
	for _, m := range s.Money() {
		all = append(all, *explain.Money(m, true))
	}
	return all
}

func wireCharged(c price.Charged) client.Charged {
	return client.Charged{Messages: c.N, Charged: wireSums(c.Sums), Compared: c.Alike, Over: wireSums(c.Over())}
}
