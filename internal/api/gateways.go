package api

import (
	"fmt"
	"math"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/explain"
)

func (a *API) wireGateway(g *roster.Gateway) client.Gateway {
	w := client.Gateway{ID: g.ID.String(), Name: g.Name, Dialect: g.Gateway.Dialect, About: g.Dialect.About, Address: g.Address,
		Secrets: append(
			[]string{},
			g.Dialect.Secrets...), PerSecond: g.PerSecond, PerMinute: g.PerMinute, PerDay: g.PerDay, InFlight: g.InFlight,
		Recipients: g.Dialect.Submit.Most, AskAfter: wireSpan(g.AskAfter()), GiveUpAfter: wireSpan(g.GiveUpAfter()),
		Timeout:   wireSpan(g.Timeout()),
		Reference: string(g.Dialect.Reference), Currency: g.Currency, Senders: append([]string{}, g.Senders...), CreatedAt: g.CreatedAt,
		CanTellBalance: g.Dialect.Balance != nil, CanFetchStatement: g.Dialect.CanFetchStatement(),
		Health: a.wireHealth(g), Clock: a.wireClock(g)}
	w.AskAfterKinds = map[string]client.Span{}
	for kind := range g.AskKinds {
		w.AskAfterKinds[kind] = wireSpan(g.AskAfterOf(pace.Kind(kind)))
	}
	if g.StatementEveryMs > 0 {
		w.StatementEvery = wireSpan(g.StatementEvery())
	}
	if g.LowBalanceMicros != nil {
		w.LowBalance = explain.Amount(*g.LowBalanceMicros)
	}
	return w
}

// wireHealth says how a gateway fares: in one word, and why.
func (a *API) wireHealth(g *roster.Gateway) client.GatewayHealth {
	h := a.engine.Roster.Health(g.ID)
	w := client.GatewayHealth{State: "working", Warnings: []string{}}
	switch {
	case g.PausedAt != nil:
		w.State, w.Since, w.Why = "paused", g.PausedAt, "by the key "+g.PausedBy
		if g.PausedWhy != "" {
			w.Why += ": " + g.PausedWhy
		}
	case h.RestSince != nil:
		w.State, w.Since, w.Until, w.Cause, w.Why = "resting", h.RestSince, h.RestUntil, string(h.RestCause), h.RestNote
		if advice := h.RestCause.Advice(); h.RestCause != "" {
			w.Advice = advice.Text
		}
	}
	if h.BalanceMicros != nil {
		w.Balance = &client.Balance{Amount: explain.Amount(*h.BalanceMicros), Currency: h.BalanceCurrency, At: *h.BalanceAt}
		if low := g.LowBalance(h); low != "" {
			w.Warnings = append(w.Warnings, low)
		}
	}
	if h.BalanceNote != "" {
		w.Warnings = append(w.Warnings, "The balance could not be read: "+h.BalanceNote)
	}
	w.Warnings = append(w.Warnings, a.engine.Strays.Clocks.Warnings(g.ID)...)
	for _, name := range g.Dialect.Secrets {
		if n := len(g.Secrets[name]); n < roster.SecretLeast {
			w.Warnings = append(
				w.Warnings,
				fmt.Sprintf(
					"The secret %s has %d characters; one of fewer than %d is not masked in records.",
					name,
					n,
					roster.SecretLeast,
				),
			)
		}
	}
	return w
}

// wireClock says how a gateway's clock goes.
func (a *API) wireClock(g *roster.Gateway) client.GatewayClock {
	day := a.engine.Strays.Clocks.Day(g.ID)
	w := client.GatewayClock{Receipts: day.N, Early: day.Early, Late: day.Late}
	if skew, known := a.engine.Strays.Clocks.Skew(g.ID); known {
		ahead := math.Round(skew.Seconds()*10) / 10
		w.Ahead = &ahead
	}
	return w
}

func (a *API) gateways(c *gin.Context) {
	answerAll(c, a.engine.Roster.All(), a.wireGateway)
}

// named finds the gateway in the address.
func (a *API) named(c *gin.Context) (*roster.Gateway, bool) {
	g := a.engine.Roster.ByName(c.Param("name"))
	if g == nil {
		all := []string{}
		for _, one := range a.engine.Roster.All() {
			all = append(all, one.Name)
		}
		a.refuse(c, &nothing{"gateway", c.Param("name"), all})
	}
	return g, g != nil
}

func (a *API) gateway(c *gin.Context) {
	if g, ok := a.named(c); ok {
		c.JSON(http.StatusOK, a.wireGateway(g))
	}
}

// sourceOf is the dialect file that is given, or named: exactly one of the two.
func sourceOf(name, given string, faults *fault.Faults) *string {
	if (name == "") == (given == "") {
		faults.Add("dialect", "either a name or a source is needed", "dialect, the name of one that ships, or source, a dialect file")
		return nil
	}
	if name == "" {
		return &given
	}
	shipped, err := dialects.Source(name)
	if err != nil {
		faults.Add(
			"dialect",
			fmt.Sprintf("%q does not ship", name),
			"one of "+strings.Join(dialects.Names(), ", ")+", or a dialect file as source",
		)
	}
	text := string(shipped)
	return &text
}

func wireSpan(d time.Duration) client.Span { return client.Span(span.Format(d)) }

// spanOf reads a time span that may be left out.
func spanOf(field string, given client.Span, faults *fault.Faults) *time.Duration {
	if given == "" {
		return nil
	}
	d, err := span.Parse(string(given))
	if err != nil || d < time.Millisecond {
		faults.Add(field, fmt.Sprintf("%q is not a time span", given), span.Accepted)
	}
	return &d
}

// some is a number that may be left out as 0.
func some(n int) *int {
	if n == 0 {
		return nil
	}
	return &n
}

func (a *API) addGateway(c *gin.Context) {
	n, err := read[client.NewGateway](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	setup := roster.Settings{
		Address:   &n.Address,
		Secrets:   n.Secrets,
		PerSecond: some(n.PerSecond),
		PerMinute: some(n.PerMinute),
		PerDay:    some(n.PerDay),
		InFlight:  some(n.InFlight),
		Source: sourceOf(
			n.Dialect,
			n.Source,
			&faults,
		),
		AskAfter:    spanOf("ask_after", n.AskAfter, &faults),
		GiveUpAfter: spanOf("give_up_after", n.GiveUpAfter, &faults),
		Timeout:     spanOf("timeout", n.Timeout, &faults),
		Currency:    &n.Currency,
		Senders:     &n.Senders,
		LowBalance:  &n.LowBalance,
		AskKinds:    n.AskAfterKinds,

		StatementEvery: &n.StatementEvery,
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	g, err := a.engine.Roster.AddGateway(c.Request.Context(), n.Name, setup, a.engine.Now())
	if err != nil {
		a.refuse(c, err)
		return
	}
	a.engine.Bells.RingAll() // its keeper begins
	c.Header("Location", "/v1/gateways/"+g.Name)
	c.JSON(http.StatusCreated, a.wireGateway(g))
}

func (a *API) changeGateway(c *gin.Context) {
	g, ok := a.named(c)
	if !ok {
		return
	}
	n, err := read[client.GatewayChange](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	setup := roster.Settings{
		Address:   n.Address,
		Secrets:   n.Secrets,
		PerSecond: n.PerSecond,
		PerMinute: n.PerMinute,
		PerDay:    n.PerDay,
		InFlight:  n.InFlight,
		AskAfter: spanOf(
			"ask_after",
			n.AskAfter,
			&faults,
		),
		GiveUpAfter: spanOf("give_up_after", n.GiveUpAfter, &faults),
		Timeout:     spanOf("timeout", n.Timeout, &faults),
		Currency:    n.Currency,
		Senders:     n.Senders,
		LowBalance:  n.LowBalance,
		AskKinds:    n.AskAfterKinds,

		StatementEvery: n.StatementEvery,
	}
	if n.Dialect != "" || n.Source != "" {
		setup.Source = sourceOf(n.Dialect, n.Source, &faults)
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	a.gatewayNow(c)(a.engine.Roster.ChangeGateway(c.Request.Context(), g, setup))
}

// gatewayNow answers with a gateway that was changed, and lets its keeper know.
func (a *API) gatewayNow(c *gin.Context) func(*roster.Gateway, error) {
	return func(g *roster.Gateway, err error) {
		if err != nil {
			a.refuse(c, err)
			return
		}
		a.engine.Bells.RingAll()
		c.JSON(http.StatusOK, a.wireGateway(g))
	}
}

func (a *API) pauseGateway(c *gin.Context) {
	g, ok := a.named(c)
	if !ok {
		return
	}
	n, err := read[client.Pause](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	a.gatewayNow(c)(a.engine.Roster.PauseGateway(c.Request.Context(), g, keyOf(c).Name, n.Why, a.engine.Now()))
}

func (a *API) resumeGateway(c *gin.Context) {
	if g, ok := a.named(c); ok {
		a.gatewayNow(c)(a.engine.Roster.ResumeGateway(c.Request.Context(), g))
	}
}

func (a *API) removeGateway(c *gin.Context) {
	g, ok := a.named(c)
	if !ok {
		return
	}
	if err := a.engine.Roster.RemoveGateway(c.Request.Context(), g, a.engine.Now()); err != nil {
		a.refuse(c, err)
		return
	}
	a.engine.Bells.RingAll()
	c.Status(http.StatusNoContent)
}
