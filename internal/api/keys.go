package api

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/store"
)

func wireKey(k store.Key) client.Key {
	w := client.Key{
		ID:         k.ID.String(),
		Name:       k.Name,
		Handle:     k.Handle,
		CreatedAt:  k.CreatedAt,
		LastUsedAt: k.LastUsedAt,
		RevokedAt:  k.RevokedAt,
		Cure:       k.Cure,
		BudgetDay:  k.BudgetDay.String(),
		Labels:     k.Labels.Map(),
		Practice:   k.Practice,

		PasscodeCountries: append([]string{}, k.PasscodeCountries...),
	}
	if k.MadeBy != nil {
		maker := k.MadeBy.String()
		w.MadeBy = &maker
	}
	return w
}

func (a *API) keys(c *gin.Context) {
	all, err := a.engine.Store.Keys(c.Request.Context())
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.Key]{Items: []client.Key{}}
	for _, k := range all {
		l.Items = append(l.Items, wireKey(k))
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) newKey(c *gin.Context) {
	n, err := read[client.NewKey](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	record, key, err := a.engine.Keys.Make(n.Name, n.Cure, n.BudgetDay, n.Labels)
	record.Practice = n.Practice
	for _, given := range n.PasscodeCountries {
		at := strings.ToUpper(strings.TrimSpace(given))
		if !phone.IsCountry(at) {
			err = errors.Join(err, fault.New("passcode_countries", fmt.Sprintf("%q is no country", given), "codes such as GB (ISO 3166-1)"))
		}
		record.PasscodeCountries = append(record.PasscodeCountries, at)
	}
	if err == nil {
		record, err = a.engine.Keys.AddFor(c.Request.Context(), keyOf(c), record)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := wireKey(record)
	w.Key = key
	c.JSON(http.StatusCreated, w)
}

func (a *API) revokeKey(c *gin.Context) {
	id, err := a.keyNamed(c)
	if err == nil {
		err = a.engine.Keys.Revoke(c.Request.Context(), id)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// keyNamed reads the id of a key in the address, or a start or an end of one that no
// other has.
func (a *API) keyNamed(c *gin.Context) (uuid.UUID, error) {
	given := c.Param("id")
	if id, err := uuid.Parse(given); err == nil {
		return id, nil
	}
	all, err := a.engine.Store.Keys(c.Request.Context())
	if err != nil {
		return uuid.Nil, err
	}
	missing := &nothing{what: "single key with an id like", name: given}
	var found []uuid.UUID
	for _, k := range all {
		if store.EndsAlike(k.ID, given) {
			found = append(found, k.ID)
		}
		missing.all = append(missing.all, k.ID.String()+" ("+k.Name+")")
	}
	if len(found) != 1 {
		return uuid.Nil, missing
	}
	return found[0], nil
}
