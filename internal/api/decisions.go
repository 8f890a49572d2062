package api

import (
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/engine/chase"
	"calmpigeon.example/internal/engine/decide"
)

// decisions decides about messages.
func (a *API) decisions(c *gin.Context) {
	n, err := read[client.MessageDecision](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	ids := idsOf("messages", n.Messages, decide.Most, &faults)
	verdict, err := decide.ParseVerdict(n.Decision)
	if err != nil {
		faults.Add("decision", fmt.Sprintf("%q is none", n.Decision), fault.Words(decide.Verdicts))
	}
	reason(n.Why, &faults)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	decided, refused, err := a.engine.Decide.Decide(c.Request.Context(), ids, verdict, keyOf(c).Name, n.Why, n.DryRun)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.Decided{Decided: decided, Refused: []client.MessageRefused{}, DryRun: n.DryRun}
	for _, r := range refused {
		w.Refused = append(w.Refused, client.MessageRefused{Message: r.Message.String(), Why: r.Why})
	}
	c.JSON(http.StatusOK, w)
}

// chase lets messages be asked about at once.
func (a *API) chase(c *gin.Context) {
	n, err := read[client.Chase](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	ids := idsOf("messages", n.Messages, chase.NowMost, &faults)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	costs, refused, err := a.engine.Ask(c.Request.Context(), ids, n.DryRun)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.Chased{Gateways: []client.ChaseCost{}, Refused: []client.MessageRefused{}, DryRun: n.DryRun}
	for _, one := range costs {
		w.Messages += one.Messages
		w.Requests += one.Requests
		w.Gateways = append(w.Gateways, client.ChaseCost(one))
	}
	for _, r := range refused {
		w.Refused = append(w.Refused, client.MessageRefused{Message: r.Message.String(), Why: r.Why})
	}
	c.JSON(http.StatusOK, w)
}

// idsOf reads ids that a body names.
func idsOf(field string, given []string, most int, faults *fault.Faults) []uuid.UUID {
	if len(given) == 0 || len(given) > most {
		faults.Add(field, fmt.Sprintf("%d of them", len(given)), fmt.Sprintf("1 to %d", most))
		return nil
	}
	ids := make([]uuid.UUID, len(given))
	for i, word := range given {
		var err error
		if ids[i], err = uuid.Parse(word); err != nil {
			faults.Add(fmt.Sprintf("%s[%d]", field, i), fmt.Sprintf("%q is not an id", word), "a whole id")
		}
	}
	return ids
}
