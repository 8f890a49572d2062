package courier

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/delivery"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/store"
)

// tokenLife is how long a token is used that does not say when it expires.
const tokenLife = 5 * time.Minute

// tokens are the fetched tokens of gateways (RFC 6749 §4.4), in memory alone.
type tokens struct {
	mu  sync.Mutex
	all map[uuid.UUID]*fetched
}

// fetched is the token of one gateway. Whoever wants it while it is being
// fetched waits for it.
type fetched struct {
	turn    sync.Mutex
	version int // of the gateway whose secrets it was fetched with
	token   string
	until   time.Time // then it is fetched anew, before it expires
}

// NoToken is why a token could not be fetched: nothing was sent.
type NoToken struct {
	Cause      delivery.Cause
	RetryAfter time.Duration
	Note       string
}

func (e *NoToken) Error() string { return "no token: " + e.Note }

func (t *tokens) of(gateway uuid.UUID) *fetched {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.all == nil {
		t.all = map[uuid.UUID]*fetched{}
	}
	if t.all[gateway] == nil {
		t.all[gateway] = &fetched{}
	}
	return t.all[gateway]
}

// Means returns what a request to a gateway needs: its secrets and, if its
// dialect fetches a token, one that is still good. The exchange that fetched it
// is returned if there was one. The error is a [NoToken].
func (c *Courier) Means(ctx context.Context, g *roster.Gateway) (dialect.Means, *store.Exchange, error) {
	means := dialect.Means{Secrets: g.Secrets, Base: g.Base(), Now: c.now()}
	if g.Dialect.Token == nil {
		return means, nil, nil
	}
	f := c.tokens.of(g.ID)
	f.turn.Lock()
	defer f.turn.Unlock()
	var exchange *store.Exchange
	if f.token == "" || f.version != g.Version || !c.now().Before(f.until) {
		made, err := c.fetch(ctx, g, means, f)
		exchange = made
		if err != nil {
			return means, exchange, err
		}
	}
	means.Secrets = make(map[string]string, len(g.Secrets)+1)
	for name, secret := range g.Secrets {
		means.Secrets[name] = secret
	}
	means.Secrets["token"] = f.token
	return means, exchange, nil
}

func (c *Courier) fetch(ctx context.Context, g *roster.Gateway, means dialect.Means, f *fetched) (*store.Exchange, error) {
	request, err := g.Dialect.TokenRequest(means)
	if err != nil {
		return nil, &NoToken{Cause: delivery.GatewayFault, Note: g.Mask(err.Error())}
	}
	began := c.now()
	reply, fate, exchange := c.Carry(ctx, g, "token", request)
	if fate != Answered {
		return &exchange, &NoToken{Cause: delivery.GatewayFault, Note: exchange.Error}
	}
	reading := g.Dialect.ReadToken(reply, c.now())
	// The token is a secret as well.
	Hide(&exchange, g, reading.Token, "token")
	switch reading.Meaning {
	case dialect.Read:
	case dialect.NotTaken:
		return &exchange, &NoToken{
			Cause:      reading.Cause,
			RetryAfter: reading.RetryAfter,
			Note:       fmt.Sprintf("the gateway answered %d: %s", reply.Status, reading.Cause),
		}
	default:
		return &exchange, &NoToken{Cause: delivery.GatewayFault, Note: g.Mask("the answer cannot be read: " + reading.Note)}
	}
	life := reading.ExpiresIn
	if life == 0 {
		life = tokenLife
	}
	// Anew a little before it expires: what is on its way must arrive with it.
	f.token, f.version, f.until = reading.Token, g.Version, began.Add(life-min(life/5, 30*time.Second))
	return &exchange, nil
}

// DropToken forgets a token that the gateway did not accept.
func (c *Courier) DropToken(g *roster.Gateway, token string) {
	f := c.tokens.of(g.ID)
	f.turn.Lock()
	defer f.turn.Unlock()
	if f.token == token {
		f.token = ""
	}
}
