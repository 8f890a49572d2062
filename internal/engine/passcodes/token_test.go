package passcodes

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/google/uuid"

	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/engine/intake"
	"calmpigeon.example/internal/store"
)

// Requests with one Idempotency-Key, all at the same time and again later, are one passcode,
// and count once against limits; also where a limit is reached, or a block was set since.
func TestARepetitionCountsOnce(t *testing.T) {
	t.Parallel()
	d := open(t)
	w := Wants{To: "+447700900123", Purpose: "sign-in", Labels: map[string]string{"boat": "a"}}
	same := func(token string) uuid.UUID {
		t.Helper()
		var many sync.WaitGroup
		var mu sync.Mutex
		seen, fresh := map[uuid.UUID]bool{}, 0
		for range 12 {
			many.Go(func() {
				one, err := d.Issue(t.Context(), d.key, w, token)
				if err != nil {
					t.Error(err)
					return
				}
				mu.Lock()
				defer mu.Unlock()
				seen[one.ID] = true
				if !one.Again {
					fresh++
				}
			})
		}
		many.Wait()
		if len(seen) != 1 || fresh != 1 {
			t.Errorf("%d passcodes, %d of them new", len(seen), fresh)
		}
		for id := range seen {
			return id
		}
		return uuid.Nil
	}
	first := same("one")
	for _, token := range []string{"two", "three", "four", "five"} { // five an hour to a number
		same(token)
	}
	var full atomic.Int32
	var many sync.WaitGroup
	for range 12 {
		many.Go(func() {
			_, err := d.Issue(t.Context(), d.key, w, "six")
			var f *passcode.Full
			if errors.As(err, &f) {
				full.Add(1)
			} else {
				t.Errorf("a sixth: %v", err)
			}
		})
	}
	many.Wait()
	if full.Load() != 12 {
		t.Errorf("%d of 12 were refused", full.Load())
	}
	if _, err := d.Store.Token(t.Context(), d.key.ID, "six"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("the token of what was refused: %v", err)
	}
	block := store.PasscodeBlock{ID: store.NewID(), By: passcode.Number, Value: w.To, Why: "for a while", Since: d.Now()}
	if err := errors.Join(d.Store.AddPasscodeBlock(t.Context(), block), d.Roster.Reload(t.Context())); err != nil {
		t.Fatal(err)
	}
	var blocked *Blocked
	if _, err := d.Issue(t.Context(), d.key, w, "seven"); !errors.As(err, &blocked) {
		t.Fatalf("it is not blocked: %v", err)
	}
	if again, err := d.Issue(t.Context(), d.key, w, "one"); err != nil || again.ID != first || !again.Again {
		t.Errorf("the first again, though it is blocked: %+v, %v", again.ID, err)
	}
	other := w
	other.Purpose = "payment"
	if _, err := d.Issue(t.Context(), d.key, other, "one"); !errors.Is(err, intake.ErrReused) {
		t.Errorf("another request under the same token: %v", err)
	}
}

// A request is the same to the version that comes after as to the one before.
func TestARequestOfTheVersionBeforeIsKnown(t *testing.T) {
	t.Parallel()
	d := open(t)
	w := Wants{To: "+447700900123", Purpose: "sign-in"}
	one, err := d.Issue(t.Context(), d.key, w, "x")
	if err != nil {
		t.Fatal(err)
	}
	if got, want := string(w.fingerprint()), "passcode\nto \"+447700900123\"\npurpose \"sign-in\""; got != want {
		t.Errorf("it names %q, want %q", got, want)
	}
	before := store.Idempotency{Fingerprint: d.Roster.Fingerprint(w.fingerprintBefore()), MessageID: one.ID}
	if again, err := d.repeat(t.Context(), w, before); err != nil || again.ID != one.ID {
		t.Errorf("%+v, %v", again, err)
	}
}
