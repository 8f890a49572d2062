package batch

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"
)

// A reach that was written and read again finds exactly the rows that both have, with duplicates.
func TestReachFindsWhatIsInBoth(t *testing.T) {
	t.Parallel()
	for range 200 {
		seed := rand.Uint64()
		random := rand.New(rand.NewPCG(seed, 0))
		var a, b Reach
		rows := func(r *Reach) map[uint64][]int {
			all := map[uint64][]int{}
			for row := 1; row <= random.IntN(300); row++ {
				print := Fingerprint(fmt.Sprintf("+4477009%05d", random.IntN(200)), "x")
				if random.IntN(50) == 0 {
					print = []uint64{0, 1, 1<<64 - 1, 1 << 56, 1<<56 - 1}[random.IntN(5)]
				}
				r.Add(print, row)
				all[print] = append(all[print], row)
			}
			return all
		}
		mine, theirs := rows(&a), rows(&b)
		want := 0
		for print, own := range mine {
			want += len(own) * len(theirs[print])
		}
		got := 0
		var again Reach
		for n := range ReachParts {
			kept := b.AppendPart(nil, n)
			err := a.Common(n, kept, func(own, other int) {
				got++
				found := false
				for print, rows := range mine {
					for _, row := range rows {
						if row == own {
							for _, their := range theirs[print] {
								found = found || their == other
							}
						}
					}
				}
				if !found {
					t.Errorf("seed %d: row %d is not row %d", seed, own, other)
				}
			})
			if err := errors.Join(err, again.Read(n, kept)); err != nil {
				t.Fatal(err)
			}
		}
		if got != want || again.Len() != b.Len() {
			t.Errorf("seed %d: %d in both, want %d; %d were read of %d", seed, got, want, again.Len(), b.Len())
		}
	}
}

func TestReachThatIsBroken(t *testing.T) {
	t.Parallel()
	var r Reach
	r.Add(1<<60, 7)
	kept := r.AppendPart(nil, 16)
	for i := range kept {
		if err := r.Read(16, kept[:i]); i > 0 && !errors.Is(err, ErrReach) {
			t.Errorf("%d octets of %d: %v", i, len(kept), err)
		}
	}
	if err := r.Read(16, []byte{1, 0xff, 0xff, 0xff, 0xff, 0xff, 0x7f}); !errors.Is(err, ErrReach) {
		t.Errorf("a row without end: %v", err)
	}
}
