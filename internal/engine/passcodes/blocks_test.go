package passcodes

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/passcode"
	"calmpigeon.example/internal/postgres/pgtest"
	"calmpigeon.example/internal/store"
)

// A block holds however many came after it, and no more can stand than are held; those that are
// over are none of them, and are forgotten after a while.
func TestAStandingBlockHolds(t *testing.T) {
	t.Parallel()
	url := pgtest.Database(t)
	d := openOn(t, url)
	db, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	fill := func(n int, until *time.Time) {
		t.Helper()
		_, err := db.Exec(t.Context(), `INSERT INTO passcode_blocks (id, by_what, value, since, until_at, by_whom, why)
			SELECT gen_random_uuid(), 'number', '+4477009' || (1000000 + i), $2::timestamptz, $3::timestamptz, '', ''
			FROM generate_series(1, $1::int) AS i`,
			n, d.Now().Add(-time.Hour), until)
		if err != nil {
			t.Fatal(err)
		}
	}
	w := Wants{To: "+447700900123", Purpose: "sign-in"}
	add := func(value string) error {
		one := store.PasscodeBlock{ID: store.IDAt(d.Now()), By: passcode.Number, Value: value, Why: "fraud", Since: d.Now()}
		return errors.Join(d.Store.AddPasscodeBlock(t.Context(), one), d.Roster.Reload(t.Context()))
	}
	if err := add(w.To); err != nil {
		t.Fatal(err)
	}
	over := d.Now().Add(-time.Minute)
	fill(store.StandingMost+1, &over)
	fill(store.StandingMost-2, nil)
	if err := add("+447700900144"); err != nil {
		t.Fatal(err)
	}
	var blocked *Blocked
	if _, err := d.Issue(t.Context(), d.key, w, ""); !errors.As(err, &blocked) {
		t.Errorf("the oldest block: %v", err)
	}
	if err := add("+447700900155"); !errors.As(err, new(*store.FullError)) {
		t.Errorf("one more than may stand: %v", err)
	}
	if err := d.Tidy(t.Context(), d.Now().Add(alarmsKept), time.Time{}); err != nil {
		t.Fatal(err)
	}
	all, err := d.Store.PasscodeBlocks(t.Context(), false, time.Time{}, 2*store.StandingMost+10)
	if len(all) != store.StandingMost || err != nil {
		t.Errorf("%d are kept, %v", len(all), err)
	}
}

// A passcode that there is not is told as one that is typed wrong, however often; codes have a length.
func TestAnUnknownPasscodeIsLikeAnother(t *testing.T) {
	t.Parallel()
	d := open(t)
	one, err := d.Issue(t.Context(), d.key, Wants{To: "+447700900123", Purpose: "sign-in"}, "")
	if err != nil {
		t.Fatal(err)
	}
	unknown := store.NewID()
	for i := range passcode.TriesUsual + 2 {
		is, err := d.Check(t.Context(), one.ID, "x")
		not, wrong := d.Check(t.Context(), unknown, "x")
		byNumber, failed := d.CheckCurrent(t.Context(), "+447700900144", "", "sign-in", "x")
		if err := errors.Join(err, wrong, failed); err != nil {
			t.Fatal(err)
		}
		if is.Verdict != not.Verdict || is.Left != not.Left || is.Verdict != byNumber.Verdict || is.Left != byNumber.Left {
			t.Errorf("try %d: %s with %d left; unknown %s with %d left, of a number %s with %d left",
				i+1, is.Verdict, is.Left, not.Verdict, not.Left, byNumber.Verdict, byNumber.Left)
		}
	}
	if _, err := d.Check(t.Context(), one.ID, strings.Repeat("1", typedMost+1)); fault.Of(err) == nil {
		t.Errorf("a code without end: %v", err)
	}
}

// The block of a site holds for all addresses of its /48, and for no other.
func TestASiteIsBlocked(t *testing.T) {
	t.Parallel()
	d := open(t)
	block := store.PasscodeBlock{ID: store.IDAt(d.Now()), By: passcode.Site, Value: "2001:db8:7::/48", Since: d.Now()}
	if err := errors.Join(d.Store.AddPasscodeBlock(t.Context(), block), d.Roster.Reload(t.Context())); err != nil {
		t.Fatal(err)
	}
	for address, want := range map[string]bool{
		"2001:db8:7:1::9": true, "2001:db8:7:ffff::": true, "2001:db8:8::1": false, "192.0.2.7": false,
	} {
		var blocked *Blocked
		_, err := d.Issue(t.Context(), d.key, Wants{To: "+447700900123", Purpose: "sign-in " + address, Address: address}, "")
		if errors.As(err, &blocked) != want || !want && err != nil {
			t.Errorf("%s: %v", address, err)
		}
	}
}
