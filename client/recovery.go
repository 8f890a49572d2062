package client

import (
	"context"
	"time"
)

// Recovery is where the recovery of a database stands that is not as the service left it.
type Recovery struct {
	// Quarantine: nothing is sent. Else the rest is about the last one, if there ever was one.
	Quarantine bool       `json:"quarantine"`
	Reason     string     `json:"reason"` // copied, rewound, promoted, elsewhere or by_hand; empty: there never was one
	Why        string     `json:"why"`
	Since      *time.Time `json:"since"`
	Reaches    *time.Time `json:"reaches"` // the last moment of which the database knows anything
	// Prepared: what was queued is doubtful.
	Prepared bool       `json:"prepared"`
	Asking   bool       `json:"asking"` // gateways are asked about what is doubtful
	Doubtful []Doubtful `json:"doubtful"`
	Queued   int64      `json:"queued"` // messages that go as soon as it is lifted
	Paused   []Paused   `json:"paused"`
	// Unknown counts messages that gateways tell of and that the database does not know.
	Unknown  int64      `json:"unknown"`
	LiftedAt *time.Time `json:"lifted_at"`
	LiftedBy string     `json:"lifted_by"`
}

// Doubtful are doubtful messages that are alike.
type Doubtful struct {
	Kind    string    `json:"kind"`
	Gateway string    `json:"gateway"`
	Means   string    `json:"means"` // honours_reference, by_reference, by_statement or not_at_all
	N       int64     `json:"n"`
	First   time.Time `json:"first"` // when the first and the last of them were accepted
	Last    time.Time `json:"last"`
}

// Paused is a batch that a quarantine has paused.
type Paused struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Rows int    `json:"rows"`
}

// RecoveryAsk lets gateways be asked.
type RecoveryAsk struct {
	Gateway string `json:"gateway,omitempty"` // empty: all
}

// RecoveryAsked tells about how many messages gateways are asked.
type RecoveryAsked struct {
	Asked int `json:"asked"`
}

// RecoveryDecision decides about doubtful messages that are alike.
type RecoveryDecision struct {
	Choice  string     `json:"choice"`            // send, hold or cancel
	Kind    string     `json:"kind,omitempty"`    // empty: all
	Gateway string     `json:"gateway,omitempty"` // empty: all
	Before  *time.Time `json:"before,omitempty"`  // accepted before
	DryRun  bool       `json:"dry_run,omitempty"`
}

// RecoveryDecided tells about how many messages was decided.
type RecoveryDecided struct {
	Decided int  `json:"decided"`
	Expired int  `json:"expired"` // were left, as the time in which they are of use is over
	DryRun  bool `json:"dry_run"`
}

// Recovery tells where the recovery stands.
func (c *Client) Recovery(ctx context.Context) (r Recovery, err error) {
	return r, c.call(ctx, "GET", "/v1/recovery", nil, nil, &r)
}

// AskInRecovery lets gateways be asked about all doubtful messages that they can be asked about.
func (c *Client) AskInRecovery(ctx context.Context, a RecoveryAsk) (done RecoveryAsked, err error) {
	return done, c.call(ctx, "POST", "/v1/recovery/ask", nil, a, &done)
}

// DecideInRecovery decides about doubtful messages.
func (c *Client) DecideInRecovery(ctx context.Context, d RecoveryDecision) (done RecoveryDecided, err error) {
	return done, c.call(ctx, "POST", "/v1/recovery/decide", nil, d, &done)
}

// LiftQuarantine ends the quarantine: messages go again.
func (c *Client) LiftQuarantine(ctx context.Context) (r Recovery, err error) {
	return r, c.call(ctx, "POST", "/v1/recovery/lift", nil, nil, &r)
}
