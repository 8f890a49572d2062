package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/engine/passcodes"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
)

// passcodeSuspicion says how suspicious it would be to ask for a passcode.
func (a *API) passcodeSuspicion(c *gin.Context) {
	n, err := read[client.WouldBePasscode](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	s, err := a.engine.Passcodes.Suspicion(c.Request.Context(), n.To, n.Country, n.Address)
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, wireSuspicion(s))
}

func wireSuspicion(s passcodes.Suspected) *client.Suspicion {
	w := client.Suspicion{Suspicion: s.Score, Reasons: []client.Reason{}}
	for _, r := range s.Reasons {
		w.Reasons = append(w.Reasons, client.Reason(r))
	}
	return &w
}

// passcodeRules lists what is done when passcodes look like fraud.
func (a *API) passcodeRules(c *gin.Context) {
	set, err := a.engine.Store.PasscodeRules(c.Request.Context())
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.PasscodeRule]{Items: []client.PasscodeRule{}}
	for _, rule := range fraud.Rules {
		act, own := set[rule]
		if !own {
			act = fraud.Usual[rule]
		}
		l.Items = append(l.Items, client.PasscodeRule{Rule: string(rule), Act: string(act), About: rule.About(), Set: own})
	}
	c.JSON(http.StatusOK, l)
}

// setPasscodeRules says what is done, in the place of all that was set before.
func (a *API) setPasscodeRules(c *gin.Context) {
	n, err := read[client.PasscodeRules](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	var faults fault.Faults
	set := map[fraud.Rule]fraud.Act{}
	for i, one := range n.Items {
		field := fmt.Sprintf("items[%d]", i)
		rule := fraud.Rule(one.Rule)
		if _, known := fraud.Usual[rule]; !known {
			faults.Add(field+".rule", fmt.Sprintf("%q is no rule", one.Rule), fault.Words(fraud.Rules))
		}
		if _, twice := set[rule]; twice {
			faults.Add(field+".rule", "it is there twice", "each rule once")
		}
		act, err := fraud.ParseAct(one.Act)
		if err != nil {
			faults.Add(field+".act", fault.Why(err), fault.Words(fraud.Acts))
		}
		set[rule] = act
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	if err := a.engine.Store.SetPasscodeRules(c.Request.Context(), set, a.engine.Now()); err != nil {
		a.refuse(c, err)
		return
	}
	if err := a.engine.Roster.Reload(c.Request.Context()); err != nil {
		a.refuse(c, err)
		return
	}
	a.passcodeRules(c)
}

// alarmsListed is how many alarms are listed.
const alarmsListed = 500

func (a *API) passcodeAlarms(c *gin.Context) {
	found, err := a.engine.Store.PasscodeAlarms(c.Request.Context(), c.Query("all") != "true", a.engine.Now(), alarmsListed)
	l := client.List[client.PasscodeAlarm]{}
	if err == nil {
		l.Items, err = a.wireAlarms(c.Request.Context(), found)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, l)
}

// wireAlarms are alarms as the API gives them, with what they stopped.
func (a *API) wireAlarms(ctx context.Context, found []store.PasscodeAlarm) ([]client.PasscodeAlarm, error) {
	ids := make([]uuid.UUID, len(found))
	for i, one := range found {
		ids[i] = one.ID
	}
	stops, err := a.engine.Store.AlarmStops(ctx, ids)
	if err != nil {
		return nil, err
	}
	now := a.engine.Now()
	all := []client.PasscodeAlarm{}
	for _, one := range found {
		e := one.Evidence
		w := client.PasscodeAlarm{
			ID:        one.ID.String(),
			Rule:      string(one.Rule),
			About:     one.Rule.About(),
			What:      string(one.By),
			Value:     one.Value,
			Act:       string(one.Act),
			Standing:  one.Stands(now),
			RaisedAt:  one.RaisedAt,
			Until:     one.UntilAt,
			Say:       e.Say(),
			Numbers:   e.Numbers,
			Of:        e.Of,
			Used:      e.Used,
			Usual:     e.Usual,
			Chance:    e.Chance,
			Since:     e.Since,
			Till:      e.Until,
			PerHour:   one.PerHour,
			Sample:    []client.AlarmSample{},
			Saved:     []client.Money{},
			LiftedAt:  one.LiftedAt,
			LiftedBy:  one.LiftedBy,
			LiftedWhy: one.LiftedWhy,
		}
		for _, s := range e.Sample {
			w.Sample = append(w.Sample, client.AlarmSample{Passcode: s.Passcode.String(), Number: s.Number, At: s.At, Codes: s.Codes})
		}
		for _, s := range stops[one.ID] {
			w.Stopped += s.N
			if s.Currency != "" {
				w.Saved = append(w.Saved, client.Money{Amount: explain.Amount(s.Micros), Currency: s.Currency})
			}
		}
		all = append(all, w)
	}
	return all, nil
}

// alarm answers with one alarm, as it is after something was done with it.
func (a *API) alarm(c *gin.Context, do func(context.Context, uuid.UUID) (store.PasscodeAlarm, error)) {
	id, err := uuid.Parse(c.Param("id"))
	var one store.PasscodeAlarm
	if err == nil {
		one, err = do(c.Request.Context(), id)
	} else {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		err = &nothing{what: "alarm", name: c.Param("id")}
	}
	var all []client.PasscodeAlarm
	if err == nil {
		all, err = a.wireAlarms(c.Request.Context(), []store.PasscodeAlarm{one})
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusOK, all[0])
}

func (a *API) passcodeAlarm(c *gin.Context) { a.alarm(c, a.engine.Store.PasscodeAlarm) }

// liftPasscodeAlarm ends an alarm as a false one.
func (a *API) liftPasscodeAlarm(c *gin.Context) {
	n, err := read[client.Why](c)
	var faults fault.Faults
	if err == nil && len(n.Why) > whyMost {
		faults.Add("why", "it is too long", fmt.Sprintf("at most %d characters", whyMost))
		err = faults
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	a.alarm(c, func(ctx context.Context, id uuid.UUID) (store.PasscodeAlarm, error) {
		return a.engine.Passcodes.Lift(ctx, id, keyOf(c).Name, store.Keepable(n.Why))
	})
}

// restorePasscodeAlarm takes that back.
func (a *API) restorePasscodeAlarm(c *gin.Context) {
	if _, err := read[client.Why](c); err != nil {
		a.refuse(c, err)
		return
	}
	a.alarm(c, a.engine.Passcodes.Restore)
}

// actOnPasscodeAlarm changes what is done because of an alarm.
func (a *API) actOnPasscodeAlarm(c *gin.Context) {
	n, err := read[client.PasscodeAct](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	act, err := fraud.ParseAct(n.Act)
	if err != nil || act == fraud.Off {
		a.refuse(c, fault.New("act", fmt.Sprintf("%q is nothing that can be done", n.Act), "alarm, slow or block; to end it, lift it"))
		return
	}
	a.alarm(c, func(ctx context.Context, id uuid.UUID) (store.PasscodeAlarm, error) {
		return a.engine.Passcodes.Act(ctx, id, act)
	})
}
