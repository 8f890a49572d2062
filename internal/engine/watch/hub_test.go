package watch

import (
	"testing"

	"github.com/google/uuid"
)

func told(c <-chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}

func TestHubTellsWhoWaits(t *testing.T) {
	var h Hub
	a, b := uuid.New(), uuid.New()
	h.Changed(a) // nobody waits
	one, endOne := h.Message(a)
	other, endOther := h.Message(b)
	every, endEvery := h.Every()
	for range 3 { // more often than anybody looks
		h.Changed(a)
	}
	if !told(one) || told(one) || told(other) || !told(every) || told(every) {
		t.Error("a change is told wrongly, or more than once")
	}
	h.Changed()
	if told(every) {
		t.Error("nothing changed, and somebody was told")
	}
	endOne()
	endOther()
	endEvery()
	h.Changed(a, b)
	if told(one) || told(other) || told(every) || len(h.one) != 0 || len(h.every) != 0 {
		t.Error("who has left is told, or remembered")
	}
}

func TestKickDoesNotPileUp(t *testing.T) {
	k := NewKick()
	k.Now()
	k.Now()
	if !told(k) || told(k) {
		t.Error("two kicks are not one")
	}
}
