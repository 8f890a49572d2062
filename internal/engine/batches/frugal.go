package batches

import (
	"runtime"
	"runtime/debug"
	"sync"
)

// frugally is how much garbage there may be, in percent of what is in use, while a long list
// goes through: what makes much of it makes it evenly, and it is soon collected.
const frugally = 60

var frugal struct {
	mu     sync.Mutex
	n      int
	before int
}

// beFrugal keeps memory small until what it returns is called.
func beFrugal() func() {
	frugal.mu.Lock()
	defer frugal.mu.Unlock()
	if frugal.n++; frugal.n == 1 {
		frugal.before = debug.SetGCPercent(frugally)
	}
	return func() {
		frugal.mu.Lock()
		defer frugal.mu.Unlock()
		if frugal.n--; frugal.n == 0 {
			runtime.GC() // else what went through counts as in use for a while
			debug.SetGCPercent(frugal.before)
		}
	}
}
