// Package buildinfo tells which version of the program this is.
package buildinfo

import (
	"runtime/debug"
	"sync"
)

// described is what "make build" sets: the commit, as git describes it.
var described string

// Version is the commit that the program was built from, with its time where that is known; "unknown" where neither make nor
// Go has noted it.
var Version = sync.OnceValue(func() string {
	revision, at, changed := described, "", ""
	if info, ok := debug.ReadBuildInfo(); ok && revision == "" {
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				revision = s.Value[:min(len(s.Value), 12)]
			case "vcs.time":
				at = " of " + s.Value
			case "vcs.modified":
				if s.Value == "true" {
					changed = ", changed since"
				}
			}
		}
	}
	if revision == "" {
		return "unknown"
	}
	return revision + at + changed
})
