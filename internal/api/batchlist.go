package api

import (
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/charset"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/locale"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/batches"
	"calmpigeon.example/internal/store"
	"github.com/gin-gonic/gin"
	"github.com/google/uuid"
)

const (
	// listMost is the longest list that is read, in octets.
	listMost = 1 << 30
	// listWithin is how long a list that is uploaded may stand still.
	listWithin = 30 * time.Second
)

// flowing reads a body for as long as something comes.
type flowing struct {
	io.Reader
	control *http.ResponseController
}

func (f flowing) Read(p []byte) (int, error) {
	f.control.SetReadDeadline(time.Now().Add(listWithin)) // where it cannot be set, that of the server holds
	return f.Reader.Read(p)
}

func (a *API) appendRows(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	hint, faults := listHint(c)
	at := -1
	if given := c.Query("at"); given != "" {
		var err error
		if at, err = strconv.Atoi(given); err != nil || at < 0 {
			faults.Add("at", fmt.Sprintf("%q is no number of rows", given), "how many rows stand before the first of these")
		}
	}
	file := c.Query("file")
	if file != "" {
		file = store.Keepable(filepath.Base(file))
	}
	var done batches.Appended
	one, ok := a.listed(c, id, faults, func(list io.Reader) (err error) {
		done, err = a.engine.Batches.Append(c.Request.Context(), id, list, hint, file, at)
		return err
	})
	if ok {
		c.JSON(http.StatusOK, client.BatchAppended{Rows: done.Rows, Already: done.Already, Mended: done.Mended, Batch: wireBatch(one)})
	}
}

// correctRows puts rows back that were left out.
func (a *API) correctRows(c *gin.Context) {
	id, ok := a.batchID(c)
	if !ok {
		return
	}
	hint, faults := listHint(c)
	rows := 0
	one, ok := a.listed(c, id, faults, func(list io.Reader) (err error) {
		rows, err = a.engine.Batches.Correct(c.Request.Context(), id, list, hint)
		return err
	})
	if ok {
		c.JSON(http.StatusOK, client.BatchCorrected{Rows: rows, Batch: wireBatch(one)})
	}
}

// headRowMost is how far down the row may be that names the columns.
const headRowMost = 10_000

// listHint is what is said of a list in the address.
func listHint(c *gin.Context) (hint sheet.Hint, faults fault.Faults) {
	hint = sheet.Hint{Encoding: c.Query("encoding"), Sheet: c.Query("sheet"), Locale: c.Query("locale")}
	if given := c.Query("head_row"); given != "" {
		n, err := strconv.Atoi(given)
		if err != nil || n < 1 || n > headRowMost {
			accepted := fmt.Sprintf("the number of the row that names the columns, 1 to %d", headRowMost)
			faults.Add("head_row", fmt.Sprintf("%.20q is none", given), accepted)
		}
		hint.HeadLine = n
	}
	if _, known := locale.Find(hint.Locale); hint.Locale != "" && !known {
		faults.Add("locale", fmt.Sprintf("%.40q is not known here", hint.Locale), "one of "+strings.Join(locale.Tags(), ", "))
	}
	if hint.Encoding != "" && !charset.Known(hint.Encoding) {
		faults.Add("encoding", fmt.Sprintf("%q is none that is read here", hint.Encoding), "one of "+strings.Join(charset.Names, ", "))
	}
	if comma := c.Query("delimiter"); comma != "" {
		r, size := utf8.DecodeRuneInString(comma)
		if size != len(comma) {
			faults.Add("delimiter", fmt.Sprintf("%q is no single character", comma), "what stands between cells, such as ;")
		}
		hint.Delimiter = r
	}
	return hint, faults
}

// listed takes a list in, as it flows, and returns its batch; false if it was refused.
func (a *API) listed(c *gin.Context, id uuid.UUID, faults fault.Faults, take func(io.Reader) error) (one store.Batch, ok bool) {
	if faults != nil {
		a.refuse(c, faults)
		return one, false
	}
	err := a.uploaded(c, take)
	if err == nil {
		one, err = a.engine.Store.Batch(c.Request.Context(), id)
	}
	if err != nil {
		a.refuse(c, err)
	}
	return one, err == nil
}

// uploaded takes a list in, as it flows.
func (a *API) uploaded(c *gin.Context, take func(io.Reader) error) error {
	control := http.NewResponseController(c.Writer)
	err := take(flowing{http.MaxBytesReader(c.Writer, c.Request.Body, listMost), control})
	if err == nil {
		control.SetReadDeadline(time.Time{})
		c.Set(bodyRead, true)
	}
	return err
}
