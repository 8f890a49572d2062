package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/route"
	"calmpigeon.example/internal/core/sender"
	"calmpigeon.example/internal/core/template"
)

// Sender is a sender in use.
type Sender struct {
	ID            string
	Kind          string
	Gateways      []string          `gorm:"serializer:json"`
	Countries     []string          `gorm:"serializer:json"`
	Registrations map[string]string `gorm:"serializer:json"`
	TwoWay        bool
	RepliesTo     string // the receiver that alone is told of what people write to it; empty: all that want to know
	PerSecond     int
	CreatedAt     time.Time        `gorm:"autoCreateTime:false"`
	Defaults      []sender.Default `gorm:"-"`
}

// PutSender registers a sender, or changes one if it is there already and may
// be. What it is to be the default for it becomes in the place of any other.
// The very first sender is the default for everything.
func (s *Store) PutSender(ctx context.Context, record Sender, mayChange bool) (Sender, error) {
	put := func(s *Store) error {
		var n int64
		if err := s.gorm(ctx).Model(&Sender{}).Count(&n).Error; err != nil {
			return err
		}
		if all := (sender.Default{}); n == 0 && !slices.Contains(record.Defaults, all) {
			record.Defaults = append(record.Defaults, all)
		}
		if mayChange {
			if err := s.gorm(ctx).Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "id"}},
				DoUpdates: clause.AssignmentColumns([]string{"gateways", "countries", "registrations", "two_way", "per_second",
					"replies_to"})}).Create(&record).Error; err != nil {
				return err
			}
			if err := s.dropDefaults(ctx, record); err != nil {
				return err
			}
		} else if err := create(s.gorm(ctx), &record, "sender "+record.ID); err != nil {
			return err
		}
		for _, d := range record.Defaults {
			if err := s.gorm(ctx).Exec("INSERT INTO sender_defaults (kind, country, sender_id) VALUES (?, ?, ?) "+
				"ON CONFLICT (kind, country) DO UPDATE SET sender_id = excluded.sender_id WHERE sender_defaults.sender_id <> excluded.sender_id",
				d.Kind, d.Country, record.ID).Error; err != nil {
				return err
			}
		}
		return nil
	}
	err := s.setting(ctx, "sender", record.ID, func(s *Store) error {
		return s.within(ctx, roomForSenders, func() error { return put(s) })
	})
	return record, err
}

// dropDefaults takes from a sender what it is no longer the default for.
func (s *Store) dropDefaults(ctx context.Context, record Sender) error {
	var before []sender.Default
	if err := s.gorm(ctx).Raw("SELECT kind, country FROM sender_defaults WHERE sender_id = ?", record.ID).Scan(&before).Error; err != nil {
		return err
	}
	for _, d := range before {
		if slices.Contains(record.Defaults, d) {
			continue
		}
		err := s.gorm(ctx).
			Exec("DELETE FROM sender_defaults WHERE kind = ? AND country = ? AND sender_id = ?", d.Kind, d.Country, record.ID).
			Error
		if err != nil {
			return err
		}
	}
	return nil
}

// Senders lists all senders, in order of their names.
func (s *Store) Senders(ctx context.Context) ([]Sender, error) {
	var senders []Sender
	var defaults []struct {
		SenderID string
		sender.Default
	}
	err := s.Transact(ctx, func(s *Store) error {
		if err := s.gorm(ctx).Order("id").Find(&senders).Error; err != nil {
			return err
		}
		return s.gorm(ctx).Raw("SELECT * FROM sender_defaults ORDER BY kind, country").Scan(&defaults).Error
	})
	for i := range senders {
		for _, d := range defaults {
			if d.SenderID == senders[i].ID {
				senders[i].Defaults = append(senders[i].Defaults, d.Default)
			}
		}
	}
	return senders, err
}

// RemoveSender takes a sender out of use.
func (s *Store) RemoveSender(ctx context.Context, id string) error {
	return s.setting(ctx, "sender", id, func(s *Store) error { return changed(s.gorm(ctx).Exec("DELETE FROM senders WHERE id = ?", id)) })
}

// CountryRule is a rule that differs from the one that ships.
type CountryRule struct {
	Country   string      `gorm:"primaryKey"`
	Rule      sender.Rule `gorm:"serializer:json"`
	ChangedAt time.Time
	ChangedBy string
}

// PutRules stores rules in the place of those that are there, all or none.
func (s *Store) PutRules(ctx context.Context, rules []CountryRule) error {
	if len(rules) == 0 {
		return nil
	}
	name := "" // of several any may have changed
	if len(rules) == 1 {
		name = rules[0].Country
	}
	return s.setting(ctx, "rule", name, func(s *Store) error {
		return s.gorm(ctx).Clauses(clause.OnConflict{
			Columns: []clause.Column{{Name: "country"}}, DoUpdates: clause.AssignmentColumns([]string{"rule", "changed_at", "changed_by"}),
		}).CreateInBatches(&rules, 500).Error
	})
}

// DropRule forgets a rule, so that the one that ships holds again.
func (s *Store) DropRule(ctx context.Context, country string) error {
	return s.setting(ctx, "rule", country, func(s *Store) error {
		return changed(s.gorm(ctx).Exec("DELETE FROM country_rules WHERE country = ?", country))
	})
}

// Rules lists the rules that differ from those that ship.
func (s *Store) Rules(ctx context.Context) ([]CountryRule, error) {
	var rules []CountryRule
	err := s.gorm(ctx).Order("country").Find(&rules).Error
	return rules, err
}

// Route is the record of a route.
type Route struct {
	Name      string      `gorm:"primaryKey"`
	Position  int         // from 1; the first that fits counts
	Route     route.Route `gorm:"serializer:json"`
	ChangedAt time.Time
	ChangedBy string
}

// Routes lists the routes in the order in which they are tried.
func (s *Store) Routes(ctx context.Context) ([]Route, error) {
	var routes []Route
	err := s.gorm(ctx).Order("position").Find(&routes).Error
	return routes, err
}

// PutRoutes stores routes in the place of all that are there: their order
// matters, and half of them would be another order.
func (s *Store) PutRoutes(ctx context.Context, routes []Route) error {
	names := []string{""} // none is called so; an empty list would not do
	for _, r := range routes {
		names = append(names, r.Name)
	}
	return s.setting(ctx, "route", "", func(s *Store) error {
		if err := s.gorm(ctx).Exec("DELETE FROM routes WHERE name NOT IN ?", names).Error; err != nil || len(routes) == 0 {
			return err
		}
		return s.gorm(ctx).Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "name"}},
			DoUpdates: clause.AssignmentColumns([]string{"position", "route", "changed_at", "changed_by"}),
			Where: clause.Where{Exprs: []clause.Expression{clause.Expr{
				SQL: "(routes.position, routes.route) IS DISTINCT FROM (excluded.position, excluded.route)"}}},
		}).CreateInBatches(&routes, 500).Error
	})
}

// Template is the record of a template.
type Template struct {
	Name      string             `gorm:"primaryKey"`
	Template  *template.Template `gorm:"serializer:json"`
	CreatedAt time.Time          `gorm:"autoCreateTime:false"`
	ChangedAt time.Time
}

// PutTemplate stores a template, in the place of one of the same name if it may
// be changed.
func (s *Store) PutTemplate(ctx context.Context, t Template, mayChange bool) error {
	return s.setting(ctx, "template", t.Name, func(s *Store) error {
		return s.within(ctx, roomForTemplates, func() error {
			if !mayChange {
				return create(s.gorm(ctx), &t, "template "+t.Name)
			}
			return s.gorm(ctx).Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "name"}},
				DoUpdates: clause.AssignmentColumns([]string{"template", "changed_at"})}).Create(&t).Error
		})
	})
}

// Templates lists the templates that were added or changed after a count ([SettingsCount]; [FromTheStart]: all), in order
// of their names.
func (s *Store) Templates(ctx context.Context, after int64) ([]Template, error) {
	var templates []Template
	err := s.gorm(ctx).Where("as_of > ?", after).Order("name").Find(&templates).Error
	return templates, err
}

// TemplateNames lists the names of all templates.
func (s *Store) TemplateNames(ctx context.Context) (names []string, err error) {
	return names, s.gorm(ctx).Model(&Template{}).Pluck("name", &names).Error
}

// RemoveTemplate forgets a template. Messages that were made of it keep their
// texts.
func (s *Store) RemoveTemplate(ctx context.Context, name string) error {
	return s.setting(ctx, "template", name, func(s *Store) error {
		return changed(s.gorm(ctx).Exec("DELETE FROM templates WHERE name = ?", name))
	})
}

// PriceList is when the price list of a gateway was changed, and by whom.
type PriceList struct {
	GatewayID uuid.UUID
	Gateway   string `gorm:"-"` // its name
	ChangedAt time.Time
	ChangedBy string
}

// priceRow is an entry of a price list as it is stored.
type priceRow struct {
	GatewayID uuid.UUID
	Country   string
	Prefix    string
	Kind      pace.Kind
	Per       price.Per
	Micros    int64
	Currency  string
	HoldsFrom time.Time
}

// PutPrices stores a price list in the place of the gateway's last one.
func (s *Store) PutPrices(ctx context.Context, list PriceList, entries []price.Entry) error {
	records := make([]priceRow, len(entries))
	for i, e := range entries {
		records[i] = priceRow{list.GatewayID, e.Country, e.Prefix, e.Kind, e.Per, e.Rate.Micros(), e.Rate.Currency(), e.From}
	}
	digest := sha256.New()
	for _, r := range records {
		fmt.Fprintln(digest, r)
	}
	put := func(s *Store) error {
		err := s.gorm(ctx).
			Exec("INSERT INTO price_lists (gateway_id, changed_at, changed_by, entries, digest) VALUES (?, ?, ?, ?, ?) "+
				"ON CONFLICT (gateway_id) DO UPDATE SET changed_at = excluded.changed_at, changed_by = excluded.changed_by, "+
				"entries = excluded.entries, digest = excluded.digest",
				list.GatewayID, list.ChangedAt, list.ChangedBy, len(records), hex.EncodeToString(digest.Sum(nil)[:8])).
			Error
		if err == nil {
			err = s.gorm(ctx).Exec("DELETE FROM prices WHERE gateway_id = ?", list.GatewayID).Error
		}
		if err != nil {
			return err
		}
		if len(records) == 0 {
			return nil
		}
		return s.gorm(ctx).Table("prices").CreateInBatches(&records, 500).Error
	}
	return s.setting(ctx, "prices", list.Gateway, func(s *Store) error {
		return s.within(ctx, roomForPrices, func() error { return put(s) })
	})
}

// PriceLists lists when the lists were changed.
func (s *Store) PriceLists(ctx context.Context) ([]PriceList, error) {
	var lists []PriceList
	err := s.gorm(ctx).Find(&lists).Error
	return lists, err
}

// Prices reads the price list of a gateway.
func (s *Store) Prices(ctx context.Context, gateway uuid.UUID) ([]price.Entry, error) {
	var records []priceRow
	err := s.gorm(ctx).Table("prices").Where("gateway_id = ?", gateway).Order("country, prefix, kind, holds_from").Find(&records).Error
	entries := make([]price.Entry, len(records))
	for i, r := range records {
		entries[i] = price.Entry{
			Country: r.Country,
			Prefix:  r.Prefix,
			Kind:    r.Kind,
			Per:     r.Per,
			Rate:    price.Of(r.Micros, r.Currency),
			From:    r.HoldsFrom.UTC(),
		}
	}
	return entries, err
}
