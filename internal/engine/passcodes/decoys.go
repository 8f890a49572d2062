package passcodes

import (
	"crypto/sha256"
	"sync"
	"time"

	"calmpigeon.example/internal/core/passcode"
)

// decoysMost is how many passcodes are remembered that there are not.
const decoysMost = 20_000

// decoys are passcodes that somebody checked and that there are not. Each is judged as one that was
// issued when it was first checked, so tries do not tell it apart. Each instance remembers its own.
type decoys struct {
	mu  sync.Mutex
	all map[[sha256.Size]byte]passcode.Standing // by a hash of their name, which is as long as a caller likes
}

// judge judges a code typed for one of them.
func (g *decoys) judge(name string, now time.Time) Checked {
	g.mu.Lock()
	defer g.mu.Unlock()
	key := sha256.Sum256([]byte(name))
	one, known := g.all[key]
	if !known {
		if len(g.all) >= decoysMost || g.all == nil {
			g.all = map[[sha256.Size]byte]passcode.Standing{}
		}
		one = passcode.Standing{EndsAt: now.Add(passcode.LifeUsual), TriesMost: passcode.TriesUsual}
	}
	verdict := one.Judge(false, now)
	if verdict == passcode.Wrong {
		one.Tries++
	}
	g.all[key] = one
	return Checked{Verdict: verdict, Left: one.Left()}
}
