package api

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/batches"
	"calmpigeon.example/internal/explain"
	"calmpigeon.example/internal/store"
	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
)

func (a *API) batchRows(c *gin.Context) {
	one, ok := a.batchOf(c)
	if !ok {
		return
	}
	limit, faults := limitOf(c)
	after := 0
	if given := c.Query("cursor"); given != "" {
		var err error
		if after, err = strconv.Atoi(given); err != nil || after < 0 {
			faults.Add("cursor", fmt.Sprintf("%q is not a cursor", given), "next of the page before")
		}
	}
	choice, wrong := choiceOf(c)
	if faults = append(faults, wrong...); faults != nil {
		a.refuse(c, faults)
		return
	}
	choice.Texts = true
	l := client.List[client.BatchRow]{Items: []client.BatchRow{}}
	for row, err := range a.engine.Batches.Rows(c.Request.Context(), one, after+1, choice) {
		if err != nil {
			a.refuse(c, err)
			return
		}
		if len(l.Items) == limit {
			l.Next = strconv.Itoa(l.Items[limit-1].Row)
			break
		}
		l.Items = append(l.Items, a.wireRow(one, row))
	}
	c.JSON(http.StatusOK, l)
}

// choiceOf reads which rows are chosen.
func choiceOf(c *gin.Context) (choice batches.Choice, faults fault.Faults) {
	switch given := c.Query("left_out"); {
	case given == "" || given == "false":
	case given == "true" || given == "any":
		choice.LeftOut = true
	case slices.Contains(batch.Reasons, batch.Reason(given)):
		choice.Reason = batch.Reason(given)
	default:
		faults.Add("left_out", fmt.Sprintf("%q is no reason", given), "any, or one of "+fault.Words(batch.Reasons))
	}
	if given := c.Query("state"); given != "" {
		state, err := delivery.ParseState(given)
		if err != nil {
			faults.Add("state", fmt.Sprintf("%q is not a state", given), "one of "+fault.Words(delivery.States))
		}
		choice.State = state
	}
	return choice, faults
}

// wireRow is a row as the API gives it.
func (a *API) wireRow(one store.Batch, r batches.Row) client.BatchRow {
	w := client.BatchRow{
		Row:       r.N,
		Line:      r.Line,
		Cells:     map[string]string{},
		Text:      r.Text,
		State:     string(r.State),
		Cause:     string(r.Cause),
		SettledAt: r.Settled,
	}
	for i, cell := range r.Cells {
		if i < len(one.Found.Columns) {
			w.Cells[one.Found.Columns[i].Head] = cell
		}
	}
	if r.Checked {
		k := r.Check
		w.LeftOut, w.Say, w.To, w.Country, w.Sender, w.Gateway = string(k.Reason), k.Say, k.To, k.Country, k.Sender, k.Gateway
		w.Segments = k.Segments
		if k.Segments > 0 {
			w.Encoding = string(k.Encoding())
		}
	}
	if r.Message != uuid.Nil {
		w.Message, w.Gateway = r.Message.String(), a.gatewayName(r.Gateway)
	}
	if r.Price != (price.Money{}) {
		w.Price = explain.Money(r.Price, true)
	}
	if r.Cause != "" {
		w.Advice = r.Cause.Advice().Text
	}
	return w
}

// batchResult streams a batch's rows with what became of each.
func (a *API) batchResult(c *gin.Context) {
	one, ok := a.batchOf(c)
	if !ok {
		return
	}
	choice, faults := choiceOf(c)
	format := cmp.Or(c.Query("format"), map[bool]string{true: "xlsx", false: "csv"}[one.Found.Format == string(sheet.XLSX)])
	if !slices.Contains([]string{"csv", "xlsx", "jsonl"}, format) {
		faults.Add("format", fmt.Sprintf("%q is no format", format), "csv, xlsx or jsonl; none: as the list came")
	}
	if faults != nil {
		a.refuse(c, faults)
		return
	}
	var book *batches.Workbook
	if format == "xlsx" && choice == (batches.Choice{}) {
		var err error
		if book, err = a.engine.Batches.Workbook(c.Request.Context(), one); err != nil {
			a.refuse(c, err)
			return
		}
		if book != nil {
			defer book.Close()
		}
	}
	name := strings.TrimSuffix(one.Found.File, filepath.Ext(one.Found.File))
	name = strings.Map(func(r rune) rune {
		if r < ' ' || r == '"' || r == '\\' || r > '~' {
			return '-'
		}
		return r
	}, cmp.Or(name, "batch"))
	if choice.LeftOut || choice.Reason != "" {
		name += "-left-out"
	}
	c.Header(
		"Content-Type",
		map[string]string{"csv": "text/csv; charset=" + cmp.Or(one.Found.Encoding, "utf-8"), "jsonl": "application/jsonl",
			"xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"}[format],
	)
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-result.%s"`, name, format))
	c.Header("Trailer", "Result")
	c.Status(http.StatusOK)
	rows := a.engine.Batches.Rows(c.Request.Context(), one, 1, choice)
	var err error
	switch {
	case book != nil:
		if err = book.Write(c.Writer, rows); errors.Is(err, sheet.ErrList) && c.Writer.Size() <= 0 { // better plain than none
			err = batches.WriteResult(c.Writer, one, format, rows)
		}
	case format == "jsonl":
		encoder := json.NewEncoder(c.Writer)
		encoder.SetEscapeHTML(false)
		for row, wrong := range rows {
			if err = wrong; err == nil {
				err = encoder.Encode(a.wireRow(one, row))
			}
			if err != nil {
				break
			}
		}
	default:
		err = batches.WriteResult(c.Writer, one, format, rows)
	}
	if err != nil { // part of it has gone: the connection says that it is not whole
		a.log.Error("writing the result of a batch", "batch", one.ID, "error", err)
		panic(http.ErrAbortHandler)
	}
	c.Writer.Header().Set("Result", "whole")
}
