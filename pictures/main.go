// Command pictures takes the pictures of docs/screenshots from a demo that it starts:
// pages in Chromium, commands in a terminal. Look at each before it is kept.
package main

import (
	"bufio"
	"bytes"
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/chromedp"

	"calmpigeon.example/client"
	scenario "calmpigeon.example/internal/demo"
)

var (
	pigeon = flag.String("pigeon", "bin/pigeon", "the program")
	folder = flag.String("to", "docs/screenshots", "where pictures go")
	only   = flag.String("only", "", "only those whose names hold this")
)

func main() {
	log.SetFlags(0)
	flag.Parse()
	if err := run(context.Background()); err != nil {
		log.Fatal(err)
	}
}

func run(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	data, err := os.MkdirTemp("", "pigeon-pictures-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	if err := os.Chmod(data, 0o755); err != nil { // #nosec G302 -- PostgreSQL runs as somebody else
		return err
	}
	key, stop, err := demo(ctx, filepath.Join(data, "demo"))
	if err != nil {
		return err
	}
	defer stop()
	c := client.New(service, key)
	log.Print("waiting until the demo has settled")
	if err := settled(ctx, c); err != nil {
		return err
	}
	if err := pages(ctx, c, key); err != nil {
		return err
	}
	return terminals(ctx, c, key, data)
}

const (
	service  = "http://127.0.0.1:7410"
	phone    = "http://127.0.0.1:7411/phone"
	boarding = "http://127.0.0.1:7411/boarding/"
)

// demo starts the demo where a reader will have it.
func demo(ctx context.Context, data string) (key string, stop func(), err error) {
	cmd := exec.CommandContext(ctx, *pigeon, "demo", "--data", data) // #nosec G204 -- whoever runs this names it
	cmd.Cancel = func() error { return cmd.Process.Signal(syscall.SIGINT) }
	cmd.WaitDelay = time.Minute
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() { cmd.Cancel(); cmd.Wait() }
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if m := regexp.MustCompile(`#key=(pigeon_\w+)`).FindStringSubmatch(lines.Text()); m != nil {
			key = m[1]
		}
		if strings.HasPrefix(lines.Text(), "Ctrl-C") {
			return key, stop, nil
		}
	}
	stop()
	return "", nil, fmt.Errorf("the demo did not start")
}

// settled waits until every message of the demo has come to its end.
func settled(ctx context.Context, c *client.Client) error {
	for {
		t, err := c.Tally(ctx, client.Filter{})
		if err != nil {
			return err
		}
		moving := t.Total
		for _, state := range []string{"delivered", "undeliverable", "expired", "rejected", "cancelled", "unknown"} {
			moving -= t.States[state]
		}
		if t.Total > 0 && moving == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// page is a picture of a page, once what it waits for is there.
type page struct {
	name, address, waits string
	// first is done before the picture is taken, in the page.
	first string
	dark  bool
	small bool          // as on a phone
	late  time.Duration // until it is worth a picture
}

// press presses the first button that says something.
func press(word string) string {
	return fmt.Sprintf(`[...document.querySelectorAll("button")].find((b) => b.textContent.trim() === %q)?.click()`, word)
}

// fill writes into a field as React sees it.
func fill(selector, text string) string {
	return fmt.Sprintf(
		`(() => { const e = document.querySelector(%q); e.focus(); e.select?.(); document.execCommand("insertText", false, %q); })()`,
		selector,
		text,
	)
}

func pages(ctx context.Context, c *client.Client, key string) error {
	found, err := c.Find(ctx, client.Filter{Reference: "desk"}, "", 1)
	if err != nil || len(found.Items) == 0 {
		return fmt.Errorf("there is no message with a story: %w", err)
	}
	stated, err := c.Statements(ctx, "harbourline", "", 1)
	for deadline := time.Now().Add(time.Minute); err == nil && (len(stated.Items) == 0 || stated.Items[0].Heaps == nil); {
		if time.Now().After(deadline) {
			return fmt.Errorf("there is no statement")
		}
		time.Sleep(time.Second)
		stated, err = c.Statements(ctx, "harbourline", "", 1)
	}
	if err != nil {
		return err
	}
	running, err := storm(ctx, c)
	if err != nil {
		return err
	}
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.WindowSize(
			1280,
			800,
		),
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-quic", true),
	)
	ctx, closeBrowser := chromedp.NewExecAllocator(ctx, options...)
	defer closeBrowser()
	ctx, closeTab := chromedp.NewContext(ctx)
	defer closeTab()
	enter := []chromedp.Action[chromedp.Void]{
		chromedp.EmulateViewport(1280, 800), chromedp.Navigate(service + "/#key=" + key), chromedp.WaitVisible("h1"),
	}
	if err := chromedp.Do(ctx, enter...); err != nil {
		return err
	}
	for _, p := range []page{
		{name: "today", address: service + "/", waits: ".needs li:nth-child(3)"},
		{name: "heaps", address: service + "/statements/" + stated.Items[0].ID + "?heap=theirs", waits: "tbody tr"},
		{name: "messages-compact-dark", address: service + "/messages", waits: "tbody tr:nth-child(40)", dark: true},
		{name: "message", address: service + "/messages/" + found.Items[0].ID, waits: ".ledger",
			first: `document.querySelectorAll(".unfold")[0].click()`},
		{name: "send", address: service + "/send", waits: "#text", first: fill("#to", "+44 (0) 7700 900123") + ";" +
			fill("#text", "Don’t miss it: crossing 0740 to Skerrow now leaves from berth 3 [gate B] – boarding closes at 07:30…")},
		{name: "passcodes", address: service + "/passcodes?span=week", waits: ".funnel"},
		{name: "arrivals", address: service + "/arrivals?span=week", waits: ".charts svg"},
		{name: "money", address: service + "/money", waits: ".accounts tfoot"},
		{name: "events", address: service + "/events", waits: ".events tbody tr:nth-child(8)"},
		{name: "gateway", address: service + "/gateways/oldpier-swapped", waits: ".facts", first: press("Test its credentials")},
		{name: "phone", address: phone + "#+447700900158", waits: ".text"},
		{name: "boarding", address: boarding, waits: "#number", small: true,
			first: fill("#number", "07700 900177") + `; document.querySelector("#ask button").click()`},
		{name: "batch", address: service + "/batches/" + running, waits: ".tally", late: 12 * time.Second},
	} {
		if !strings.Contains(p.name, *only) {
			continue
		}
		log.Print(p.name)
		theme := fmt.Sprintf(
			`localStorage.setItem("theme", %t ? "dark" : "light"); localStorage.setItem("compact", %t ? "yes" : "no"); true`,
			p.dark,
			p.dark,
		)
		if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](theme)); err != nil {
			return err
		}
		width, height := int64(1280), int64(800)
		if p.small {
			width, height = 390, 360
		}
		if err := chromedp.Do(ctx, chromedp.EmulateViewport(width, height), chromedp.Navigate("about:blank"),
			chromedp.Navigate(p.address), chromedp.WaitVisible(p.waits)); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		time.Sleep(700*time.Millisecond + p.late) // what is asked for comes
		if p.first != "" {
			if _, err := chromedp.Run(ctx, chromedp.Evaluate[bool](p.first+"; true")); err != nil {
				return fmt.Errorf("%s: %w", p.name, err)
			}
			time.Sleep(2 * time.Second)
		}
		png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(*folder, p.name+".png"), png, 0o600); err != nil {
			return err
		}
	}
	return nil
}

// storm is a batch about the storm that is under way.
func storm(ctx context.Context, c *client.Client) (id string, err error) {
	one, err := c.NewBatch(ctx, client.BatchWants{Name: "Sunday's storm", Template: "storm-cancels", AtAnyHour: true})
	if err != nil {
		return "", err
	}
	hint := client.ListHint{File: "storm-passengers.csv", At: -1}
	if _, err = c.AppendRows(ctx, one.ID, bytes.NewReader(scenario.StormList()), hint); err != nil {
		return "", err
	}
	if one, err = c.RehearseBatch(ctx, one.ID); err != nil {
		return "", err
	}
	for one.State == "checking" {
		time.Sleep(100 * time.Millisecond)
		if one, err = c.Batch(ctx, one.ID); err != nil {
			return "", err
		}
	}
	_, err = c.LaunchBatch(ctx, one.ID, client.Launch{Pace: "25/s", Scouts: "60", ScoutsAfter: "3s", ScoutsLeast: 0.5})
	return one.ID, err
}

// terminals takes pictures of commands, each in a terminal of its own.
func terminals(ctx context.Context, c *client.Client, key, data string) error {
	found, err := c.Find(ctx, client.Filter{Reference: "desk"}, "", 1)
	if err != nil {
		return err
	}
	prices := filepath.Join(data, "harbourline.csv")
	list, err := c.Prices(ctx, "harbourline")
	if err != nil {
		return err
	}
	for file, source := range map[string]string{
		prices: list.Source,
		filepath.Join(data, "storm-passengers.csv"): string(scenario.StormList()),
	} {
		if err := os.WriteFile(file, []byte(source), 0o600); err != nil {
			return err
		}
	}
	here, err := os.Getwd()
	if err != nil {
		return err
	}
	for _, one := range []struct {
		name          string
		columns, rows int
		waits         time.Duration
		commands      []string
	}{
		{"cli-send", 132, 32, 8 * time.Second, []string{
			`pigeon send +447700900123 "Crossing 0740 now leaves from berth 3" --wait`,
			`pigeon send +447700900180 "Crossing 0740 now leaves from berth 3" --wait; echo $?`,
			`pigeon send 07700900123 "Crossing 0740 now leaves from berth 3"; echo $?`,
			`pigeon message find --limit 3`,
		}},
		{"cli-message", 132, 30, 2 * time.Second, []string{"pigeon message show " + found.Items[0].ID[:13]}},
		{"cli-tally", 132, 52, 2 * time.Second, []string{"pigeon tally"}},
		{"cli-batch", 132, 60, 6 * time.Second, []string{`pigeon batch rehearse storm-passengers.csv --template storm-cancels`}},
		{"cli-weigh", 92, 36, 2 * time.Second, []string{
			`pigeon weigh "Don’t miss it: the 07:40 to Skerrow now leaves from berth 3 [gate B] – hurry…"` +
				` --to +447700900123,FR,IN,JP --prices harbourline.csv`,
		}},
		{"cli-example", 186, 80, 140 * time.Second, []string{`make example`}},
	} {
		if !strings.Contains(one.name, *only) {
			continue
		}
		log.Print(one.name)
		var script strings.Builder
		fmt.Fprintf(
			&script,
			"cd %s\nexport PIGEON_KEY=%s PATH=%s:$PATH LC_ALL=C.UTF-8\nprintf '\\e[?25l'\n",
			data,
			key,
			filepath.Join(here, filepath.Dir(*pigeon)),
		)
		for i, command := range one.commands {
			if i > 0 {
				script.WriteString("echo\n")
			}
			fmt.Fprintf(&script, "cat <<'E'\n$ %s\nE\n", command)
			if command == "make example" {
				command = "pigeon demo --example"
			}
			fmt.Fprintln(&script, command)
		}
		fmt.Fprintf(&script, "touch done\nsleep 60\n")
		file, done := filepath.Join(data, one.name+".sh"), filepath.Join(data, "done")
		os.Remove(done)
		if err := os.WriteFile(file, []byte(script.String()), 0o600); err != nil {
			return err
		}
		if err := terminal(ctx, one.name, file, done, one.columns, one.rows, one.waits); err != nil {
			return fmt.Errorf("%s: %w", one.name, err)
		}
	}
	return nil
}

// terminal runs a script in a terminal, and takes its picture once it is done.
func terminal(ctx context.Context, name, script, done string, columns, rows int, waits time.Duration) error {
	const display = ":77"
	screen := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", "1800x1400x24")
	if err := screen.Start(); err != nil {
		return fmt.Errorf("a screen: %w", err)
	}
	defer func() { screen.Process.Kill(); screen.Wait() }()
	time.Sleep(time.Second)
	// #nosec G204 -- of our own making
	window := exec.CommandContext(
		ctx,
		"xterm",
		"-display",
		display,
		"-fa",
		"DejaVu Sans Mono",
		"-fs",
		"10",
		"-b",
		"12",
		"-bw",
		"0",
		"-bg",
		"#FBFBF9",
		"-fg",
		"#1D2630",
		"-geometry",
		fmt.Sprintf("%dx%d+0+0", columns, rows),
		"-e",
		"bash",
		script,
	)
	if err := window.Start(); err != nil {
		return fmt.Errorf("a terminal: %w", err)
	}
	defer func() { window.Process.Kill(); window.Wait() }()
	for deadline := time.Now().Add(waits + 30*time.Second); ; time.Sleep(200 * time.Millisecond) {
		if _, err := os.Stat(done); err == nil {
			break
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("it does not end")
		}
	}
	time.Sleep(500 * time.Millisecond)
	file := filepath.Join(*folder, name+".png")
	// #nosec G204 -- of our own making
	take := exec.CommandContext(ctx, "import", "-display", display, "-window", "root", "-crop", "1800x1400+0+0", "+repage", file)
	if out, err := take.CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	// What is beyond the terminal is black; then what is empty in it.
	// #nosec G204 -- of our own making
	trim := exec.CommandContext(
		ctx,
		"convert",
		file,
		"-fuzz",
		"1%",
		"-trim",
		"+repage",
		"-bordercolor",
		"#FBFBF9",
		"-border",
		"1",
		"-trim",
		"+repage",
		"-bordercolor",
		"#FBFBF9",
		"-border",
		"16",
		file,
	)
	out, err := trim.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}
