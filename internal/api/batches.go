package api

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/store"
)

// actsMost is how many of the things that were done with a batch are told.
const actsMost = 20

func (a *API) newBatch(c *gin.Context) {
	w, err := read[client.BatchWants](c)
	if err == nil && len(w.Columns) > 0 {
		err = fault.New("columns", "there are no rows yet", "columns once there are rows")
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	one, err := a.engine.Batches.Create(c.Request.Context(), keyOf(c), w.Name, wantsOf(w))
	if err != nil {
		a.refuse(c, err)
		return
	}
	c.Header("Location", "/v1/batches/"+one.ID.String())
	c.JSON(http.StatusCreated, wireBatch(one))
}

// batchID reads the id of a batch in the address, or a start or an end of one.
func (a *API) batchID(c *gin.Context) (uuid.UUID, bool) {
	given := c.Param("id")
	if id, err := uuid.Parse(given); err == nil {
		return id, true
	}
	const most = 10
	found, err := a.engine.Store.AlikeBatches(c.Request.Context(), strings.ToLower(given), most)
	if err == nil && len(found) == 1 && len(given) > 1 {
		return found[0], true
	}
	missing := &nothing{what: "batch", name: given}
	if len(found) > 1 {
		missing.what = "single batch"
		for _, id := range found {
			missing.all = append(missing.all, id.String())
		}
	}
	if err == nil {
		err = missing
	}
	a.refuse(c, err)
	return uuid.Nil, false
}

// batchOf reads the batch in the address.
func (a *API) batchOf(c *gin.Context) (store.Batch, bool) {
	id, ok := a.batchID(c)
	if !ok {
		return store.Batch{}, false
	}
	one, err := a.engine.Store.Batch(c.Request.Context(), id)
	if err != nil {
		a.refuse(c, err)
		return one, false
	}
	return one, true
}

func (a *API) batch(c *gin.Context) {
	if one, ok := a.batchOf(c); ok {
		a.answerBatch(c, http.StatusOK, one, nil)
	}
}

func (a *API) answerBatch(c *gin.Context, status int, one store.Batch, err error) {
	var w client.Batch
	var counts []store.BatchCount
	if err == nil {
		if counts, err = a.engine.Store.CountBatch(c.Request.Context(), one); err == nil {
			w = a.counted(one, counts)
		}
	}
	var acts []store.BatchAct
	if err == nil && one.First != nil {
		w.Segments, err = a.engine.Store.SegmentsOut(c.Request.Context(), one.ID)
	}
	if err == nil {
		err = a.waits(c.Request.Context(), &w, one, counts)
	}
	if err == nil {
		acts, err = a.engine.Store.BatchActs(c.Request.Context(), one.ID, actsMost)
	}
	if err != nil {
		a.refuse(c, err)
		return
	}
	for _, act := range acts {
		w.Acts = append(w.Acts, client.BatchAct{At: act.At, By: act.ByWhom, Act: act.Act})
	}
	c.JSON(status, w)
}

// waits says what rows of a batch wait for.
func (a *API) waits(ctx context.Context, w *client.Batch, one store.Batch, counts []store.BatchCount) error {
	waits, err := a.engine.Batches.Waits(ctx, &one, counts)
	for _, is := range waits {
		wait := client.BatchWait{Rows: is.Rows, For: is.For, Country: is.Country}
		if !is.Until.IsZero() {
			wait.Until = &is.Until
		}
		w.Waits = append(w.Waits, wait)
	}
	return err
}

func (a *API) batches(c *gin.Context) {
	p, faults := pageOf(c)
	state := batch.State(c.Query("state"))
	if state != "" && !slices.Contains(batch.States, state) {
		faults.Add("state", fmt.Sprintf("%q is not a state of batches", state), "one of "+fault.Words(batch.States))
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	found, err := a.engine.Store.Batches(c.Request.Context(), state, p.after, p.limit+1)
	if err != nil {
		a.refuse(c, err)
		return
	}
	l := client.List[client.Batch]{Items: []client.Batch{}}
	found, l.Next = cut(p, found, func(b *store.Batch) uuid.UUID { return b.ID })
	counts, err := a.engine.Store.CountBatches(c.Request.Context(), found)
	if err != nil {
		a.refuse(c, err)
		return
	}
	for _, one := range found {
		l.Items = append(l.Items, a.counted(one, counts[one.ID]))
	}
	c.JSON(http.StatusOK, l)
}

func (a *API) changeBatch(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	w, err := read[client.BatchWants](c)
	if err != nil {
		a.refuse(c, err)
		return
	}
	one, err := a.engine.Batches.Change(c.Request.Context(), id, func(name *string, wants *batch.Wants, columns []batch.Column) error {
		*name, *wants = w.Name, wantsOf(w)
		return correct(columns, w.Columns)
	})
	a.answerBatch(c, http.StatusOK, one, err)
}

// correct says what columns are for, as a person says it.
func correct(columns []batch.Column, said map[string]string) error {
	var faults fault.Faults
	for _, role := range slices.Sorted(maps.Keys(said)) {
		if !slices.Contains(sheet.Roles, sheet.Role(role)) {
			faults.Add("columns."+role, "columns have no such role", fault.Words(sheet.Roles))
			continue
		}
		at := slices.IndexFunc(columns, func(k batch.Column) bool { return k.Head == said[role] })
		if at < 0 && said[role] != "" {
			heads := make([]string, len(columns))
			for i, k := range columns {
				heads[i] = k.Head
			}
			faults.Add("columns."+role, fmt.Sprintf("there is no column %q", said[role]), "one of "+strings.Join(heads, ", "))
			continue
		}
		for i := range columns {
			if columns[i].Role == sheet.Role(role) {
				columns[i].Role, columns[i].Why = "", ""
			}
		}
		if at >= 0 {
			columns[at].Role, columns[at].Why = sheet.Role(role), "you said so"
		}
	}
	if faults != nil {
		return faults
	}
	return nil
}

func (a *API) removeBatch(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	if err := a.engine.Store.RemoveBatch(c.Request.Context(), id); err != nil {
		a.refuse(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
