package receipts

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/internal/core/optout"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/store"
)

// heed puts the numbers of those who write that they do not want to be written to on the
// list of opt-outs, and takes those off who want it again.
func (s *settler) heed(ctx context.Context, tx *store.Store, inbound []store.Inbound, now time.Time) error {
	last := map[string]store.Inbound{} // what each number wrote last counts
	for _, m := range inbound {
		if optout.Of(m.Text) == optout.Nothing {
			continue
		}
		number, err := writer(m.FromNumber)
		if err != nil {
			s.r.Log.Warn("somebody asks not to be written to, from a number that cannot be read", "gateway", s.gateway, "inbound", m.ID)
			continue
		}
		last[number.String()] = m
	}
	var stop []store.OptOut
	for _, number := range slices.Sorted(maps.Keys(last)) {
		m := last[number]
		why := fmt.Sprintf("wrote %q to %s", strings.TrimSpace(m.Text), m.ToNumber)
		if optout.Of(m.Text) == optout.Stop {
			stop = append(stop, store.OptOut{Number: number, Since: m.ReceivedAt, Why: why, ByWhom: recipient})
			continue
		}
		if _, err := tx.EndOptOuts(ctx, []string{number}, now, why, recipient); err != nil {
			return err
		}
	}
	_, err := tx.AddOptOuts(ctx, stop)
	return err
}

// recipient is who asks for it, on the list.
const recipient = "the recipient"

// writer reads the number of somebody who wrote, as gateways write it.
func writer(from string) (phone.Number, error) {
	from = strings.TrimPrefix(strings.TrimSpace(from), "tel:")
	if !strings.HasPrefix(from, "+") && !strings.HasPrefix(from, "00") {
		from = "+" + from
	}
	r, err := phone.Read(from, "")
	return r.Number, err
}
