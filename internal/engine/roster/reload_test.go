package roster_test

import (
	"context"
	"testing"

	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func TestMain(m *testing.M) { pgtest.Main(m, store.Migrate) }

const plain = "dialect: %s\nsubmit: {request: {post: /s, json: '{to}'}, reply: [{when: .status == 200, read: '{state: \"accepted\"}'}]}\n"

// A record that a newer check refuses stops neither the start nor the others,
// and hides no pause.
func TestBadRecordStandsAlone(t *testing.T) {
	t.Parallel()
	url := pgtest.Database(t)
	gateways, _ := rostertest.On(t, url)
	for _, name := range []string{"one", "two"} {
		rostertest.Gateway(t, gateways, "dialect: "+name+plain[len("dialect: %s"):], roster.Settings{})
	}
	db, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	for _, sql := range []string{
		"UPDATE gateways SET source = 'dialect: one', version = 2, paused_at = now(), paused_by = 'somebody' WHERE name = 'one'",
		"UPDATE gateways SET paused_at = now(), version = 2 WHERE name = 'two'",
		`INSERT INTO templates (name, template, created_at, changed_at) VALUES ('odd', '{"name": "odd"}', now(), now())`,
	} {
		if _, err := db.Exec(t.Context(), sql); err != nil {
			t.Fatal(err)
		}
	}
	if err := gateways.Reload(t.Context()); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"one", "two"} {
		if g := gateways.ByName(name); g == nil || g.PausedAt == nil || g.Dialect == nil {
			t.Errorf("%s: %+v", name, g)
		}
	}
	if flaws := gateways.Flaws(); len(flaws) != 2 || flaws[0].Name != "odd" || flaws[1].Name != "one" || flaws[1].Why == "" {
		t.Errorf("%+v", flaws)
	}
	fresh, _ := rostertest.On(t, url) // as after a restart
	if err := fresh.Reload(t.Context()); err != nil {
		t.Fatal(err)
	}
	if fresh.ByName("one") != nil || fresh.ByName("two") == nil || len(fresh.Flaws()) != 2 {
		t.Errorf("after a restart: %v, %+v", fresh.All(), fresh.Flaws())
	}
}
