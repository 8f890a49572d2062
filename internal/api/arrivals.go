package api

import (
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/latency"
	"calmpigeon.example/internal/engine/arrivals"
	"calmpigeon.example/internal/store"
)

const (
	// hourlyMost is the longest span that is told hour by hour, where nothing is said of it.
	hourlyMost = 8 * 24 * time.Hour
	// courseMost is how many hours or days are told one by one.
	courseMost = 800
	// barWide is how many buckets are a bar of a histogram: each takes up to twice as long as the one before.
	barWide = 4
)

// arrivals tells how long messages took and how many arrived.
func (a *API) arrivals(c *gin.Context) {
	f, by, err := a.faring(c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	all, groups, err := a.engine.Arrivals.Side(c.Request.Context(), f, by)
	if err != nil {
		a.refuse(c, err)
		return
	}
	w := client.Arrivals{
		Since:  f.Since,
		Until:  f.Until,
		Step:   "hour",
		By:     string(by),
		All:    a.wireArrivals(all),
		Groups: []client.ArrivalGroup{},
	}
	if f.Daily {
		w.Step = "day"
	}
	for _, g := range groups {
		w.Groups = append(w.Groups, a.wireArrivals(g))
	}
	c.JSON(http.StatusOK, w)
}

// faring reads what is to be told of arrivals. A span is widened to whole hours or days.
func (a *API) faring(c *gin.Context) (f store.Faring, by arrivals.By, err error) {
	chosen, err := a.filter(c, "by", "step")
	if err != nil {
		return f, by, err
	}
	var faults fault.Faults
	by = arrivals.By(c.Query("by"))
	if by != "" && !slices.Contains(arrivals.Bys, by) {
		faults.Add("by", "that is not held side by side", fault.Words(arrivals.Bys))
	}
	now := a.engine.Now()
	f = store.Faring{Since: chosen.Since, Until: chosen.Until, Gateway: chosen.Gateway, Country: chosen.Country, Kind: chosen.Kind}
	if f.Until.IsZero() || f.Until.After(now) {
		f.Until = now
	}
	if f.Since.IsZero() {
		f.Since = f.Until.Add(-24 * time.Hour)
	}
	step := time.Hour
	switch c.Query("step") {
	case "":
		f.Daily = f.Until.Sub(f.Since) > hourlyMost
	case "hour":
	case "day":
		f.Daily = true
	default:
		faults.Add("step", "there is no such step", "hour or day")
	}
	if f.Daily {
		step = 24 * time.Hour
	}
	f.Since, f.Until = widened(f.Since, f.Until, step, courseMost, "800 hours or days at most", &faults)
	if faults != nil {
		return f, by, faults
	}
	return f, by, nil
}

// widened is a span of time in whole steps of UTC, at most so many.
func widened(
	since, until time.Time,
	step time.Duration,
	most int,
	accepted string,
	faults *fault.Faults,
) (from, to time.Time) {
	if to = until.UTC().Truncate(step); to.Before(until) {
		to = to.Add(step)
	}
	from = since.UTC().Truncate(step)
	switch steps := int(to.Sub(from) / step); {
	case steps < 1:
		faults.Add("until", "it is not after since", "a later time")
	case steps > most:
		faults.Add("since", "that is too far back", accepted)
	}
	return from, to
}

func (a *API) wireArrivals(g arrivals.Group) client.ArrivalGroup {
	w := client.ArrivalGroup{
		Country:   g.Country,
		Kind:      g.Kind,
		Faring:    wireFaring(g.Fared),
		Histogram: []client.ArrivalBar{},
		Course:    []client.Faring{},
	}
	if g.Gateway != uuid.Nil {
		w.Gateway = a.gatewayName(g.Gateway)
	}
	for _, bar := range g.Took.Bars(barWide) {
		one := client.ArrivalBar{FromMs: bar.From.Milliseconds(), N: bar.N}
		if _, last := latency.Bucket(latency.Buckets - 1).Bounds(); bar.To < last {
			to := bar.To.Milliseconds()
			one.ToMs = &to
		}
		w.Histogram = append(w.Histogram, one)
	}
	for _, f := range g.Course {
		one := wireFaring(f)
		at := f.At
		one.At = &at
		w.Course = append(w.Course, one)
	}
	return w
}

func wireFaring(f arrivals.Fared) client.Faring {
	w := client.Faring{
		Messages: f.Tally.Total, Delivered: f.Tally.ByState["delivered"], Failed: f.Tally.Failed(), Arrived: f.Took.N(),
	}
	if rate, ok := f.Tally.DeliveryRate(); ok {
		w.DeliveryRate = &rate
	}
	if w.Arrived > 0 {
		for share, to := range map[float64]**int64{0.5: &w.P50Ms, 0.9: &w.P90Ms, 0.99: &w.P99Ms} {
			ms := f.Took.Quantile(share).Milliseconds()
			*to = &ms
		}
	}
	return w
}
