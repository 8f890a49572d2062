package api

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/span"
	"calmpigeon.example/internal/engine/batches"
	"calmpigeon.example/internal/store"
	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
)

func (a *API) rehearseBatch(c *gin.Context) {
	if id, ok := a.batchID(c); ok {
		one, err := a.engine.Batches.Rehearse(c.Request.Context(), id)
		a.answerBatch(c, http.StatusAccepted, one, err)
	}
}

func (a *API) tryBatch(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	t, err := read[client.BatchTry](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	d, err := a.engine.Batches.Example(c.Request.Context(), id, t.Row, t.To)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w, err := a.accept(c, d, c.GetHeader("Idempotency-Key"))
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.JSON(http.StatusAccepted, w)
}

func (a *API) launchBatch(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	o, err := readOrders(c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	one, err := a.engine.Batches.Launch(c.Request.Context(), id, o)
	a.answerBatch(c, http.StatusAccepted, one, err)
}

// forecastBatch says how a batch is going to go: launched as is asked, or as it was.
func (a *API) forecastBatch(c *gin.Context) {
	one, ok := a.batchOf(c)
	if !ok {
		return
	}
	o, err := readOrders(c)
	var f batches.Foresight
	if err == nil {
		f, err = a.engine.Batches.Forecast(c.Request.Context(), one, o)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.BatchForecast{Goes: int64(math.Round(f.Gone)), Left: int64(math.Round(f.Left)), Before: f.Before, Waiting: f.Waiting,
		Why: f.Stands, Bounds: []client.ForecastBound{}, Curve: []client.ForecastPoint{}}
	if !f.Starts.IsZero() {
		w.StartsAt, w.EndsAt = &f.Starts, &f.Ends
	}
	if first := one.Launch.Foreseen; !first.IsZero() {
		w.First = &first
	}
	for _, b := range f.Bounds {
		w.Bounds = append(w.Bounds, client.ForecastBound{Kind: b.Kind, Name: b.Name, Share: math.Round(b.Share*1000) / 1000})
	}
	for _, p := range f.Points {
		w.Curve = append(w.Curve, client.ForecastPoint{At: p.At.Truncate(time.Millisecond), Gone: int64(math.Round(p.Gone))})
	}
	c.JSON(http.StatusOK, w)
}

// readOrders reads how a batch is to be launched.
func readOrders(c *gin.Context) (batches.Orders, error) {
	o := batches.Orders{}
	l, err := read[client.Launch](c)
	if err != nil {
		return o, err
	}
	var faults fault.Faults
	key := keyOf(c)
	o.Again, o.Seed, o.By, o.KeyID, o.KeyBudget = l.Again, l.Seed, key.Name, key.ID.String(), key.BudgetDay
	if l.Budget != "" {
		if o.Budget, err = batch.ParseBudget(l.Budget); err != nil {
			faults = append(faults, fault.Of(err)...)
		}
	}
	o.Guard = batch.UsualGuard
	if g := l.Guard; g != nil {
		o.Guard = batch.Guard{Failures: g.Failures, Cause: g.Cause, Doubt: g.Doubt, Cost: g.Cost}
	}
	o.ScoutsWait.Least = l.ScoutsLeast
	if l.ScoutsAfter != "" {
		if o.ScoutsWait.After, err = span.Parse(string(l.ScoutsAfter)); err != nil {
			faults.Add("scouts_after", fmt.Sprintf("%q is no span", l.ScoutsAfter), span.Accepted)
		}
	}
	for _, at := range []struct{ from, into *time.Time }{{l.StartsAt, &o.StartsAt}, {l.Until, &o.Until}, {l.Evenly, &o.Evenly}} {
		if at.from != nil {
			*at.into = *at.from
		}
	}
	if l.Pace != "" {
		if o.Pace, err = batch.ParsePace(l.Pace); err != nil {
			faults = append(faults, fault.Of(err)...)
		}
	}
	if l.Scouts != "" {
		share, isShare := strings.CutSuffix(strings.TrimSpace(l.Scouts), "%")
		value, err := strconv.ParseFloat(share, 64)
		switch {
		case err != nil || value < 0 || isShare && value > 100 || !isShare && (value != float64(int(value)) || value > batch.RowsMost):
			faults.Add("scouts", fmt.Sprintf("%q is no number of rows and no share", l.Scouts), "a number of rows, or a share such as 2%")
		case isShare:
			o.Share = value / 100
		default:
			o.Scouts = int(value)
		}
	}
	if faults != nil {
		return o, faults
	}
	return o, nil
}

// batchDo does something with a batch in the name of a key.
func (a *API) batchDo(do func(b *batches.Batches, ctx context.Context, id uuid.UUID, by string) (store.Batch, error)) gin.HandlerFunc {
	return func(c *gin.Context) {
		if id, ok := a.batchID(c); ok {
			one, err := do(a.engine.Batches, c.Request.Context(), id, keyOf(c).Name)
			a.answerBatch(c, http.StatusOK, one, err)
		}
	}
}

func (a *API) paceBatch(c *gin.Context) {
	setBatch(a, c, func(w client.BatchPace) string { return w.Pace }, batch.ParsePace, a.engine.Batches.SetPace)
}

func (a *API) budgetBatch(c *gin.Context) {
	setBatch(a, c, func(w client.BatchBudget) string { return w.Budget }, batch.ParseBudget, a.engine.Batches.SetBudget)
}

// setBatch sets something of a batch that is given as a word; an empty one stands for no limit.
func setBatch[W, V any](
	a *API,
	c *gin.Context,
	word func(W) string,
	parse func(string) (V, error),
	set func(ctx context.Context, id uuid.UUID, v V, by string) (store.Batch, error),
) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	w, err := read[W](c)
	var v V
	if given := word(w); err == nil && given != "" {
		v, err = parse(given)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	one, err := set(c.Request.Context(), id, v, keyOf(c).Name)
	a.answerBatch(c, http.StatusOK, one, err)
}

// batchCourse is how a batch has gone until now, to be drawn.
func (a *API) batchCourse(c *gin.Context) {
	one, ok := a.batchOf(c)
	if !ok {
		return
	}
	samples, err := a.engine.Store.BatchSamples(c.Request.Context(), one.ID)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.BatchCourse{PerSecond: a.engine.Batches.Limit(one), Points: []client.CoursePoint{}}
	for _, s := range samples {
		p := client.CoursePoint{At: s.At, States: map[string]int64{}}
		for state, n := range s.Counts {
			p.States[string(state)] = n
			if state != delivery.Held && state != delivery.Queued {
				p.Gone += n
			}
		}
		w.Points = append(w.Points, p)
	}
	c.JSON(http.StatusOK, w)
}

func (a *API) approveBatch(c *gin.Context) {
	if id, ok := a.batchID(c); ok {
		one, err := a.engine.Batches.Approve(c.Request.Context(), id, keyOf(c))
		a.answerBatch(c, http.StatusOK, one, err)
	}
}

func (a *API) retryBatch(c *gin.Context) {
	if id, ok := a.batchID(c); ok {
		one, err := a.engine.Batches.Retry(c.Request.Context(), id, keyOf(c))
		a.answerBatch(c, http.StatusCreated, one, err)
	}
}
