package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/store"
)

func wireKey(k store.Key) client.Key {
	return client.Key{
		ID:         k.ID.String(),
		Name:       k.Name,
		Handle:     k.Handle,
		CreatedAt:  k.CreatedAt,
		LastUsedAt: k.LastUsedAt,
		RevokedAt:  k.RevokedAt,
		Cure:       k.Cure,
	}
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
	record, key, err := a.engine.Keys.Make(n.Name, n.Cure)
	if err == nil {
		err = a.engine.Keys.Add(c.Request.Context(), record)
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
	id, ok := a.id(c)
	if !ok {
		return
	}
	if err := a.engine.Keys.Revoke(c.Request.Context(), id); err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
