package api

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/charset"
	"calmpigeon.example/internal/core/fault"
)

const (
	// draftsMost is how many messages one request hands over at most.
	draftsMost = 1000
	// atOnceMost is how many of them are taken on at the same time: they are written
	// as sets.
	atOnceMost = 250
)

// drafts reads one message, or a list of them. Of a list all is what each of them says,
// and the draft what holds for those that do not say otherwise.
func drafts(c *gin.Context) (draft client.Draft, all []json.RawMessage, err error) {
	media, parameters, _ := mime.ParseMediaType(c.GetHeader("Content-Type"))
	// Pages of other sites can send a form, though not with a key.
	if media == "application/x-www-form-urlencoded" && c.GetHeader("Authorization") != "" {
		raw, err := body(c)
		if err != nil {
			return draft, nil, err
		}
		if bytes.HasPrefix(bytes.TrimSpace(raw), []byte("{")) { // as some send JSON who do not say so
			return draft, nil, fault.Because(errNotJSON, "it is JSON, and sent as %q", media)
		}
		draft, err = form(string(raw), parameters["charset"])
		return draft, nil, err
	}
	raw, err := jsonBody(c)
	if err != nil {
		return draft, nil, err
	}
	var members map[string]json.RawMessage
	if json.Unmarshal(raw, &members) != nil || members["messages"] == nil {
		return draft, nil, decode(raw, &draft, "")
	}
	if err := json.Unmarshal(members["messages"], &all); err != nil {
		return draft, nil, fault.New("messages", "it is no list", fmt.Sprintf("a list of 1 to %d messages", draftsMost))
	}
	delete(members, "messages")
	common, err := json.Marshal(members)
	if err != nil {
		return draft, nil, err
	}
	if err := decode(common, &draft, ""); err != nil {
		return draft, nil, err
	}
	var faults fault.Faults
	if len(all) == 0 || len(all) > draftsMost {
		faults.Add("messages", fmt.Sprintf("%d messages", len(all)), fmt.Sprintf("1 to %d", draftsMost))
	}
	if draft.To != "" {
		faults.Add("to", "it stands outside of messages", "a number in each of them")
	}
	if draft.DryRun {
		faults.Add("dry_run", "it is asked of a list", "one message at a time")
	}
	if faults != nil {
		return draft, nil, faults
	}
	return draft, all, nil
}

// form reads a message from a form (application/x-www-form-urlencoded): the fields of
// JSON, those of a template as fields.NAME.
func form(raw, written string) (client.Draft, error) {
	values, err := url.ParseQuery(raw)
	if err != nil {
		return client.Draft{}, fault.New("body", "it is no form: "+err.Error(), "fields as name=value with & between, percent-encoded")
	}
	var d client.Draft
	var faults fault.Faults
	words := map[string]*string{
		"to":        &d.To,
		"text":      &d.Text,
		"sender":    &d.Sender,
		"kind":      &d.Kind,
		"reference": &d.Reference,
		"gateway":   &d.Gateway,
		"valid_for": (*string)(&d.ValidFor),
		"country":   &d.Country,
		"template":  &d.Template,
		"language":  &d.Language,
		"cure":      &d.Cure,
		"send_at":   &d.SendAt,
		"report_to": &d.ReportTo,
	}
	switches := map[string]*bool{"flash": &d.Flash, "long": &d.Long, "at_any_hour": &d.AtAnyHour, "dry_run": &d.DryRun}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if len(values[name]) > 1 {
			faults.Add(name, "it is given twice", "each field once")
			continue
		}
		value, err := charset.Decode([]byte(values.Get(name)), written)
		if err != nil {
			faults.Add(name, err.Error(), "text in UTF-8, or in what charset says beside the media type")
			continue
		}
		field, isField := strings.CutPrefix(name, "fields.")
		label, isLabel := strings.CutPrefix(name, "labels.")
		switch {
		case words[name] != nil:
			*words[name] = value
		case switches[name] != nil:
			if *switches[name], err = strconv.ParseBool(value); err != nil {
				faults.Add(name, fmt.Sprintf("%q is neither", value), "true or false")
			}
		case isField:
			if d.Fields == nil {
				d.Fields = map[string]any{}
			}
			d.Fields[field] = value
		case isLabel:
			if d.Labels == nil {
				d.Labels = map[string]string{}
			}
			d.Labels[label] = value
		default:
			known := append(slices.Collect(maps.Keys(words)), slices.Collect(maps.Keys(switches))...)
			slices.Sort(known)
			faults.Add(name, "there is no such field", strings.Join(known, ", ")+", fields.NAME, labels.NAME")
		}
	}
	if strings.HasPrefix(d.To, " ") {
		faults.Add("to", "it begins with a space, as a plus does that is not encoded", "a plus written %2B")
	}
	if faults != nil {
		return d, faults
	}
	return d, nil
}

// sendAll takes a list of messages on, each by itself. It is answered 202 where all were
// taken, 207 where some were refused, and as the first of them where none was.
func (a *API) sendAll(c *gin.Context, common client.Draft, all []json.RawMessage) {
	outcomes := client.Outcomes{Items: make([]client.Outcome, len(all))}
	token := c.GetHeader("Idempotency-Key")
	var working sync.WaitGroup
	next := make(chan int)
	for range min(len(all), atOnceMost) {
		working.Go(func() {
			for i := range next {
				outcomes.Items[i] = a.sendOne(c, common, all[i], i, token)
			}
		})
	}
	for i := range all {
		next <- i
	}
	close(next)
	working.Wait()
	for _, one := range outcomes.Items {
		if one.Message != nil {
			outcomes.Taken++
		} else {
			outcomes.Refused++
		}
	}
	switch {
	case outcomes.Refused == 0:
		c.JSON(http.StatusAccepted, outcomes)
	case outcomes.Taken > 0:
		c.JSON(http.StatusMultiStatus, outcomes)
	default:
		p := told(outcomes.Items[0].Problem.Status, "none-taken", "None of these was taken", "Each says why.")
		p.Items = outcomes.Items
		answerProblem(c, p)
	}
}

func (a *API) sendOne(c *gin.Context, common client.Draft, raw json.RawMessage, i int, token string) client.Outcome {
	d := common
	d.Fields = maps.Clone(common.Fields)
	at := fmt.Sprintf("messages[%d]", i)
	err := decode(raw, &d, at)
	if err == nil && d.DryRun {
		err = fault.New("dry_run", "it is asked of one of a list", "one message at a time")
	}
	outcome := client.Outcome{Index: i}
	if err == nil {
		if token != "" {
			token = fmt.Sprintf("%s/%d", token, i)
		}
		var m client.Message
		if m, err = a.accept(c, draftOf(d), token); err == nil {
			outcome.Message = &m
			return outcome
		}
	}
	p, known := problemOf(c, err)
	if !known {
		a.log.Error("request failed", "path", c.FullPath(), "error", err)
	}
	outcome.Problem = &p
	return outcome
}
