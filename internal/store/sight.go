package store

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
)

// Sight is what there is to do, whoever brought it about: this instance, another
// one, or the time.
type Sight struct {
	Due      []DueLane   // has something to send
	Silent   []uuid.UUID // gateways of which messages are due to be looked after
	Late     bool        // a message waits that is too late to be sent
	Unread   []uuid.UUID // gateways whose callbacks wait to be read
	Strays   bool        // there are strays whose message is to be looked for
	ToJudge  []uuid.UUID // gateways of which strays are to be judged
	ToAsk    []uuid.UUID // gateways that are to be asked about strays
	ToTell   []uuid.UUID // receivers that are to be told of events
	Stated   bool        // there are statements to be matched
	Settings int64       // counts the changes of what was set
	Deltas   bool        // there is something to be added up
	ToCheck  bool        // there are batches to be rehearsed
	AtWork   bool        // there are batches whose rows may have to go
	Held     bool        // the time of messages has come

	Quarantined, Asking, Prepared bool // see [Quarantine]

	Schema int64 // the version of the database's schema
}

// DueLane is that a gateway has something to send in a lane: the most urgent.
type DueLane struct {
	Gateway uuid.UUID
	Lane    int
}

// The parts of the statement of [Store.Look].
const (
	sightDue = iota
	sightSilent
	sightLate
	sightUnread
	sightStrays
	sightJudge
	sightAsk
	sightStated
	sightSettings
	sightDeltas
	sightBatches
	sightHeld
	sightTell
	sightQuarantine
	sightSchema
)

// lookSQL is the statement. Each LIMIT keeps PostgreSQL from making one great join
// of what is many short looks.
var lookSQL = fmt.Sprintf(
	`SELECT %d, g.id, min(lanes.lane)::bigint FROM gateways g, (VALUES (0), (1), (2)) AS lanes (lane),
		LATERAL (SELECT FROM to_send q WHERE q.gateway_id = g.id AND q.lane = lanes.lane AND q.due_at <= $1 LIMIT 1) AS one GROUP BY g.id
	UNION ALL SELECT %d, g.id, 0 FROM gateways g,
		LATERAL (SELECT FROM to_ask a WHERE a.gateway_id = g.id AND a.ask_at <= $1 LIMIT 1) AS one
	UNION ALL SELECT %d, NULL, 0 WHERE EXISTS (SELECT FROM to_send WHERE valid_until <= $1)
	UNION ALL (SELECT DISTINCT %d, gateway_id, 0 FROM to_read WHERE id < $2)
	UNION ALL SELECT %d, NULL, 0 WHERE EXISTS (SELECT FROM strays WHERE look_at <= $1)
	UNION ALL SELECT %d, g.id, 0 FROM gateways g,
		LATERAL (SELECT FROM strays t WHERE t.gateway_id = g.id AND t.judge_at <= $1 LIMIT 1) AS one
	UNION ALL SELECT %d, g.id, 0 FROM gateways g,
		LATERAL (SELECT FROM strays t WHERE t.gateway_id = g.id AND t.ask_at <= $1 LIMIT 1) AS one
	UNION ALL SELECT %d, NULL, 0 WHERE EXISTS (SELECT FROM statements WHERE state IN ('reading', 'matching', 'applying', 'withdrawing'))
		OR EXISTS (SELECT FROM statements WHERE again_at <= $1)
	UNION ALL SELECT %d, NULL, n FROM settings_changes
	UNION ALL SELECT %d, NULL, 0 WHERE EXISTS (SELECT FROM tally_deltas) OR EXISTS (SELECT FROM batch_deltas)
		OR EXISTS (SELECT FROM arrival_deltas) OR EXISTS (SELECT FROM money_deltas)
		OR EXISTS (SELECT FROM passcode_deltas)
	UNION ALL SELECT DISTINCT %d, NULL::uuid, CASE state WHEN 'checking' THEN 0 ELSE 1 END FROM batches
		WHERE state IN ('checking', 'running', 'paused', 'held', 'cancelled') AND finished_at IS NULL
	UNION ALL SELECT %d, NULL, 0 WHERE EXISTS (SELECT FROM held WHERE release_at <= $1)
	UNION ALL SELECT %d, r.id, 0 FROM receivers r,
		LATERAL (SELECT FROM to_tell t WHERE t.receiver_id = r.id AND t.due_at <= $1 LIMIT 1) AS one WHERE r.removed_at IS NULL
	UNION ALL SELECT %d, NULL, (asked_at IS NOT NULL)::int + 2 * (prepared_at IS NOT NULL)::int FROM quarantines WHERE lifted_at IS NULL
	UNION ALL SELECT %d, NULL, (SELECT max(version_id) FROM goose_db_version WHERE is_applied)`,
	sightDue,
	sightSilent,
	sightLate,
	sightUnread,
	sightStrays,
	sightJudge,
	sightAsk,
	sightStated,
	sightSettings,
	sightDeltas,
	sightBatches,
	sightHeld,
	sightTell,
	sightQuarantine,
	sightSchema,
)

// Look sees what there is to do, in one statement: it is asked twice a second by
// every instance. It looks once for each gateway and lane, however much waits.
// Callbacks count as unread that came before a moment.
func (s *Store) Look(ctx context.Context, now, unreadBefore time.Time) (Sight, error) {
	type part struct {
		what int
		id   *uuid.UUID
		n    int64
	}
	var sight Sight
	parts, err := query(ctx, s.hot(), func(rows pgx.Rows) (p part, err error) {
		err = rows.Scan(&p.what, &p.id, &p.n)
		return p, err
	}, lookSQL, now, Floor(unreadBefore))
	if err != nil {
		return sight, fmt.Errorf("looking for what there is to do: %w", err)
	}
	for _, p := range parts {
		switch p.what {
		case sightDue:
			sight.Due = append(sight.Due, DueLane{*p.id, int(p.n)})
		case sightSilent:
			sight.Silent = append(sight.Silent, *p.id)
		case sightLate:
			sight.Late = true
		case sightUnread:
			sight.Unread = append(sight.Unread, *p.id)
		case sightStrays:
			sight.Strays = true
		case sightJudge:
			sight.ToJudge = append(sight.ToJudge, *p.id)
		case sightAsk:
			sight.ToAsk = append(sight.ToAsk, *p.id)
		case sightStated:
			sight.Stated = true
		case sightSettings:
			sight.Settings = p.n
		case sightDeltas:
			sight.Deltas = true
		case sightTell:
			sight.ToTell = append(sight.ToTell, *p.id)
		case sightQuarantine:
			sight.Quarantined, sight.Asking, sight.Prepared = true, p.n&1 != 0, p.n&2 != 0
		case sightSchema:
			sight.Schema = p.n
		case sightHeld:
			sight.Held = true
		case sightBatches:
			sight.ToCheck, sight.AtWork = sight.ToCheck || p.n == 0, sight.AtWork || p.n == 1
		}
	}
	return sight, nil
}
