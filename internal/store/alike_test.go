package store

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
)

// A message is found by a start or an end of its id, and by nothing shorter.
func TestAlike(t *testing.T) {
	t.Parallel()
	s := fresh(t)
	g := Gateway{ID: NewID(), Name: "g", SealedSecrets: []byte{}, SealedCallback: []byte{}, CreatedAt: now(), Version: 1}
	if err := s.AddGateway(t.Context(), g); err != nil {
		t.Fatal(err)
	}
	one, two, last := newMessage(g.ID, 1), newMessage(g.ID, 1), newMessage(g.ID, 1)
	one.ID = uuid.MustParse(Floor(now()).String()[:18] + "-8000-00000000abc1")
	two.ID = uuid.MustParse(Floor(now()).String()[:18] + "-8000-00000000abc2")
	last.ID = uuid.MustParse(Floor(now().AddDate(0, 0, -now().Day())).String()[:18] + "-8000-00000000abc1")
	accept(t, s, one, two, last)
	flat := func(id uuid.UUID) string { return strings.ReplaceAll(id.String(), "-", "") }
	for piece, want := range map[string][]uuid.UUID{
		one.ID.String():                  {one.ID},
		strings.ToUpper(one.ID.String()): {one.ID},
		flat(two.ID)[:31]:                {one.ID, two.ID},
		one.ID.String()[:18]:             {one.ID, two.ID},
		last.ID.String()[:13]:            {last.ID},
		"0000abc2":                       {two.ID},
		"00000000abc1":                   {one.ID, last.ID},
		"8000-00000000abc2":              {two.ID},
		"abc2":                           nil, // too short
		"0000abc3":                       nil,
		"0000abcx":                       nil,
		"' OR 1=1":                       nil,
		strings.Repeat("0", 33):          nil,
		Floor(now().Add(time.Hour)).String()[:18]: nil,
	} {
		found := must[[]uuid.UUID](t)(s.Alike(t.Context(), piece, 10))
		slices.SortFunc(found, func(a, b uuid.UUID) int { return strings.Compare(b.String(), a.String()) })
		slices.SortFunc(want, func(a, b uuid.UUID) int { return strings.Compare(b.String(), a.String()) })
		if !slices.Equal(found, want) {
			t.Errorf("%s: %v, want %v", piece, found, want)
		}
	}
	if found := must[[]uuid.UUID](t)(s.Alike(t.Context(), one.ID.String()[:18], 1)); len(found) != 1 {
		t.Errorf("at most one: %v", found)
	}
}
