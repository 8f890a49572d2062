package store

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"github.com/jackc/pgx/v5"
)

// SettingsCount counts the changes of what is set: gateways and how they are, senders, rules, templates, routes,
// prices, receivers, and what holds for passcodes.
type SettingsCount struct {
	N      int64
	Tables map[string]int64 // by table: N when it last changed; of "<table> removed": when rows of it were removed
}

// FromTheStart is before every count: what is listed after it is all there is.
const FromTheStart int64 = -1

// SettingsCount reads the counts. Tables is nil if N is the one that the caller knows.
func (s *Store) SettingsCount(ctx context.Context, known int64) (SettingsCount, error) {
	all, err := query(ctx, s.hot(), func(rows pgx.Rows) (c SettingsCount, err error) {
		err = rows.Scan(&c.N, &c.Tables)
		return c, err
	}, "SELECT n, CASE WHEN n <> $1 THEN tables END FROM settings_changes", known)
	if err == nil && len(all) == 0 {
		err = errors.New("the table settings_changes is empty")
	}
	if err != nil {
		return SettingsCount{}, fmt.Errorf("asking what was set: %w", err)
	}
	return all[0], nil
}

// The most of what is set that is kept. Every instance holds all of it in memory.
const (
	GatewaysMost  = 200
	GatewaysEver  = 2000    // with those that were removed: receipts for what they carried may still come
	GatewayBytes  = 8 << 20 // of the dialects of all of them
	TemplatesMost = 5000
	TemplateBytes = 8 << 20 // of all of them, as JSON
	SendersMost   = 2000
	SenderBytes   = 4 << 20
	RoutesMost    = 1000
	ReceiversMost = 100      // of events
	FollowersMost = 50       // of events, beside these
	PricesMost    = 500_000  // entries of all price lists
	KeysMost      = 1000     // in use
	KeysEver      = 10_000   // with those that were revoked
	StandingMost  = 50_000   // blocks of passcodes that stand at the same time, and as many alarms
	SettingBytes  = 64 << 10 // of one of them, as JSON
)

// FullError is the error of one more of something of which as many are kept as may be.
type FullError struct {
	What string // of which there are too many, such as "templates"
	Most string // how many there may be, such as "5000"
	Do   string // makes room
}

// Error says of what there are too many.
func (f *FullError) Error() string {
	return fmt.Sprintf("%s: the limit of %s is reached", f.What, f.Most)
}

// room is how much of something may be kept. sql counts its rows and adds up their bytes.
type room struct {
	what, do    string
	most, bytes int64 // bytes is 0 where rows are bounded elsewhere
	sql         string
}

const removeSome = "Remove some that are not used."

var (
	roomForTemplates = room{"templates", removeSome, TemplatesMost, TemplateBytes,
		"SELECT count(*), coalesce(sum(json_bytes), 0)::bigint FROM templates"}
	roomForSenders = room{"senders", removeSome, SendersMost, SenderBytes,
		"SELECT count(*), coalesce(sum(octet_length(s::text)), 0)::bigint FROM senders s"}
	roomForGateways = room{"gateways in use", removeSome, GatewaysMost, 0,
		"SELECT count(*), 0::bigint FROM gateways WHERE removed_at IS NULL"}
	roomForRemovedToo = room{"gateways, with those that were removed", "Change one that is there in place of adding another.",
		GatewaysEver, GatewayBytes, "SELECT count(*), coalesce(sum(octet_length(source)), 0)::bigint FROM gateways"}
	roomForReceivers = room{"receivers of events", removeSome, ReceiversMost, 0,
		"SELECT count(*), 0::bigint FROM receivers WHERE removed_at IS NULL AND address <> ''"}
	roomForFollowers = room{"followers of events", "Stop one of them, or wait until it is gone.", FollowersMost, 0,
		"SELECT count(*), 0::bigint FROM receivers WHERE removed_at IS NULL AND address = ''"}
	roomForKeys = room{"keys in use", "Revoke some that are not used.", KeysMost, 0,
		"SELECT count(*), 0::bigint FROM keys WHERE revoked_at IS NULL"}
	roomForRevokedKeys = room{"keys, with those that were revoked", "Use a key that is there.", KeysEver, 0,
		"SELECT count(*), 0::bigint FROM keys"}
	roomForPrices = room{"prices of all gateways", "Shorten a price list: one entry can hold for a whole country.", PricesMost, 0,
		"SELECT coalesce(sum(entries), 0)::bigint, 0::bigint FROM price_lists"}
)

// within runs a change. It returns a [FullError] if the change adds to a table that is over its limit afterwards; it never
// refuses a change that makes the table smaller. Call it within [Store.setting]: nobody else changes the table meanwhile.
func (s *Store) within(ctx context.Context, r room, do func() error) error {
	measure := func() (n, bytes int64, err error) {
		err = s.gorm(ctx).Raw(r.sql).Row().Scan(&n, &bytes)
		if err != nil {
			err = fmt.Errorf("counting %s: %w", r.what, err)
		}
		return n, bytes, err
	}
	n, bytes, err := measure()
	if err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	after, long, err := measure()
	switch {
	case err != nil:
		return err
	case after > r.most && after > n:
		return &FullError{r.what, strconv.FormatInt(r.most, 10), r.do}
	case r.bytes > 0 && long > r.bytes && long > bytes:
		return &FullError{r.what, fmt.Sprintf("%d MiB", r.bytes>>20), r.do}
	}
	return nil
}
