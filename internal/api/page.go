package api

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"calmpigeon.example/internal/core/fault"
)

// The sizes of pages.
const (
	pageUsual = 50
	pageMost  = 500
)

// page is which part of a list is asked for: at most so many, from the one after
// the cursor on.
type page struct {
	after uuid.UUID
	limit int
}

// limitOf reads how many are asked for.
func limitOf(c *gin.Context) (limit int, faults fault.Faults) {
	given := c.Query("limit")
	if given == "" {
		return pageUsual, nil
	}
	limit, err := strconv.Atoi(given)
	if err != nil || limit < 1 || limit > pageMost {
		faults.Add("limit", fmt.Sprintf("%q is out of range", given), fmt.Sprintf("1 to %d", pageMost))
	}
	return limit, faults
}

// pageOf reads which page is asked for.
func pageOf(c *gin.Context) (p page, faults fault.Faults) {
	p.limit, faults = limitOf(c)
	if given := c.Query("cursor"); given != "" {
		var err error
		if p.after, err = uuid.Parse(given); err != nil {
			faults.Add("cursor", fmt.Sprintf("%q is not a cursor", given), "next of the page before")
		}
	}
	return p, faults
}

// numbered reads which page is asked for of a list whose records have numbers: at most so
// many, from the one before a number on; 0 is from the last on.
func numbered(c *gin.Context) (before int64, limit int, faults fault.Faults) {
	limit, faults = limitOf(c)
	if given := c.Query("cursor"); given != "" {
		var err error
		if before, err = strconv.ParseInt(given, 10, 64); err != nil || before < 1 {
			faults.Add("cursor", fmt.Sprintf("%q is not a cursor", given), "next of the page before")
		}
	}
	return before, limit, faults
}

// cut makes a page of what was found, where one more was looked for than it
// holds, and returns the cursor of the next; empty if there is none.
func cut[T any](p page, found []T, id func(*T) uuid.UUID) (some []T, next string) {
	if len(found) <= p.limit {
		return found, ""
	}
	return found[:p.limit], id(&found[p.limit-1]).String()
}

// answerAll answers with a list of all there is, written one by one: together they may be long.
func answerAll[T, W any](c *gin.Context, all []T, wire func(T) W) {
	c.Header("Content-Type", "application/json; charset=utf-8")
	c.Status(http.StatusOK)
	out := bufio.NewWriter(c.Writer)
	out.WriteString(`{"items":[`)
	for i, one := range all {
		encoded, err := json.Marshal(wire(one))
		if err != nil {
			panic(http.ErrAbortHandler) // part of it has been written
		}
		if i > 0 {
			out.WriteByte(',')
		}
		if _, err := out.Write(encoded); err != nil {
			return // nobody reads it any more
		}
	}
	out.WriteString(`],"next":""}`)
	out.Flush()
}
