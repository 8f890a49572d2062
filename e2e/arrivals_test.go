package e2e

import (
	"context"
	"encoding/json"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/postgres/pgtest"
)

// demoFolder is one that PostgreSQL's user can reach.
func demoFolder(t *testing.T) string {
	t.Helper()
	data := must[string](t)(os.MkdirTemp("", "pigeon-demo-"))
	t.Cleanup(func() { os.RemoveAll(data) })
	if err := os.Chmod(data, 0o755); err != nil { // #nosec G302 -- the database runs as another user
		t.Fatal(err)
	}
	return data
}

// The demo has a week behind it: how long messages took adds up with what became of them, and what is not as usual
// wants a person.
func TestArrivalsOfTheDemosWeek(t *testing.T) {
	t.Parallel()
	d := startDemo(t, demoFolder(t), "127.0.0.1:0")
	c := client.New(d.console, d.key)
	ctx := t.Context()
	since := time.Now().AddDate(0, 0, -8)
	past := client.Filter{Labels: []string{"history=week"}}
	week := must[client.Tally](t)(c.Tally(ctx, past))
	if open := week.Total - week.States["delivered"] - week.States["undeliverable"] - week.States["expired"]; open != 0 ||
		week.Total < 10_000 {
		t.Errorf("the past is %s", week.Equation)
	}
	by := func(what string, f client.Filter) client.Arrivals {
		f.Since = since
		return must[client.Arrivals](t)(c.Arrivals(ctx, f, what, "hour"))
	}
	for _, what := range []string{"gateway", "country", "kind"} {
		told := by(what, client.Filter{})
		var messages, arrived, bars, hours int64
		for _, g := range told.Groups {
			messages += g.Messages
			arrived += g.Arrived
		}
		for _, b := range told.All.Histogram {
			bars += b.N
		}
		for _, f := range told.All.Course {
			hours += f.Arrived
		}
		if messages != told.All.Messages || arrived != told.All.Arrived || bars != arrived || hours != arrived ||
			arrived < week.States["delivered"] {
			t.Errorf("by %s: %d and %d messages, %d, %d, %d and %d arrived of %d",
				what, messages, told.All.Messages, arrived, told.All.Arrived, bars, hours, week.States["delivered"])
		}
	}
	// What fails in France just now, and not elsewhere.
	var wants *client.Need
	eventually(t, "more fails than usual", func() bool {
		for _, n := range must[client.Attention](t)(c.Attention(ctx)).Items {
			switch n.What {
			case "failing":
				wants = &n
			case "slow":
				t.Fatalf("nothing is slow: %+v", n)
			}
		}
		return wants != nil
	})
	if wants.Gateway != "harbourline" || !strings.Contains(wants.Why, "France: ") {
		t.Errorf("what wants a person: %+v", wants)
	}
	france := by("kind", client.Filter{Gateway: "harbourline", Country: "FR"})
	if len(france.Groups) != 2 || france.All.Messages == 0 ||
		france.All.Messages >= by("", client.Filter{Gateway: "harbourline"}).All.Messages {
		t.Errorf("France: %d messages of %d kinds", france.All.Messages, len(france.Groups))
	}
	for _, wrong := range []client.Filter{{Sender: "Lanternholm"}, {States: []string{"delivered"}}, {Since: time.Now().AddDate(-3, 0, 0)}} {
		if _, err := c.Arrivals(ctx, wrong, "", "hour"); err == nil {
			t.Errorf("%+v is taken", wrong)
		}
	}
	command := func(args ...string) string {
		cmd := exec.CommandContext(ctx, pigeon, append([]string{"arrivals"}, args...)...)
		cmd.Env = append(os.Environ(), "PIGEON_URL="+d.console, "PIGEON_KEY="+d.key)
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("pigeon arrivals %v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	for _, want := range []string{"harbourline", "together", "How long ", "█"} {
		if out := command("--since", "168h"); !strings.Contains(out, want) {
			t.Errorf("%q is not in\n%s", want, out)
		}
	}
	var told client.Arrivals
	if err := json.Unmarshal([]byte(command("--output", "json", "--by", "country")), &told); err != nil || told.By != "country" ||
		told.Step != "hour" {
		t.Errorf("as JSON: %v, by %s, %s", err, told.By, told.Step)
	}
	if out := command("--output", "csv", "--since", "700h"); !strings.HasPrefix(out, "gateway,at,messages,") ||
		strings.Count(out, "\n") < 8 {
		t.Errorf("as CSV\n%s", out)
	}

	b := open(t)
	b.do(chromedp.Navigate(d.console + "/#key=" + d.key))
	b.shows(".needs", "More fails through harbourline than usual")
	b.do(chromedp.Click(`a[href^="/arrivals?gateway=harbourline"]`))
	b.shows("table", "France")
	b.do(chromedp.Navigate(d.console + "/arrivals?span=week"))
	b.shows("h1", "Half arrive within")
	b.shows("table", "commonquay")
	b.shows(".charts", "Percent delivered")
	b.do(chromedp.WaitVisible(`.charts .recharts-bar-rectangle`), chromedp.WaitVisible(`table svg.spark path`))
	b.do(chromedp.Click(`tbody tr:first-child td:nth-child(2) a`))
	b.shows(".tally", "messages")
	b.shows("select[aria-label=Gateway]", "harbourline")
}

// A start that was killed while it wrote the past is made good by the next, and nothing is there twice.
func TestDemoKilledWhileItWritesThePast(t *testing.T) {
	t.Parallel()
	data, database := demoFolder(t), pgtest.Empty(t)
	cmd := exec.Command(
		pigeon,
		"demo",
		"--data",
		data,
		"--database-url",
		database,
		"--listen",
		"127.0.0.1:0",
		"--fleet-listen",
		"127.0.0.1:0",
	)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	db := must[*pgx.Conn](t)(pgx.Connect(t.Context(), database))
	defer db.Close(context.Background())
	written, fleet := 0, ""
	eventually(t, "the past begins", func() bool {
		err := db.QueryRow(t.Context(), "SELECT count(*) FROM messages").Scan(&written)
		return err == nil && written > 300 // before there is a table there is nothing
	})
	if err := db.QueryRow(t.Context(), "SELECT address FROM gateways WHERE name = 'harbourline'").Scan(&fleet); err != nil {
		t.Fatal(err)
	}
	cmd.Process.Kill()
	cmd.Wait()
	fleet = must[*url.URL](t)(url.Parse(fleet)).Host // the fleet is to be found where it was
	d := startDemo(t, data, fleet, "--database-url", database)
	c := client.New(d.console, d.key)
	week := must[client.Tally](t)(c.Tally(t.Context(), client.Filter{Labels: []string{"history=week"}}))
	told := must[client.Arrivals](t)(c.Arrivals(t.Context(), client.Filter{Since: time.Now().AddDate(0, 0, -9)}, "", "hour"))
	if open := week.Total - week.States["delivered"] - week.States["undeliverable"] - week.States["expired"]; open != 0 ||
		int64(written) >= week.Total || len(told.All.Course) < 7*24 {
		t.Errorf("after %d were written, the past is %s in %d hours", written, week.Equation, len(told.All.Course))
	}
	for _, f := range told.All.Course { // each hour as often as it should be: the busiest is that of the storm
		if f.Messages > 1300 {
			t.Errorf("%d messages at %v", f.Messages, f.At)
		}
	}
}
