package api

import (
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/store"
)

func wireSender(s store.Sender) client.Sender {
	w := client.Sender{Sender: s.ID, Kind: s.Kind, Defaults: []client.SenderDefault{}, Gateways: append([]string{}, s.Gateways...),
		Countries: append(
			[]string{},
			s.Countries...), Registrations: map[string]string{}, TwoWay: s.TwoWay, PerSecond: s.PerSecond, RepliesTo: s.RepliesTo,
		CreatedAt: s.CreatedAt}
	for _, d := range s.Defaults {
		w.Defaults = append(w.Defaults, client.SenderDefault{Kind: string(d.Kind), Country: d.Country})
		w.Default = w.Default || d == sender.Default{}
	}
	for country, id := range s.Registrations {
		w.Registrations[country] = id
	}
	return w
}

func (a *API) senders(c *gin.Context) {
	l := client.List[client.Sender]{Items: []client.Sender{}}
	for _, s := range a.engine.Roster.Book().Senders {
		l.Items = append(l.Items, wireSender(s))
	}
	// The default first: it is what one looks for.
	slices.SortStableFunc(l.Items, func(a, b client.Sender) int {
		switch {
		case a.Default == b.Default:
			return 0
		case a.Default:
			return -1
		}
		return 1
	})
	c.JSON(http.StatusOK, l)
}

func (a *API) putSender(c *gin.Context) {
	n, err := read[client.NewSender](c)
	named := c.Param("sender")
	if err == nil && named != "" && n.Sender != named {
		err = fault.New("sender", "it is not the one in the address", named)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	record := store.Sender{
		ID:            n.Sender,
		Gateways:      n.Gateways,
		Countries:     upper(n.Countries),
		Registrations: map[string]string{},
		TwoWay:        n.TwoWay,
		PerSecond:     n.PerSecond,
		RepliesTo:     n.RepliesTo,
	}
	for country, id := range n.Registrations {
		record.Registrations[strings.ToUpper(country)] = strings.TrimSpace(id)
	}
	for _, d := range n.Defaults {
		record.Defaults = append(record.Defaults, sender.Default{Kind: pace.Kind(d.Kind), Country: strings.ToUpper(d.Country)})
	}
	if all := (sender.Default{}); n.Default && !slices.Contains(record.Defaults, all) {
		record.Defaults = append(record.Defaults, all)
	}
	s, err := a.engine.Roster.PutSender(c.Request.Context(), record, named != "", a.engine.Now())
	if err != nil {
		a.refuse(c, err)
		return
	}
	status := http.StatusCreated
	if named != "" {
		status = http.StatusOK
	}
	c.JSON(status, wireSender(s))
}

func upper(all []string) []string {
	list := make([]string, len(all))
	for i, s := range all {
		list[i] = strings.ToUpper(s)
	}
	return list
}

func (a *API) removeSender(c *gin.Context) {
	err := a.engine.Roster.RemoveSender(c.Request.Context(), c.Param("sender"))
	if errors.Is(err, store.ErrNotFound) {
		all := []string{}
		for _, one := range a.engine.Roster.Book().Senders {
			all = append(all, one.ID)
		}
		err = &nothing{"sender", c.Param("sender"), all}
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
