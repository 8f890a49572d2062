package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"os"
	"reflect"
	"strings"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/charset"
	"calmpigeon.example/internal/core/document"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/keys"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/withdraw"
	"calmpigeon.example/internal/store"
)

// problem answers with problem details (RFC 9457) and ends the request.
func problem(c *gin.Context, status int, kind, title, detail string, fields ...client.FieldError) {
	c.Abort()
	if c.Writer.Written() {
		return
	}
	c.Header("Content-Type", "application/problem+json")
	if unread(c) {
		c.Header("Connection", "close")
	}
	c.Status(status)
	encoder := json.NewEncoder(c.Writer)
	encoder.SetEscapeHTML(false)
	encoder.Encode(client.Problem{Type: "urn:calm-pigeon:" + kind, Title: title, Status: status, Detail: detail, Errors: fields})
}

// refuse is the one place where errors become answers.
func (a *API) refuse(c *gin.Context, err error) {
	if faults := fault.Of(err); faults != nil {
		fields := make([]client.FieldError, len(faults))
		for i, f := range faults {
			fields[i] = client.FieldError{Field: f.Field, Wrong: f.Wrong, Accepted: f.Accepted}
		}
		problem(c, http.StatusUnprocessableEntity, "invalid-request", "This cannot be done as it stands", "", fields...)
		return
	}
	var tooLarge *http.MaxBytesError
	var stale *store.Stale
	var missing *nothing
	switch {
	case errors.As(err, &tooLarge):
		problem(c, http.StatusRequestEntityTooLarge, "too-large", "The request is too large", "",
			client.FieldError{Field: "body", Wrong: "it is longer than 1 MiB", Accepted: "at most 1,048,576 bytes"})
	case errors.Is(err, errNotJSON):
		problem(
			c,
			http.StatusBadRequest,
			"not-json",
			"The request is not the JSON that is expected",
			"",
			client.FieldError{
				Field:    "body",
				Wrong:    fault.Why(err),
				Accepted: "one JSON object, as application/json in UTF-8",
			},
		)
	case errors.Is(err, intake.ErrNoGateway):
		problem(c, http.StatusConflict, "no-gateway", "There is no gateway yet", "Add one with: pigeon gateway add",
			client.FieldError{Field: "gateway", Wrong: "none has been added", Accepted: "a gateway in use"})
	case errors.Is(err, intake.ErrReused):
		problem(
			c,
			http.StatusUnprocessableEntity,
			"key-reused",
			"This Idempotency-Key was used with another request",
			"",
			client.FieldError{
				Field:    "Idempotency-Key",
				Wrong:    "another request was made with it",
				Accepted: "the same request again, or a new key",
			},
		)
	case errors.Is(err, withdraw.ErrGone):
		problem(c, http.StatusConflict, "gone", "This can no longer be withdrawn", err.Error())
	case errors.Is(err, withdraw.ErrMayHaveGone):
		problem(
			c,
			http.StatusConflict,
			"may-have-gone",
			"This can no longer be withdrawn",
			err.Error()+". It can be kept from going again: stop it.",
		)
	case errors.Is(err, withdraw.ErrNoDoubt):
		problem(c, http.StatusConflict, "no-doubt", "There is nothing to stop", err.Error()+". What waits to be sent can be cancelled.")
	case errors.Is(err, errNoKey):
		c.Header("WWW-Authenticate", `Bearer realm="Calm Pigeon"`)
		problem(c, http.StatusUnauthorized, "no-key", "This needs an API key", "Send one that is in use as: Authorization: Bearer pigeon_…")
	case errors.Is(err, keys.ErrRefused):
		c.Header("WWW-Authenticate", `Bearer realm="Calm Pigeon", error="invalid_token"`)
		problem(
			c,
			http.StatusUnauthorized,
			"wrong-key",
			"This API key is not in use",
			"It is wrong, or was revoked; or you are no longer signed in.",
		)
	case errors.Is(err, errForeign):
		problem(
			c,
			http.StatusForbidden,
			"foreign",
			"This was asked by a page of another site",
			"Only pages of this service may change anything for who is signed in.",
		)
	case errors.Is(err, keys.ErrLast):
		problem(c, http.StatusConflict, "last-key", "This is the last key in use", "Make another one first: without any nobody could.")
	case errors.As(err, &missing):
		problem(c, http.StatusNotFound, "not-found", missing.title(), missing.there())
	case errors.Is(err, store.ErrNotFound):
		title := "There is nothing at this address"
		if id := c.Param("id"); id != "" {
			what := "message"
			if strings.HasPrefix(c.FullPath(), "/v1/keys/") {
				what = "key"
			}
			title = (&nothing{what: what, name: id}).title()
		}
		problem(c, http.StatusNotFound, "not-found", title, "")
	case errors.Is(err, roster.ErrInUse):
		problem(c, http.StatusConflict, "in-use", "This is in use", fault.Why(err))
	case errors.As(err, &stale):
		problem(
			c,
			http.StatusPreconditionFailed,
			"changed",
			"Somebody else has changed this meanwhile",
			stale.Error()+". Look at it again and repeat your change.",
		)
	case errors.Is(err, store.ErrChanged):
		problem(c, http.StatusConflict, "changed", "Somebody else has changed this meanwhile", "Look at it again and repeat your change.")
	case errors.Is(err, store.ErrExists):
		problem(c, http.StatusConflict, "exists", "There is one already", err.Error())
	case errors.Is(err, os.ErrDeadlineExceeded):
		problem(c, http.StatusRequestTimeout, "too-slow", "The request came too slowly", "",
			client.FieldError{Field: "body", Wrong: fmt.Sprintf("it had not come after %v", bodyWithin), Accepted: "a body without pauses"})
	case errors.Is(err, errBusy):
		c.Header("Retry-After", "2")
		problem(c, http.StatusServiceUnavailable, "busy", "Too much of this is being tried out at the same time", "Try again in a moment.")
	case c.Request.Context().Err() != nil:
		c.Abort() // nobody is listening any more
	default:
		a.log.Error("request failed", "path", c.FullPath(), "error", err)
		c.Header("Retry-After", "2")
		problem(
			c,
			http.StatusServiceUnavailable,
			"unavailable",
			"This could not be written down just now",
			"Nothing of it was kept. Try again, with the same Idempotency-Key if there was one.",
		)
	}
}

// nothing is the error of a name that nothing has: of what kind of thing, and what
// there is.
type nothing struct {
	what, name string
	all        []string // nil: too many to tell
}

func (n *nothing) Error() string { return n.title() }

func (n *nothing) title() string { return fmt.Sprintf("There is no %s %s", n.what, n.name) }

// there says what there is.
func (n *nothing) there() string {
	const most = 20
	switch {
	case n.all == nil:
		return ""
	case len(n.all) == 0:
		return "There is none yet."
	case len(n.all) > most:
		return "Known are " + strings.Join(n.all[:most], ", ") + " and more."
	}
	return "Known are " + strings.Join(n.all, ", ") + "."
}

var (
	errNotJSON = errors.New("not the expected JSON")
	errBusy    = errors.New("too much at the same time")
)

// read decodes the body into a request of type T. Unknown fields are refused:
// a field that is misspelt would otherwise be lost without a word.
func read[T any](c *gin.Context) (T, error) {
	var request T
	if media, _, _ := mime.ParseMediaType(c.GetHeader("Content-Type")); media != "application/json" {
		return request, fault.Because(errNotJSON, "it is sent as %q", media)
	}
	raw, err := body(c)
	if err != nil {
		return request, err
	}
	for _, check := range []func([]byte) error{charset.Check, document.CheckJSON} {
		if err := check(raw); err != nil {
			return request, fault.Because(errNotJSON, "%w", err)
		}
	}
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.DisallowUnknownFields()
	err = decoder.Decode(&request)
	switch {
	case err == nil:
		if _, err := decoder.Token(); err != io.EOF {
			return request, fault.Because(errNotJSON, "something follows the object")
		}
		return request, nil
	case errors.Is(err, io.EOF):
		return request, fault.Because(errNotJSON, "it is empty")
	}
	var faults fault.Faults
	if json.Valid(raw) {
		misfits(&faults, "", raw, reflect.TypeFor[T]())
	}
	switch {
	case len(faults) == 0:
		return request, fault.Because(errNotJSON, "%v", err)
	case faults[0].Field == "":
		return request, fault.Because(errNotJSON, "%s", faults[0].Wrong)
	}
	return request, faults
}
