// Package gate holds back everything that leaves the service while it is in quarantine.
package gate

import (
	"errors"
	"sync/atomic"
)

// ErrClosed is the error of what is not done in quarantine.
var ErrClosed = errors.New("the service is in quarantine: the database is not as it was left, and nothing is sent until pigeon recover has led through it")

// Gate is open, or closed. A nil gate is open.
type Gate struct {
	closed, asking atomic.Bool
	// Rewound reports whether the database lacks what was committed, before anybody has acted
	// on it; nil: it never does.
	Rewound func() bool
}

// Open reports whether anything may leave.
func (g *Gate) Open() bool {
	return g == nil || !g.closed.Load() && (g.Rewound == nil || !g.Rewound())
}

// Asks reports whether gateways may be asked about messages: always, but in a quarantine in
// which nobody has let them be asked.
func (g *Gate) Asks() bool { return g.Open() || g.asking.Load() }

// Set opens or closes the gate; asking is whether gateways are asked while it is closed.
func (g *Gate) Set(closed, asking bool) {
	g.closed.Store(closed)
	g.asking.Store(asking)
}
