package dispatch

import (
	"context"

	"github.com/google/uuid"

	"calmpigeon.example/internal/store"
)

// Rows of a batch that have to wait for nothing but their gateway do not go by way of its
// queue: they are drawn when there is room for them, and written once, as messages that are
// about to go. Everything else (what has a pace of its own, waits for a time, or takes another
// gateway) is queued.

// Rows are the rows that may be drawn.
type Rows interface {
	// Ready reports how many batches have rows that are ready for a gateway, and how many
	// others go through it by way of its queue.
	Ready(gateway uuid.UUID) (lines, queued int)
	// Draw makes messages, in the transaction that s is bound to, of the next rows of one of
	// those batches: the next one each turn. Those for which place finds a place go at once;
	// when it finds none, or after about so many, it ends.
	Draw(ctx context.Context, s *store.Store, gateway uuid.UUID, turn, most int, place func(store.Message) bool) (Drawn, error)
	// Failed tells that what was drawn last could not be kept. The batch is passed over for a
	// while, so that it holds up nothing else.
	Failed(gateway uuid.UUID)
}

// Drawn is what came of drawing.
type Drawn struct {
	Going []store.Message       // as they are now
	More  bool                  // there was no place for all that may go
	Done  func(context.Context) // is to be called once that is committed; nil: nothing was drawn
}

// turns is whose turn it is to send what is not urgent: the queue's, or that of a batch.
type turns struct {
	lines int // batches with rows ready; 0: the queue is all there is
	turn  int // of them
	queue bool
}

// rows looks whose turn it is. Passcodes alone are taken where from is nil.
func (k *keeper) rows(from *heads) turns {
	if k.d.Rows == nil || from == nil {
		return turns{queue: true}
	}
	lines, queued := k.d.Rows.Ready(k.id)
	if lines == 0 {
		return turns{queue: true}
	}
	// Batches in the queue share its turns, one for each of them.
	queued = max(queued, 1)
	k.turn++
	at := k.turn % (queued + lines)
	return turns{lines: lines, turn: k.turn, queue: at < queued}
}

// drawable reports whether there are rows that may be drawn.
func (k *keeper) drawable() bool {
	if k.d.Rows == nil {
		return false
	}
	lines, _ := k.d.Rows.Ready(k.id)
	return lines > 0
}

// drawn is what came of drawing, for the claim that it is part of.
type drawn struct {
	going map[uuid.UUID]store.Message
	more  bool
	tried bool
	done  func(context.Context)
}

// draw fills what room is left with rows of a batch.
func (k *keeper) draw(ctx context.Context, s *store.Store, rows turns, room int, packer *packer) (drawn, error) {
	if rows.lines == 0 || room <= 0 {
		return drawn{more: rows.lines > 0}, nil
	}
	d, err := k.d.Rows.Draw(ctx, s, k.id, rows.turn, room, func(m store.Message) bool {
		if room == 0 || !packer.place(m) {
			return false
		}
		room--
		return true
	})
	if err != nil {
		return drawn{tried: true}, err
	}
	going := make(map[uuid.UUID]store.Message, len(d.Going))
	for _, m := range d.Going {
		going[m.ID] = m
	}
	return drawn{going, d.More, true, d.Done}, nil
}
