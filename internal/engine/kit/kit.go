// Package kit is what the parts of the engine have in common to work with.
package kit

import (
	"log/slog"
	"time"

	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/engine/gate"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/watch"
	"calmpigeon.example/internal/store"
)

// Kit is handed to each part when it is made.
type Kit struct {
	Store  *store.Store
	Roster *roster.Roster
	Hub    *watch.Hub   // tells who waits for messages
	Bells  *watch.Bells // wake the keepers
	Gate   *gate.Gate   // whether anything may leave; nil: it may
	Sheets *sheet.Opener
	Now    func() time.Time
	Log    *slog.Logger
}
