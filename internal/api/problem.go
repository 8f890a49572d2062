package api

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"mime"
	"net/http"
	"os"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/charset"
	"calmpigeon.example/internal/core/document"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/batches"
	"calmpigeon.example/internal/engine/gate"
	"calmpigeon.example/internal/engine/hold"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/engine/keys"
	"calmpigeon.example/internal/engine/passcodes"
	"calmpigeon.example/internal/engine/recovery"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/statements"
	"calmpigeon.example/internal/engine/strays"
	"calmpigeon.example/internal/engine/withdraw"
	"calmpigeon.example/internal/store"
)

// told makes problem details (RFC 9457).
func told(status int, kind, title, detail string, fields ...client.FieldError) client.Problem {
	return client.Problem{Type: "urn:calm-pigeon:" + kind, Title: title, Status: status, Detail: detail, Errors: fields}
}

// problem answers with problem details and ends the request.
func problem(c *gin.Context, status int, kind, title, detail string, fields ...client.FieldError) {
	answerProblem(c, told(status, kind, title, detail, fields...))
}

func answerProblem(c *gin.Context, p client.Problem) {
	c.Abort()
	if c.Writer.Written() {
		return
	}
	c.Header("Content-Type", "application/problem+json")
	if p.RetryAt != nil {
		c.Header("Retry-After", strconv.Itoa(max(int(math.Ceil(time.Until(*p.RetryAt).Seconds())), 1)))
	}
	switch {
	case p.Status == http.StatusServiceUnavailable:
		c.Header("Retry-After", "2")
	case strings.HasSuffix(p.Type, ":no-key"):
		c.Header("WWW-Authenticate", `Bearer realm="Calm Pigeon"`)
	case strings.HasSuffix(p.Type, ":wrong-key"):
		c.Header("WWW-Authenticate", `Bearer realm="Calm Pigeon", error="invalid_token"`)
	}
	if unread(c) {
		c.Header("Connection", "close")
	}
	c.Status(p.Status)
	encoder := json.NewEncoder(c.Writer)
	encoder.SetEscapeHTML(false)
	encoder.Encode(p)
}

// refuse answers with why a request is refused.
func (a *API) refuse(c *gin.Context, err error) {
	p, known := problemOf(c, err)
	if !known {
		if c.Request.Context().Err() != nil {
			c.Abort() // nobody is listening any more
			return
		}
		a.log.Error("request failed", "path", c.FullPath(), "error", err)
	}
	answerProblem(c, p)
}

// problemOf is the one place where errors become answers. What it does not know is
// ours, and not the caller's.
func problemOf(c *gin.Context, err error) (p client.Problem, known bool) {
	if faults := fault.Of(err); faults != nil {
		fields := make([]client.FieldError, len(faults))
		for i, f := range faults {
			fields[i] = client.FieldError{Field: f.Field, Wrong: f.Wrong, Accepted: f.Accepted}
		}
		return told(http.StatusUnprocessableEntity, "invalid-request", "This cannot be done as it stands", "", fields...), true
	}
	var tooLarge *http.MaxBytesError
	var stale *store.Stale
	var unknown *store.UnknownOutcome
	var missing *nothing
	var lost *strays.Missing
	var passed *refused
	var full *passcode.Full
	var noRoom *store.FullError
	var wrongKeys *keys.TooManyError
	var soon *passcodes.TooSoon
	var blocked *passcodes.Blocked
	var alarmed *passcodes.Alarmed
	var suspicious *passcodes.Suspicious
	switch {
	case errors.As(err, &passed):
		p = passed.problem
	case errors.As(err, &tooLarge):
		p = told(http.StatusRequestEntityTooLarge, "too-large", "The request is too large", "",
			client.FieldError{
				Field:    "body",
				Wrong:    fmt.Sprintf("it is longer than %g MiB", float64(tooLarge.Limit)/(1<<20)),
				Accepted: fmt.Sprintf("at most %d bytes", tooLarge.Limit),
			})
	case errors.Is(err, errNotJSON):
		p = told(
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
		p = told(http.StatusConflict, "no-gateway", "There is no gateway yet", "Add one with: pigeon gateway add",
			client.FieldError{Field: "gateway", Wrong: "none has been added", Accepted: "a gateway in use"})
	case errors.Is(err, intake.ErrReused):
		p = told(
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
	case errors.Is(err, hold.ErrNotHeld):
		p = told(http.StatusConflict, "not-held", "This does not wait for a time", err.Error())
	case errors.Is(err, withdraw.ErrGone):
		p = told(http.StatusConflict, "gone", "This can no longer be withdrawn", err.Error())
	case errors.Is(err, withdraw.ErrMayHaveGone):
		p = told(
			http.StatusConflict,
			"may-have-gone",
			"This can no longer be withdrawn",
			err.Error()+". It can be kept from going again: stop it.",
		)
	case errors.Is(err, withdraw.ErrNoDoubt):
		p = told(http.StatusConflict, "no-doubt", "There is nothing to stop", err.Error()+". What waits to be sent can be cancelled.")
	case errors.Is(err, store.ErrNotNow):
		p = told(http.StatusConflict, "not-now", "This cannot be done with the batch as it is", fault.Why(err))
	case errors.Is(err, batches.ErrSame):
		p = told(
			http.StatusConflict,
			"same-again",
			"Most of these people would get the same text again",
			fault.Why(err)+". To send it all the same, launch it with \"again\": true, or --again.",
		)
	case errors.Is(err, errNoKey):
		p = told(http.StatusUnauthorized, "no-key", "This needs an API key", "Send one that is in use as: Authorization: Bearer pigeon_…")
	case errors.Is(err, keys.ErrRefused):
		p = told(
			http.StatusUnauthorized,
			"wrong-key",
			"This API key is not in use",
			"It is wrong, or was revoked; or you are no longer signed in.",
		)
	case errors.Is(err, errShare):
		at := time.Now().Add(time.Second)
		p = told(http.StatusTooManyRequests, "too-many-requests", "This key has too many requests open at the same time",
			"Wait for some of them, or end streams that are not needed. Each key has a share of the connections.")
		p.RetryAt = &at
	case errors.As(err, &wrongKeys):
		at := time.Now().Add(wrongKeys.After)
		p = told(http.StatusTooManyRequests, "too-many-wrong-keys", "Too many wrong API keys came from this address",
			"Wait, and send a key that is in use. A key that was used here a moment ago is answered all the same.")
		p.RetryAt = &at
	case errors.Is(err, errForeign):
		p = told(
			http.StatusForbidden,
			"foreign",
			"This was asked by a page of another site",
			"Only pages of this service may change anything for who is signed in.",
		)
	case errors.Is(err, keys.ErrLast):
		p = told(http.StatusConflict, "last-key", "This is the last key in use", "Make another one first: without any nobody could.")
	case errors.As(err, &lost):
		p = told(http.StatusNotFound, "not-found", (&nothing{what: lost.What, name: lost.ID.String()}).title(), "")
	case errors.Is(err, strays.ErrTaken):
		p = told(http.StatusConflict, "taken", "It has a message already", err.Error())
	case errors.Is(err, strays.ErrOtherGateway):
		p = told(
			http.StatusUnprocessableEntity,
			"invalid-request",
			"This cannot be done as it stands",
			"",
			client.FieldError{
				Field:    "message",
				Wrong:    err.Error(),
				Accepted: "a message that went through the gateway that the stray came from",
			},
		)
	case errors.As(err, &alarmed) && alarmed.Full != nil:
		p = told(http.StatusTooManyRequests, "limit-reached", "This looks like fraud, and gets few passcodes", alarmed.Error())
		p.RetryAt = &alarmed.Full.Until
	case errors.As(err, &alarmed):
		p = told(http.StatusForbidden, "blocked", "This looks like fraud, and gets no passcodes", alarmed.Error())
	case errors.As(err, &suspicious):
		p = told(http.StatusForbidden, "suspicious", "This is too suspicious to be sent", suspicious.Error())
	case errors.Is(err, passcodes.ErrNotStanding), errors.Is(err, passcodes.ErrStands):
		p = told(http.StatusConflict, "not-now", "This cannot be done with the alarm as it is", err.Error())
	case errors.Is(err, passcodes.ErrVoice):
		p = told(http.StatusConflict, "no-voice", "This cannot be spoken in a call", fault.Why(err))
	case errors.As(err, &full):
		p = told(http.StatusTooManyRequests, "limit-reached", "Too many passcodes were asked for", full.Error())
		p.RetryAt = &full.Until
	case errors.As(err, &soon):
		p = told(http.StatusTooManyRequests, "too-soon", "It is too soon to send this again", soon.Error())
		p.RetryAt = &soon.At
	case errors.As(err, &blocked):
		p = told(http.StatusForbidden, "blocked", "This gets no passcodes", blocked.Error())
	case errors.Is(err, passcodes.ErrReveal):
		p = told(http.StatusForbidden, "no-practice", "This key may not see codes", "Make one for practice: pigeon key new --practice")
	case errors.Is(err, passcodes.ErrOver), errors.Is(err, passcodes.ErrOften):
		p = told(http.StatusConflict, "over", "This can no longer be sent again", fault.Why(err)+". Issue a new one.")
	case errors.Is(err, passcodes.ErrDelivered):
		p = told(http.StatusConflict, "delivered", "The last text was delivered",
			"Its receipt says that the handset has it. Ask the end user to look; to send it all the same, say so: anyway.")
	case errors.Is(err, statements.ErrFetch):
		p = told(http.StatusBadGateway, "gateway-failed", "The gateway did not give its statement", fault.Why(err))
	case errors.Is(err, statements.ErrState):
		p = told(http.StatusConflict, "not-now", "This cannot be done with the statement as it is", err.Error())
	case errors.Is(err, strays.ErrNothingToUndo):
		p = told(http.StatusConflict, "nothing-to-undo", "There is nothing to take back", err.Error())
	case errors.As(err, &missing):
		p = told(http.StatusNotFound, "not-found", missing.title(), missing.there())
	case errors.Is(err, store.ErrNotFound):
		title := "There is nothing at this address"
		if id := c.Param("id"); id != "" {
			what := "message"
			if strings.HasPrefix(c.FullPath(), "/v1/keys/") {
				what = "key"
			}
			title = (&nothing{what: what, name: id}).title()
		}
		p = told(http.StatusNotFound, "not-found", title, "")
	case errors.Is(err, roster.ErrInUse):
		p = told(http.StatusConflict, "in-use", "This is in use", fault.Why(err))
	case errors.As(err, &stale):
		p = told(
			http.StatusPreconditionFailed,
			"changed",
			"Somebody else has changed this meanwhile",
			stale.Error()+". Look at it again and repeat your change.",
		)
	case errors.Is(err, gate.ErrClosed) || errors.Is(err, store.ErrRewound):
		p = told(
			http.StatusServiceUnavailable,
			"quarantine",
			"Nothing is sent: the service is in quarantine",
			"Its database is not as it was left, so it takes nothing to send. An operator leads it out with: pigeon recover",
		)
	case errors.Is(err, gate.ErrOutdated):
		p = told(
			http.StatusServiceUnavailable,
			"newer-schema",
			"The database was migrated to a newer version",
			"This instance does not know its schema, and sends nothing more. End it, and start the newer version.",
		)
	case errors.Is(err, recovery.ErrNotPrepared):
		p = told(http.StatusConflict, "not-prepared", "Messages are still being made doubtful", "Try again in a moment.")
	case errors.As(err, &unknown):
		return told(
			http.StatusServiceUnavailable,
			"unknown-outcome",
			"Nobody knows yet whether this was kept",
			"The connection to the database broke while it was being written. Repeat the request with the same Idempotency-Key; "+
				"if it had none, look first whether it is there.",
		), false
	case errors.Is(err, store.ErrChanged):
		p = told(http.StatusConflict, "changed", "Somebody else has changed this meanwhile", "Look at it again and repeat your change.")
	case errors.Is(err, store.ErrExists):
		p = told(http.StatusConflict, "exists", "There is one already", err.Error())
	case errors.Is(err, os.ErrDeadlineExceeded):
		p = told(
			http.StatusRequestTimeout,
			"too-slow",
			"The request came too slowly",
			"",
			client.FieldError{
				Field:    "body",
				Wrong:    fmt.Sprintf("it had not come after %v", bodyWithin),
				Accepted: "a body without pauses",
			},
		)
	case errors.As(err, &noRoom):
		p = told(http.StatusConflict, "full", "No more "+noRoom.What+" can be kept", "The limit is "+noRoom.Most+". "+noRoom.Do)
	case errors.Is(err, sheet.ErrBusy):
		p = told(http.StatusServiceUnavailable, "busy", "Too many workbooks wait to be read", "Try again in a moment, or send it as CSV.")
	case errors.Is(err, errBusy):
		p = told(http.StatusServiceUnavailable, "busy", "Too much of this is being tried out at the same time", "Try again in a moment.")
	default:
		return told(
			http.StatusServiceUnavailable,
			"unavailable",
			"This could not be written down just now",
			"Nothing of it was kept. Try again, with the same Idempotency-Key if there was one.",
		), false
	}
	return p, true
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
	raw, err := jsonBody(c)
	if err == nil {
		err = decode(raw, &request, "")
	}
	return request, err
}

// jsonBody reads the whole body as JSON that is within its bounds.
func jsonBody(c *gin.Context) ([]byte, error) {
	if media, _, _ := mime.ParseMediaType(c.GetHeader("Content-Type")); media != "application/json" {
		return nil, fault.Because(errNotJSON, "it is sent as %q", media)
	}
	raw, err := body(c)
	if err != nil {
		return nil, err
	}
	for _, check := range []func([]byte) error{charset.Check, document.CheckJSON} {
		if err := check(raw); err != nil {
			return nil, fault.Because(errNotJSON, "%w", err)
		}
	}
	return raw, nil
}

// decode decodes JSON into a request; at is where it stands in the body, for what is
// said of it.
func decode[T any](raw []byte, request *T, at string) error {
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.DisallowUnknownFields()
	err := decoder.Decode(request)
	switch {
	case err == nil:
		if _, err := decoder.Token(); err != io.EOF {
			return fault.Because(errNotJSON, "something follows the object")
		}
		return nil
	case errors.Is(err, io.EOF):
		return fault.Because(errNotJSON, "it is empty")
	}
	var faults fault.Faults
	if json.Valid(raw) {
		misfits(&faults, at, raw, reflect.TypeFor[T]())
	}
	switch {
	case len(faults) == 0:
		return fault.Because(errNotJSON, "%v", err)
	case faults[0].Field == "":
		return fault.Because(errNotJSON, "%s", faults[0].Wrong)
	}
	return faults
}
