package fleet

import (
	"fmt"
	"hash/fnv"
	"time"
)

// Ending is how a practice gateway behaves towards a number: the last two
// digits decide.
type Ending struct {
	Name  string `json:"name"`
	Digit string `json:"digits"` // the last two
	About string `json:"about"`
}

// The endings. Numbers that end otherwise are delivered to.
const (
	endDelivered    = "delivered"
	endAbsent       = "absent"
	endInvalid      = "invalid"
	endLost         = "receipt lost"
	endTwice        = "receipt twice"
	endEarly        = "receipt before the reply"
	endMute         = "reply never comes"
	endFault        = "500"
	endLimited      = "429"
	endFalseSuccess = "200 with a failure"
	endSilent       = "silent"
	endCutBefore    = "cut before taking"
	endCutAfter     = "cut after taking"
	endGarbled      = "unreadable reply"
	endBackwards    = "receipts backwards"
	endContested    = "contested"
	endForged       = "forged receipt"
	endFaultOnce    = "500 once"
	endSlow         = "slow"
)

// Endings lists every ending, for people and for the page that documents them.
var Endings = []Ending{
	{endDelivered, "00–79", "Taken, and delivered within a second."},
	{endAbsent, "80", "Taken; the handset is switched off, and the receipt says so."},
	{endInvalid, "81", "Refused at once: there is no such number."},
	{endLost, "82", "Delivered, but the receipt never comes. A query tells."},
	{endTwice, "83", "Delivered; the receipt comes twice."},
	{endEarly, "84", "Delivered; the receipt, by the gateway's id alone, comes before the reply."},
	{endMute, "85", "Taken and delivered, but the first reply never comes. The same reference again is answered at once."},
	{endFault, "86", "Answered 500 every time, and never taken."},
	{endLimited, "87", "Answered 429 with Retry-After the first time, then taken and delivered."},
	{endFalseSuccess, "88", "Answered 200, with a failure inside: the wording is blocked."},
	{endSilent, "89", "Taken; no receipt ever, and a query only says that it is on its way."},
	{endCutBefore, "90", "The connection is cut the first time, before the text is taken; then delivered."},
	{endCutAfter, "91", "The connection is cut after the text is taken. The receipt tells."},
	{endGarbled, "92", "Taken and delivered, but the first reply is a page of some proxy."},
	{endBackwards, "93", "Delivered; the receipt that it is on its way comes after that."},
	{endContested, "94", "Two receipts that contradict each other: switched off, then delivered."},
	{endForged, "95", "A forged receipt comes first and says that the number does not exist; then delivered."},
	{endFaultOnce, "96", "Answered 500 the first time, then taken and delivered."},
	{endSlow, "97", "Taken after a second, delivered after three."},
}

// endingOf is how a number behaves.
func endingOf(number string) string {
	if len(number) >= 2 {
		for _, e := range Endings[1:] {
			if e.Digit == number[len(number)-2:] {
				return e.Name
			}
		}
	}
	return endDelivered
}

// luck draws a number in [0, 1) for an event of a message. It depends on the
// seed and on what is asked, not on what was asked before, so that a run is
// repeatable whatever happens at the same time.
func (f *Fleet) luck(event, ref string) float64 {
	h := fnv.New64a()
	fmt.Fprintf(h, "%d|%s|%s", f.seed, event, ref)
	x := h.Sum64()
	x ^= x >> 33 // FNV's high bits alone are poor for short input
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	return float64(x>>11) / (1 << 53)
}

// between draws a span of time for an event of a message.
func (f *Fleet) between(low, high time.Duration, event, ref string) time.Duration {
	return low + time.Duration(f.luck(event, ref)*float64(high-low))
}
