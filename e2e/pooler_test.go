package e2e

import (
	"fmt"
	"testing"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/postgres/pgtest"
)

// Two instances work behind a pooler that gives each connection a session, and PostgreSQL logs no error
// of what they write past each other. Behind one that shares sessions the service does not start.
func TestBehindAPooler(t *testing.T) {
	t.Parallel()
	direct := pgtest.Database(t)
	h := buildOn(t, pgtest.Pooler(t, direct, "session", 2*27+4)).with("harbourline", "commonquay")
	other := h.beside()
	var ids []string
	for i := range 200 {
		to := []*client.Client{h.Client, other.Client}[i%2]
		ids = append(ids, must[client.Message](t)(to.Send(t.Context(), client.Draft{
			To:      fmt.Sprintf("+4477009001%02d", i%50),
			Text:    fmt.Sprintf("Text %d", i),
			Gateway: []string{"harbourline", "commonquay"}[i/2%2],
		})).ID)
	}
	eventually(t, "every text is delivered", func() bool {
		return must[client.Tally](t)(other.Client.Tally(t.Context(), client.Filter{})).States["delivered"] == int64(len(ids))
	})
	if twice := h.twice(); twice != nil {
		t.Errorf("twice: %v", twice)
	}
	if errs := pgtest.Errors(t, direct); len(errs) > 0 {
		t.Errorf("PostgreSQL logs %d errors, %q the first", len(errs), errs[0])
	}

	cmd := (&house{database: pgtest.Pooler(t, direct, "transaction", 40), data: t.TempDir(), FleetURL: h.FleetURL}).command("127.0.0.1:0")
	said, err := cmd.CombinedOutput()
	if err == nil {
		t.Error("it starts where sessions are shared")
	}
	t.Logf("%s", said)
}
