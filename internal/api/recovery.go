package api

import (
	"errors"
	"fmt"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/gate"
	"calmpigeon.example/internal/engine/recovery"
)

// sends keeps requests out that would send something while nothing may be sent.
func (a *API) sends(c *gin.Context) {
	switch {
	case a.engine.Gate.Outdated():
		a.refuse(c, gate.ErrOutdated)
	case !a.engine.Gate.Open():
		a.refuse(c, gate.ErrClosed)
	default:
		return
	}
	c.Abort()
}

func (a *API) recovery(c *gin.Context) {
	st, err := a.engine.Recovery.State(c.Request.Context())
	if err != nil && !errors.Is(err, recovery.ErrNone) {
		a.refuse(c, err)
		return
	}
	q := st.Quarantine
	r := client.Recovery{Quarantine: st.Standing, Reason: q.Reason, Why: q.Why, Reaches: q.Reaches, Prepared: q.PreparedAt != nil,
		Asking: q.AskedAt != nil, Queued: st.Queued, Unknown: st.Unknown, LiftedAt: q.LiftedAt, LiftedBy: q.LiftedBy,
		Doubtful: []client.Doubtful{}, Paused: []client.Paused{}}
	if !q.Since.IsZero() {
		r.Since = &q.Since
	}
	for _, u := range st.Doubtful {
		r.Doubtful = append(r.Doubtful, client.Doubtful{
			Kind: string(u.Kind), Gateway: u.Gateway, Means: string(u.Means), N: u.N, First: u.First, Last: u.Last,
		})
	}
	for _, b := range st.Paused {
		r.Paused = append(r.Paused, client.Paused{ID: b.ID.String(), Name: b.Name, Rows: b.Rows})
	}
	c.JSON(http.StatusOK, r)
}

// gatewayNamed is the id of a gateway that may be left out.
func (a *API) gatewayNamed(name string, faults *fault.Faults) uuid.UUID {
	if name == "" {
		return uuid.Nil
	}
	g := a.engine.Roster.ByName(name)
	if g == nil {
		faults.Add("gateway", fmt.Sprintf("there is no gateway %q", name), "the name of a gateway")
		return uuid.Nil
	}
	return g.ID
}

func (a *API) recoveryAsk(c *gin.Context) {
	n, err := read[client.RecoveryAsk](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	gateway := a.gatewayNamed(n.Gateway, &faults)
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	asked, err := a.engine.Recovery.Ask(c.Request.Context(), gateway)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, client.RecoveryAsked{Asked: asked})
}

func (a *API) recoveryDecide(c *gin.Context) {
	n, err := read[client.RecoveryDecision](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	choices := []recovery.Choice{recovery.Send, recovery.Hold, recovery.Cancel}
	if !slices.Contains(choices, recovery.Choice(n.Choice)) {
		faults.Add("choice", fmt.Sprintf("%q is none", n.Choice), fault.Words(choices))
	}
	if n.Kind != "" && !slices.Contains(pace.Kinds, pace.Kind(n.Kind)) {
		faults.Add("kind", fmt.Sprintf("%q is none", n.Kind), fault.Words(pace.Kinds))
	}
	if n.Kind == "" && n.Choice == string(recovery.Send) {
		faults.Add("kind", "it is missing", "the kind of the messages that are to go: they go kind by kind")
	}
	d := recovery.Decision{Choice: recovery.Choice(n.Choice), Kind: n.Kind, Gateway: a.gatewayNamed(n.Gateway, &faults),
		By: keyOf(c).Name, Try: n.DryRun}
	if n.Before != nil {
		d.Before = *n.Before
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	decided, expired, err := a.engine.Recovery.Decide(c.Request.Context(), d)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, client.RecoveryDecided{Decided: decided, Expired: expired, DryRun: n.DryRun})
}

func (a *API) liftQuarantine(c *gin.Context) {
	if err := a.engine.Recovery.Lift(c.Request.Context(), keyOf(c).Name); err != nil {
		a.refuse(c, err)
		return
	}
	a.recovery(c)
}
