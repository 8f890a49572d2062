// Package identity judges whether a database is the one that was left, and as it was left.
//
// A database that was restored from a dump or a backup, cloned, or that lost transactions in a
// failover looks healthy, and knows nothing of what was sent since. A message that it holds as waiting
// may have gone long ago. Three things tell: the database says where it lives ([Live]), it bears
// a note of where it lived when it was last found in order ([Noted]), and the service remembers
// outside of the database how far it was ([Memory]).
package identity

import "fmt"

// Live is what a database says of itself now.
type Live struct {
	System   string // the system identifier of its cluster
	Timeline int64  // which PostgreSQL raises at each promotion
	Database int64  // the OID of the database
	// Row is the transaction that wrote the note, as its row says. A row that was loaded from a
	// dump was written by another one than it tells.
	Row     int64
	Address string // host, port and name by which it is reached
}

// Noted is what the database's note says, which is written when it is found in order.
type Noted struct {
	System   string
	Timeline int64
	Database int64
	Row      int64 // the transaction that wrote it
	Address  string
}

// Memory is what an instance remembers outside of the database.
type Memory struct {
	System   string
	Database int64
	// Behind is by how many transactions the database lacks what was committed.
	Behind int64
	// Moved: what remembers is a copy, as the folder that it lies in is not the one that it was
	// written in. Then it proves nothing but that something is missing.
	Moved bool
}

// Reason is why a database is not as it was left.
type Reason string

// The reasons.
const (
	Copied  Reason = "copied"  // it was loaded from a dump, or is another cluster's
	Rewound Reason = "rewound" // it lacks what was committed
	Promote Reason = "promoted"
	Cloned  Reason = "elsewhere"
	ByHand  Reason = "by_hand"
)

// Verdict is what is to be done.
type Verdict struct {
	Reason Reason // empty: it is as it was left
	Why    string // in words
	Note   bool   // the note is to be written anew
}

// Quarantine reports whether nothing may be sent.
func (v Verdict) Quarantine() bool { return v.Reason != "" }

// Case is all that there is to judge by.
type Case struct {
	Live   Live
	Noted  *Noted  // nil: the database bears no note
	Memory *Memory // nil: nothing is remembered
	// Used: the database holds messages.
	Used bool
	// Alive: another instance is at work on it right now.
	Alive bool
}

// Judge judges a database. In doubt it decides for quarantine.
func Judge(c Case) Verdict {
	live := c.Live
	switch noted := c.Noted; {
	case noted == nil && c.Memory == nil, noted == nil && !c.Used:
		return Verdict{Note: true} // it is new, or of a version that wrote no note
	case noted == nil:
		return Verdict{Reason: Copied, Why: "it bears no note of where it lived, and this instance remembers one that did"}
	case noted.System != live.System:
		return Verdict{Reason: Copied, Why: fmt.Sprintf("it lived in the cluster %s and is now in %s", noted.System, live.System)}
	case noted.Database != live.Database:
		return Verdict{Reason: Copied, Why: fmt.Sprintf("it was the database with the OID %d and is now %d", noted.Database, live.Database)}
	case noted.Row != live.Row:
		return Verdict{Reason: Copied, Why: "its rows were loaded from a dump"}
	}
	remembers := false
	if m := c.Memory; m != nil && m.System == live.System && m.Database == live.Database {
		if m.Behind > 0 {
			return Verdict{Reason: Rewound, Why: fmt.Sprintf("it lacks %s that this instance had committed", counted(m.Behind))}
		}
		remembers = !m.Moved
	}
	timeline, address := c.Noted.Timeline != live.Timeline, c.Noted.Address != live.Address
	switch {
	case !timeline && !address:
		return Verdict{}
	case remembers || c.Alive:
		return Verdict{Note: true} // nothing is missing: a failover, or it moved
	case timeline:
		return Verdict{Reason: Promote, Why: fmt.Sprintf(
			"it was promoted (timeline %d, now %d), and nothing is remembered that would show whether transactions are missing",
			c.Noted.Timeline, live.Timeline)}
	}
	return Verdict{Reason: Cloned, Why: fmt.Sprintf(
		"it was reached at %s and is now at %s: it may be a clone, beside which the original goes on", c.Noted.Address, live.Address)}
}

func counted(n int64) string {
	if n == 1 {
		return "a transaction"
	}
	return fmt.Sprintf("%d transactions", n)
}
