package roster_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/fraud"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/engine/roster"
	"calmpigeon.example/internal/engine/roster/rostertest"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

func templateOf(name, text string) *template.Template {
	return &template.Template{Name: name, Kind: pace.Transactional, Texts: map[string]string{"en": text}, Language: "en"}
}

// seen is what a roster knows, as far as it can be asked.
func seen(r *roster.Roster, at time.Time) map[string]any {
	book := r.Book()
	all := map[string]any{"senders": book.Senders, "routes": len(book.Routes), "flaws": len(r.Flaws())}
	for _, t := range book.Templates() {
		all["template "+t.Name] = t.Template.Texts
	}
	for _, g := range r.All() {
		all["gateway "+g.Name] = fmt.Sprint(g.PerSecond, g.PausedAt != nil, g.Version)
	}
	for i := range 4 {
		number := fmt.Sprintf("+44770090012%d", i)
		b, is := book.Blocked(passcode.Number, number, at)
		all["block "+number] = fmt.Sprint(b.ID, is)
		for _, a := range book.Alarms(passcode.Number, number, at) {
			all["alarm "+a.ID.String()] = fmt.Sprint(a.Act, a.UntilAt.UTC())
		}
	}
	return all
}

// A roster that reads only changes knows the same as one that reads everything, after any changes by us or by others.
func TestReadingWhatChangedIsReadingAll(t *testing.T) {
	t.Parallel()
	url := pgtest.Database(t)
	r, s := rostertest.On(t, url)
	all, _ := rostertest.On(t, url) // reads everything each time
	db, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	ctx, at := t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	g := rostertest.Gateway(t, r, fmt.Sprintf(plain, "one"), roster.Settings{})
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 0))
	name := func() string { return fmt.Sprintf("t%d", random.IntN(5)) }
	number := func() string { return fmt.Sprintf("+44770090012%d", random.IntN(4)) }
	var blocks, alarms []uuid.UUID
	some := func(of []uuid.UUID) uuid.UUID {
		if len(of) == 0 {
			return store.NewID()
		}
		return of[random.IntN(len(of))]
	}
	until := func() *time.Time {
		if random.IntN(2) == 0 {
			return nil
		}
		end := at.Add(time.Duration(random.IntN(20)-5) * time.Minute)
		return &end
	}
	steps := []func() error{
		func() error {
			return r.PutTemplate(ctx, templateOf(name(), fmt.Sprint("text ", random.IntN(100))), true, at)
		},
		func() error { return r.RemoveTemplate(ctx, name()) },
		func() error {
			_, err := db.Exec(ctx, "UPDATE templates SET template = '{\"name\": \"odd\"}' WHERE name = $1", name())
			return err
		},
		func() error { _, err := db.Exec(ctx, "DELETE FROM templates WHERE name = $1", name()); return err },
		func() error {
			blocks = append(blocks, store.NewID())
			return s.AddPasscodeBlock(ctx, store.PasscodeBlock{ID: blocks[len(blocks)-1], By: passcode.Number, Value: number(), Since: at,
				UntilAt: until()})
		},
		func() error { _, err := s.LiftPasscodeBlock(ctx, some(blocks), at, "ada", ""); return err },
		func() error {
			_, err := db.Exec(ctx, "DELETE FROM passcode_blocks WHERE id = $1", some(blocks))
			return err
		},
		func() error {
			alarms = append(alarms, store.NewID())
			_, err := s.RaisePasscodeAlarm(ctx, store.PasscodeAlarm{ID: alarms[len(alarms)-1], Rule: fraud.Asking, By: passcode.Number,
				Value: number(), Act: fraud.Block, RaisedAt: at})
			return err
		},
		func() error {
			_, err := s.ChangePasscodeAlarm(ctx, some(alarms), func(a *store.PasscodeAlarm) error {
				if a.LiftedAt = &at; random.IntN(2) == 0 {
					a.LiftedAt, a.UntilAt = nil, at.Add(time.Duration(random.IntN(60)-20)*time.Minute)
				}
				return nil
			})
			return err
		},
		func() error {
			five := 1 + random.IntN(9)
			_, err := r.ChangeGateway(ctx, g, roster.Settings{PerSecond: &five})
			return err
		},
		func() error {
			_, err := r.PutSender(ctx, store.Sender{ID: "Lantern" + name()}, true, at)
			return err
		},
		func() error { return r.RemoveSender(ctx, "Lantern"+name()) },
		func() error { _, err := db.Exec(ctx, "TRUNCATE passcode_blocks"); return err },
	}
	for i := range 300 {
		step := random.IntN(len(steps))
		if err := steps[step](); err != nil && !errors.Is(err, store.ErrNotFound) {
			t.Fatalf("step %d of seed %d: %v", i, seed, err)
		}
		if random.IntN(3) > 0 {
			continue // several changes are read at once
		}
		if err := r.Reload(ctx); err != nil {
			t.Fatal(err)
		}
		if err := all.Renew(ctx); err != nil {
			t.Fatal(err)
		}
		if got, want := seen(r, at), seen(all, at); !reflect.DeepEqual(got, want) {
			t.Fatalf("after step %d (%d) of seed %d\ngot  %v\nwant %v", i, step, seed, got, want)
		}
	}
}

// Reload reads only rows that have changed. Renew reads everything.
func TestOnlyWhatChangedIsRead(t *testing.T) {
	t.Parallel()
	url := pgtest.Database(t)
	r, _ := rostertest.On(t, url)
	ctx, at := t.Context(), time.Now()
	for _, name := range []string{"one", "two"} {
		if err := r.PutTemplate(ctx, templateOf(name, "before"), false, at); err != nil {
			t.Fatal(err)
		}
	}
	db, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	for _, sql := range []string{ // without triggers: nobody is told of it
		"SET session_replication_role = replica",
		`UPDATE templates SET template = jsonb_set(template, '{texts,en}', '"not to be read"')`,
	} {
		if _, err := db.Exec(ctx, sql); err != nil {
			t.Fatal(err)
		}
	}
	if err := r.PutTemplate(ctx, templateOf("two", "after"), true, at); err != nil {
		t.Fatal(err)
	}
	text := func(name string) string {
		one, _ := r.Book().Template(name)
		return one.Template.Texts["en"]
	}
	if text("one") != "before" || text("two") != "after" {
		t.Errorf("it read %q and %q", text("one"), text("two"))
	}
	if err := r.Renew(ctx); err != nil {
		t.Fatal(err)
	}
	if text("one") != "not to be read" {
		t.Errorf("renewed it holds %q", text("one"))
	}
}

// A template has a size, and so have all together; what is there already can be changed and removed.
func TestTemplatesAreBounded(t *testing.T) {
	t.Parallel()
	url := pgtest.Database(t)
	r, _ := rostertest.On(t, url)
	ctx, at := t.Context(), time.Now()
	if err := r.PutTemplate(ctx, templateOf("long", strings.Repeat("x", store.SettingBytes)), false, at); fault.Of(err) == nil {
		t.Errorf("too long: %v", err)
	}
	db, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	fill := func(n, bytes int) {
		t.Helper()
		_, err := db.Exec(ctx, `INSERT INTO templates (name, template, created_at, changed_at)
			SELECT 'f' || i, jsonb_build_object('name', 'f' || i, 'texts', jsonb_build_object('en', repeat('x', $2))), now(), now()
			FROM generate_series(1, $1::int) AS i`, n, bytes)
		if err != nil {
			t.Fatal(err)
		}
	}
	full := func(what string, err error) {
		t.Helper()
		if !errors.As(err, new(*store.FullError)) {
			t.Errorf("%s: %v", what, err)
		}
	}
	fill(store.TemplatesMost, 1)
	full("one too many", r.PutTemplate(ctx, templateOf("more", "x"), false, at))
	if err := r.PutTemplate(ctx, templateOf("f1", "another"), true, at); err != nil {
		t.Errorf("one that is there: %v", err)
	}
	if err := errors.Join(r.RemoveTemplate(ctx, "f2"), r.PutTemplate(ctx, templateOf("more", "x"), false, at)); err != nil {
		t.Errorf("after one was removed: %v", err)
	}
	if _, err := db.Exec(ctx, "DELETE FROM templates"); err != nil {
		t.Fatal(err)
	}
	const long = 60_000
	fill(store.TemplateBytes/long+1, long)
	full("too much of them", r.PutTemplate(ctx, templateOf("more", "x"), false, at))
	if err := r.PutTemplate(ctx, templateOf("f1", "shorter"), true, at); err != nil {
		t.Errorf("shorter than it was: %v", err)
	}
}
