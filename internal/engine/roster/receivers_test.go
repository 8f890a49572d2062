package roster_test

import (
	"errors"
	"testing"
	"time"

	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/store"
)

// Those who follow have a bound of their own, whether or not they follow like a receiver, and leave room for receivers.
func TestFollowersAreBounded(t *testing.T) {
	t.Parallel()
	r, _ := rostertest.Roster(t)
	address := "https://app.example.net/hooks"
	like, err := r.AddReceiver(t.Context(), "first", roster.ReceiverSettings{Address: &address}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	const most = 50
	for i := range most {
		if _, err := r.Follow(t.Context(), map[bool]*roster.Receiver{true: like}[i%2 == 0], roster.ReceiverSettings{}, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	for _, other := range []*roster.Receiver{nil, like} {
		if _, err := r.Follow(t.Context(), other, roster.ReceiverSettings{}, time.Now()); !errors.As(err, new(*store.FullError)) {
			t.Errorf("one too many: %v", err)
		}
	}
	if _, err := r.AddReceiver(t.Context(), "second", roster.ReceiverSettings{Address: &address}, time.Now()); err != nil {
		t.Error(err)
	}
}
