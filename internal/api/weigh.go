package api

import (
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/explain"
)

const (
	weighMost   = 50   // recipients of one question
	numbersMost = 1000 // numbers of one question
)

// weigh says what a text costs and whether it may go. What is missing is no
// fault: people ask while they write.
func (a *API) weigh(c *gin.Context) {
	r, err := read[client.WeighRequest](c)
	if err == nil && len(r.To) > weighMost {
		err = fault.New("to", fmt.Sprintf("%d recipients", len(r.To)), fmt.Sprintf("at most %d at once", weighMost))
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	recipients := r.To
	if len(recipients) == 0 {
		recipients = []string{""}
	}
	var w client.Weighing
	for i, to := range recipients {
		p, faults, err := a.engine.Intake.Plan(
			intake.Draft{
				To:       to,
				Country:  r.Country,
				Text:     r.Text,
				Template: r.Template,
				Source:   r.Source,
				Fields:   r.Fields,
				Language: r.Language,
				Sender:   r.Sender,
				Kind:     r.Kind,
				Gateway:  r.Gateway,
				Cure:     r.Cure,
			},
			smstext.Level(keyOf(c).Cure),
			intake.Somewhere,
		)
		if err != nil {
			a.refuse(c, err)
			return
		}
		if i == 0 {
			w = weighing(p)
		}
		if i == 0 && p.Priced {
			explain.Savings(&w, p.Rate)
		}
		switch {
		case to != "" || p.Country != "":
			w.Recipients = append(w.Recipients, recipient(to, p, faults))
		default:
			w.Errors = fieldErrors(faults)
		}
	}
	if err := a.heldAgainst(c, w.Recipients); err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, w)
}

func weighing(p intake.Plan) client.Weighing {
	options := smstext.Options{}
	if p.Gateway != nil {
		options = p.Gateway.Dialect.Segments.Options()
	}
	w := explain.Text(p.Text, options)
	w.Replaced = explain.Replaced(p.Replaced)
	return w
}

// recipient is what a plan comes to for one recipient.
func recipient(given string, p intake.Plan, faults fault.Faults) client.Recipient {
	r := client.Recipient{
		Given:    given,
		Country:  p.Country,
		Name:     phone.CountryName(p.Country),
		Text:     p.Text,
		Segments: p.Weight.Segments,
		Encoding: string(p.Weight.Encoding),
		Sender:   p.Sender.ID.String(),
		Kind:     string(p.Kind),
		Language: p.Language,
		Price:    explain.Money(p.Price, p.Priced),
		Warnings: warnings(p.Warnings),
		Errors:   fieldErrors(faults),
	}
	if p.Country == "" {
		r.Name = ""
	}
	if p.Gateway != nil {
		r.Gateway, r.Why = p.Gateway.Name, p.Why
	}
	if p.Number.Number.IsValid() {
		n := explain.Reading(given, p.Number)
		r.Number = &n
	}
	if p.Priced {
		rate := explain.Price(p.Rate)
		r.Rate = &rate
	}
	if p.Decision.Rule != "" {
		r.Decision = decision(p.Decision)
	}
	return r
}

func decision(d sender.Decision) *client.Decision {
	w := client.Decision{Verdict: string(d.Verdict), Rule: d.Rule, Origin: d.Origin, Findings: make([]client.Finding, len(d.Findings))}
	for i, f := range d.Findings {
		w.Findings[i] = client.Finding{About: f.About, Verdict: string(f.Verdict), Say: f.Say, Do: f.Do}
	}
	return &w
}

func warnings(all []intake.Warning) []client.Warning {
	list := make([]client.Warning, len(all))
	for i, w := range all {
		list[i] = client.Warning{Field: w.Field, Say: w.Say}
	}
	return list
}

func fieldErrors(faults fault.Faults) []client.FieldError {
	list := make([]client.FieldError, len(faults))
	for i, f := range faults {
		list[i] = client.FieldError{Field: f.Field, Wrong: f.Wrong, Accepted: f.Accepted}
	}
	return list
}

// rehearse answers a request to send that makes every check and no message.
func (a *API) rehearse(c *gin.Context, d intake.Draft) {
	d.KeyID, d.KeyLabels = keyOf(c).ID, keyOf(c).Labels
	p, faults, err := a.engine.Intake.Plan(d, smstext.Level(keyOf(c).Cure), intake.Whole)
	if err == nil && len(faults) > 0 {
		err = faults
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := weighing(p)
	if p.Priced {
		explain.Savings(&w, p.Rate)
	}
	w.Recipients = []client.Recipient{recipient(d.To, p, nil)}
	if err = a.heldAgainst(c, w.Recipients); err == nil {
		for _, wrong := range w.Recipients[0].Errors {
			err = fault.New(wrong.Field, wrong.Wrong, wrong.Accepted)
		}
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, w)
}

// numbers says what numbers are, or why they are none.
func (a *API) numbers(c *gin.Context) {
	r, err := read[client.NumbersRequest](c)
	if err == nil && (len(r.Numbers) == 0 || len(r.Numbers) > numbersMost) {
		err = fault.New("numbers", fmt.Sprintf("%d numbers", len(r.Numbers)), fmt.Sprintf("1 to %d at once", numbersMost))
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.Number]{Items: make([]client.Number, len(r.Numbers))}
	for i, given := range r.Numbers {
		l.Items[i] = explain.Number(given, r.Country)
	}
	c.JSON(http.StatusOK, l)
}
