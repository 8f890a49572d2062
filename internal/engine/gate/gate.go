// Package gate holds back everything that leaves the service while it is in quarantine, or
// the schema of its database is newer than it knows.
package gate

import (
	"errors"
	"sync/atomic"
	"time"
)

// ErrOutdated is the error of what an instance does not do once another has migrated the database.
var ErrOutdated = errors.New("the database was migrated to a schema that this version does not know: " +
	"end this instance, and start the newer version")

// ErrClosed is the error of what is not done in quarantine.
var ErrClosed = errors.New("the service is in quarantine: the database is not as it was left, " +
	"and nothing is sent until pigeon recover has led through it")

// Gate is open, or closed. A nil gate is open.
type Gate struct {
	closed, asking, outdated atomic.Bool
	lifted                   atomic.Int64 // when the last quarantine was, in nanoseconds of the Unix time
	// Rewound reports whether the database lacks what was committed, before anybody has acted
	// on it; nil: it never does.
	Rewound func() bool
}

// Open reports whether anything may leave.
func (g *Gate) Open() bool {
	return g == nil || !g.closed.Load() && !g.outdated.Load() && (g.Rewound == nil || !g.Rewound())
}

// Closed reports whether a quarantine stands, as far as this instance knows.
func (g *Gate) Closed() bool { return g != nil && g.closed.Load() }

// Asks reports whether gateways may be asked about messages: always, but in a quarantine in
// which nobody has let them be asked.
func (g *Gate) Asks() bool { return g.Open() || g.asking.Load() && !g.Outdated() }

// settling is how long after a quarantine nothing is given up: what was doubtful in it goes again,
// or is asked about, as if its doubt had begun when it was lifted.
const settling = 15 * time.Minute

// Lifted notes when the last quarantine was lifted.
func (g *Gate) Lifted(at time.Time) { g.lifted.Store(at.UnixNano()) }

// GivesUp reports whether messages may be given up of which nobody has told anything: not in
// quarantine, nor for a while after it.
func (g *Gate) GivesUp(now time.Time) bool {
	return g == nil || g.Open() && now.Sub(time.Unix(0, g.lifted.Load())) > settling
}

// GivesUpFrom is the first moment at which messages may be given up, as far as it is known; zero if they may be
// now.
func (g *Gate) GivesUpFrom(now time.Time) time.Time {
	switch {
	case g.GivesUp(now):
		return time.Time{}
	case !g.Open():
		return now.Add(settling)
	}
	return time.Unix(0, g.lifted.Load()).Add(settling)
}

// Set opens or closes the gate; asking is whether gateways are asked while it is closed.
func (g *Gate) Set(closed, asking bool) {
	g.closed.Store(closed)
	g.asking.Store(asking)
}

// Outdate closes the gate for good: the schema of the database is newer than this program, and
// what it holds can be misread. Gateways are given up to instances that know it.
func (g *Gate) Outdate() { g.outdated.Store(true) }

// Outdated reports whether the schema is newer than this program.
func (g *Gate) Outdated() bool { return g != nil && g.outdated.Load() }
