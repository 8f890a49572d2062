package fleet

import (
	"context"
	"io"
	"net/http"
	"time"
)

// fate sets going what becomes of a text.
func (c *chassis) fate(e *Entry, shorts []short) {
	later := c.fleet.agenda.in
	wait := c.fleet.between(200*time.Millisecond, 900*time.Millisecond, "network", e.ID)
	arrive := func() {
		for _, s := range shorts {
			if err := c.fleet.Phones.receive(s, time.Now().UTC()); err != nil {
				c.fleet.log.Error("handset cannot read a short message", "number", e.To, "error", err)
			}
		}
		c.fleet.noteSender(e.To, c, e)
		c.set(e, landed, "")
	}
	end := func(wait time.Duration, status, reason string, receipts int) {
		if kept := time.Duration(e.KeepFor) * time.Second; e.KeepFor > 0 && wait > kept && status == landed {
			wait, status, reason = kept, overdue, "It was kept as long as was asked"
		}
		later(wait, func() {
			if status == landed {
				arrive()
			} else {
				c.set(e, status, reason)
			}
			for range receipts {
				c.pushAll(c.report(e, status))
			}
		})
	}
	switch e.trait {
	case endAbsent:
		end(wait, absent, "The handset is switched off", 1)
	case endLost:
		end(wait, landed, "", 0)
	case endTwice:
		end(wait, landed, "", 2)
	case endSilent:
		end(wait, afloat, "", 0)
	case endEarly:
		later(0, arrive) // its receipt is pushed before the answer
	case endMute:
		later(wait, func() {
			arrive()
			r := c.report(e, landed)
			r.NoRef = true
			c.pushAll(r)
		})
	case endBackwards:
		later(wait, func() {
			c.set(e, afloat, "")
			before := c.report(e, afloat)
			arrive()
			c.pushAll(c.report(e, landed))
			later(400*time.Millisecond, func() { c.pushAll(before) })
		})
	case endContested:
		end(wait, absent, "The handset is switched off", 1)
		end(wait+500*time.Millisecond, landed, "", 1)
	case endForged:
		later(50*time.Millisecond, func() {
			forged := c.report(e, invalid)
			forged.Reason, forged.Forged = "Forged", true
			c.push(forged, giveUp)
		})
		end(wait, landed, "", 1)
	case howForeign:
		later(wait, func() {
			foreign := c.report(e, landed)
			foreign.ID, foreign.Ref, foreign.To, foreign.Status = c.prefix+"-0"+e.ID[len(c.prefix)+1:], "", elsewhereTo, landed
			c.pushAll(foreign)
		})
		end(wait, landed, "", 1)
	case endSlow, howLate:
		end(3*time.Second, landed, "", 1)
	default:
		end(wait, landed, "", 1)
	}
}

// elsewhereTo is whom the other customer of the account writes to.
const elsewhereTo = "+447700900990"

func (c *chassis) set(e *Entry, status, reason string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e.Status, e.Reason, e.StatusAt = status, reason, time.Now().UTC()
}

// report is a receipt that says of a text what it is now; status is what it
// speaks of.
func (c *chassis) report(e *Entry, status string) report {
	c.mu.Lock()
	defer c.mu.Unlock()
	r := report{Entry: *e}
	r.Status = status
	if status != e.Status {
		r.Reason = ""
	}
	for _, m := range c.moods {
		if m.How == howSkew && m.active() {
			r.skew = skewed
		}
	}
	return r
}

// giveUp is how many times a receipt is pushed before the gateway gives up.
const giveUp = 60

// pushAll pushes a receipt, or one for each segment.
func (c *chassis) pushAll(r report) {
	if !c.perPart || r.Parts == 1 {
		c.push(r, 0)
		return
	}
	for part := 1; part <= r.Parts; part++ {
		r.Part = part
		c.push(r, 0)
	}
}

// push delivers a receipt, and tries again later when it is not taken.
func (c *chassis) push(r report, tries int) {
	if r.Report == "" || c.tell == nil {
		return
	}
	ctx, cancel := context.WithTimeout(c.fleet.ctx, 5*time.Second)
	defer cancel()
	if c.tell(ctx, r) || tries >= giveUp {
		return
	}
	wait := min(250*time.Millisecond<<min(tries, 4), 2*time.Second)
	c.fleet.agenda.in(wait, func() { c.push(r, tries+1) })
}

// deliver makes the request that a receipt is, and reports whether it was
// taken.
func (c *chassis) deliver(request *http.Request, err error, wants func(status int, body string) bool) bool {
	if err != nil {
		return false
	}
	response, err := c.fleet.client.Do(request) // #nosec G704 -- the practice fleet reports to where it was told, as gateways do
	if err != nil {
		return false
	}
	body, _ := io.ReadAll(io.LimitReader(response.Body, 1<<16))
	response.Body.Close()
	return wants(response.StatusCode, string(body))
}

func done(status int, _ string) bool { return status < 300 }

// elsewhere is the address with another secret, for what is forged where
// nothing is signed.
func elsewhere(address string) string { return address[:max(0, len(address)-4)] + "fake" }
