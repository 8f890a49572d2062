package chase

import (
	"context"
	"time"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/engine/courier"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

const (
	// straysAtOnce bounds the requests of a round. If the service is killed in a round, its strays wait until each of these
	// requests would have timed out.
	straysAtOnce = 5
	// strayAgain is the pause before a gateway is asked that could not be asked just now.
	strayAgain = 5 * time.Second
	// unansweredMost is the longest pause before a gateway is asked again whose answer never came. It is a quarter of the
	// time that the stray has waited already, and strayAgain at least.
	unansweredMost = 10 * time.Minute
)

// strayPause are the pauses between two questions about a stray.
var strayPause = pace.Backoff{First: time.Minute, Most: 2 * time.Hour}

// askStrays asks a gateway about ids that it told us and that no message has: its answer may name the
// message. What was said is not kept as it came: it may repeat a text of which nobody knows what of it is to
// be hidden.
func (c *Chase) askStrays(ctx context.Context, g *roster.Gateway) (more bool, err error) {
	now := c.Now()
	if !g.Dialect.CanAskByRef() {
		due, err := c.Store.TakeAsked(ctx, g.ID, now, 0, straysAtOnce)
		for i := range due {
			due[i].AskAt = nil
		}
		if err == nil {
			err = c.Store.AnsweredStrays(ctx, now, due)
		}
		return len(due) == straysAtOnce, err
	}
	each := max(g.Dialect.Query.Most, 1)
	lease := g.Timeout()*straysAtOnce + 5*time.Second
	due, err := c.Store.TakeAsked(ctx, g.ID, now, lease, min(straysAtOnce*each, silentAll))
	if err != nil || len(due) == 0 {
		return false, err
	}
	for at := 0; at < len(due); at += each {
		set := due[at:min(at+each, len(due))]
		asked, answered := c.askAbout(ctx, g, set)
		now := c.Now()
		switch {
		case !asked:
			return false, c.Store.AskLater(context.WithoutCancel(ctx), due[at:], now.Add(strayAgain))
		case !answered:
			pause := min(max(now.Sub(set[0].At)/4, strayAgain), unansweredMost)
			err = c.Store.AskLater(context.WithoutCancel(ctx), set, now.Add(pause))
		default:
			err = c.Store.AnsweredStrays(ctx, now, set)
		}
		if err != nil {
			return false, err
		}
	}
	return len(due) == straysAtOnce*each, nil
}

// askAbout asks about strays with one request, and writes into them what was told. It returns whether the gateway could
// be asked just now, and whether it answered.
func (c *Chase) askAbout(ctx context.Context, g *roster.Gateway, set []store.Stray) (asked, answered bool) {
	messages := make([]dialect.Message, len(set))
	for i, t := range set {
		messages[i] = dialect.Message{GatewayRef: t.GatewayRef}
	}
	means, _, err := c.Courier.Means(ctx, g)
	if err != nil {
		return false, false
	}
	request, err := g.Dialect.QueryRequest(messages, means)
	if err != nil {
		c.Log.Error("building a query about strays", "gateway", g.Name, "error", g.Mask(err.Error()))
		return false, false
	}
	told := func(delivery.Cause, time.Duration) {}
	if c.Leave != nil {
		var ok bool
		if told, ok = c.Leave(ctx, g.ID); !ok {
			return false, false
		}
	}
	reply, fate, _ := c.Courier.Carry(ctx, g, "query", request)
	if fate != courier.Answered {
		told("", 0)
		return true, false
	}
	reading := g.Dialect.ReadQuery(reply, c.Now())
	told(reading.Cause, reading.RetryAfter)
	each := make([][]dialect.Item, len(set))
	if reading.Meaning == dialect.Read {
		var over []dialect.Item
		if each, over = g.Dialect.Divide(reading.Items, messages); len(set) == 1 {
			each[0] = append(each[0], over...) // it bears a name that we did not know
		}
	}
	for i := range set {
		c.learn(g, &set[i], reading, each[i])
	}
	return true, true
}

// learn writes into a stray what its gateway, asked, told of it.
func (c *Chase) learn(g *roster.Gateway, t *store.Stray, reading dialect.Reading, items []dialect.Item) {
	t.Asks++
	t.Answer = store.Silent
	if reading.Meaning == dialect.Absent {
		t.Answer = store.Ignores
	}
	for _, item := range items {
		switch {
		case item.Absent:
			t.Answer = store.Ignores
			continue
		case item.Known():
			t.Answer = store.Knows
		}
		if t.Reference == "" {
			t.Reference = item.Reference
		}
		if number := g.Number(item.To); t.Number == "" && number != "" {
			t.ToNumber, t.Number = store.Keepable(item.To), number
		}
		if t.Says == "" && item.Text != "" {
			t.Says = c.Roster.TextMark(item.Text)
		}
		if t.GatewayAt == nil && !item.At.IsZero() {
			t.GatewayAt = &item.At
		}
	}
	t.AskAt = nil
	if t.Asks < store.StrayAsks && t.Answer != store.Ignores && t.Reference == "" && t.Number == "" {
		again := c.Now().Add(strayPause.Wait(t.Asks+1, 0))
		t.AskAt = &again
	}
}
