package api

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/address"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/engine/trial"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

const (
	checksMost = 4  // dialects that are checked at the same time
	trialsMost = 16 // those that are tried out, which mostly waits for gateways
	setupsMost = 2  // set-ups that are read or written at the same time
	placeAfter = 5 * time.Second
)

// atOnce lets so many requests at the same time run what somebody wrote to try it
// out; others wait a while for a place.
func (a *API) atOnce(most int) gin.HandlerFunc {
	places := make(chan struct{}, most)
	return func(c *gin.Context) {
		wait := time.NewTimer(placeAfter)
		defer wait.Stop()
		select {
		case places <- struct{}{}:
			defer func() { <-places }()
			c.Next()
		case <-wait.C:
			a.refuse(c, errBusy)
		case <-c.Request.Context().Done():
			c.Abort()
		}
	}
}

func (a *API) dialects(c *gin.Context) {
	l := client.List[client.Dialect]{Items: []client.Dialect{}}
	for _, name := range dialects.Names() {
		source, err := dialects.Source(name)
		if err != nil {
			a.refuse(c, err)
			return
		}
		check := explain.Dialect(c.Request.Context(), name+".yaml", source)
		l.Items = append(l.Items, client.Dialect{Name: check.Name, About: check.About, Secrets: check.Secrets, Source: string(source)})
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) checkDialect(c *gin.Context) {
	n, err := read[client.DialectFile](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, explain.Dialect(c.Request.Context(), "dialect", []byte(n.Source)))
}

func wireTrial(r trial.Result) client.Trial {
	w := client.Trial{Passed: r.Passed, Say: r.Say, Mistakes: append([]string{}, r.Mistakes...), Steps: []client.TrialStep{}}
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	for _, s := range r.Steps {
		one := client.TrialStep{
			What:     s.What,
			Read:     s.Read,
			Note:     s.Note,
			BuildMs:  ms(s.Build),
			AnswerMs: ms(s.Carry),
			ReadMs:   ms(s.Reading),
		}
		if s.Exchange != nil {
			one.Exchange = wireExchange(*s.Exchange)
		}
		w.Steps = append(w.Steps, one)
	}
	return w
}

func wireExchange(x store.Exchange) *client.Exchange {
	return &client.Exchange{
		Purpose:       x.Purpose,
		Method:        x.Method,
		URL:           x.URL,
		RequestHeader: x.RequestHeader,
		RequestBody:   text(x.RequestBody),
		Status:        x.Status,
		ReplyHeader:   x.ReplyHeader,
		ReplyBody:     text(x.ReplyBody),
		Error:         x.Error,
		StartedAt:     x.StartedAt,
		TookMs:        float64(x.TookUs) / 1000,
	}
}

func (a *API) testGateway(c *gin.Context) {
	if g, ok := a.named(c); ok {
		c.JSON(http.StatusOK, wireTrial(a.engine.Trial.Test(c.Request.Context(), g)))
	}
}

// tryDialect makes one request in a dialect that need not be in use. Nothing of
// it is kept.
func (a *API) tryDialect(c *gin.Context) {
	n, err := read[client.TryRequest](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	file := sourceOf(n.Dialect, n.Source, &faults)
	at, err := address.Parse(n.Address)
	if err != nil {
		faults.Add("address", err.Error(), address.Accepted)
	}
	call := trial.Call(n.Call)
	switch call {
	case "":
		call = trial.Submit
	case trial.Submit, trial.Query, trial.Balance, trial.Token:
	default:
		faults.Add("call", fmt.Sprintf("%q is no call of a dialect", n.Call), "submit, query, balance or token")
	}
	m := dialect.Message{
		ID:           store.NewID().String(),
		Text:         n.Text,
		Sender:       n.Sender,
		Kind:         n.Kind,
		GatewayRef:   n.GatewayRef,
		Registration: n.Registration,
		Fields:       n.Fields,
		ReceiptURL:   n.ReceiptURL,
		ValidFor:     3600,
	}
	if m.Kind == "" {
		m.Kind = string(pace.Transactional)
	}
	if call == trial.Submit || n.To != "" {
		number, err := phone.Read(n.To, "")
		if err != nil {
			faults.Add("to", fault.Why(err), phone.Accepted)
		}
		m.To, m.Country = number.Number, number.Country
	}
	if call == trial.Submit && n.Text == "" && n.Registration == "" {
		faults.Add("text", "there is none", "a text to send, or the registration of one with its fields")
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	d, err := dialect.Load("dialect", []byte(*file))
	if err != nil {
		a.refuse(c, fault.New("dialect", err.Error(), "a dialect file, or the name of one that ships"))
		return
	}
	g, err := trial.Gateway(d, at, n.Secrets)
	if err != nil {
		a.refuse(
			c,
			fault.New("secrets", err.Error(), "a value for each secret that dialect "+d.Name+" names: "+strings.Join(d.Secrets, ", ")),
		)
		return
	}
	c.JSON(http.StatusOK, wireTrial(a.engine.Trial.Try(c.Request.Context(), g, call, m, n.DryRun)))
}
