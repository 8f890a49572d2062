package e2e

import (
	"bufio"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"calmpigeon.example/client"
)

// demoRun is a running demo and what its welcome says.
type demoRun struct {
	cmd                  *exec.Cmd
	console, fleet, curl string
	key                  string
}

func startDemo(t *testing.T, data, fleetListen string, more ...string) *demoRun {
	t.Helper()
	d := &demoRun{cmd: exec.Command(pigeon, append([]string{"demo", "--data", data,
		"--listen", "127.0.0.1:0", "--fleet-listen", fleetListen}, more...)...)}
	out, err := d.cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	d.cmd.Stderr = os.Stderr
	if err := d.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.cmd.Process.Kill(); d.cmd.Wait() })
	var said strings.Builder
	for lines := bufio.NewScanner(out); lines.Scan(); {
		said.WriteString(lines.Text() + "\n")
		if strings.HasPrefix(lines.Text(), "Ctrl-C") {
			break
		}
	}
	found := regexp.MustCompile(`Console\s+(\S+)/#key=(\S+)\n\s+Practice phone\s+(\S+)/phone`).FindStringSubmatch(said.String())
	curl := regexp.MustCompile(`(?s)curl -s .*?\n\n`).FindString(said.String())
	if found == nil || curl == "" {
		t.Fatalf("the welcome is\n%s", said.String())
	}
	d.console, d.key, d.fleet, d.curl = found[1], found[2], found[3], curl
	return d
}

func alive(pid int) bool { return syscall.Kill(pid, 0) == nil }

// databasePID is the process of the demo's own PostgreSQL.
func databasePID(t *testing.T, data string) int {
	t.Helper()
	file := must[[]byte](t)(os.ReadFile(filepath.Join(data, "postgres", "postmaster.pid")))
	first, _, _ := strings.Cut(string(file), "\n")
	return must[int](t)(strconv.Atoi(first))
}

func TestDemoStopsWhatItStartedAndFindsItsData(t *testing.T) {
	t.Parallel()
	data := demoFolder(t)
	d := startDemo(t, data, "127.0.0.1:0")

	// The curl of the welcome, as it is pasted.
	out, err := exec.CommandContext(t.Context(), "bash", "-c", d.curl).CombinedOutput()
	if err != nil || !strings.Contains(string(out), `"state":"queued"`) {
		t.Errorf("the welcome's curl: %v %s", err, out)
	}
	d.signsIn(t)
	c := client.New(d.console, d.key)
	before := must[client.Tally](t)(c.Tally(t.Context(), client.Filter{}))
	if before.Total < 30 {
		t.Errorf("the demo data is %s", before.Equation)
	}

	// A second one in the same folder is refused, and disturbs nothing.
	args := []string{"demo", "--data", data, "--listen", "127.0.0.1:0", "--fleet-listen", "127.0.0.1:0"}
	second, err := exec.CommandContext(t.Context(), pigeon, args...).
		CombinedOutput()
	if err == nil || !strings.Contains(string(second), "is in use by another Calm Pigeon") {
		t.Errorf("a second demo: %v %s", err, second)
	}

	database := databasePID(t, data)
	d.cmd.Process.Signal(os.Interrupt)
	if err := d.cmd.Wait(); err != nil {
		t.Errorf("after Ctrl-C: %v", err)
	}
	if alive(database) {
		t.Error("the database is still there after Ctrl-C")
	}

	again := startDemo(t, data, strings.TrimPrefix(d.fleet, "http://"))
	c = client.New(again.console, again.key)
	if after := must[client.Tally](t)(c.Tally(t.Context(), client.Filter{})); after.Total != before.Total || again.key != d.key {
		t.Errorf("before %s, after %s, the key %s", before.Equation, after.Equation, again.key)
	}

	// Killed, it takes its database with it, and the next start goes on.
	database = databasePID(t, data)
	again.cmd.Process.Kill()
	again.cmd.Wait()
	eventually(t, "the database goes after a kill", func() bool { return !alive(database) })
	third := startDemo(t, data, strings.TrimPrefix(d.fleet, "http://"))
	m, err := client.New(third.console, third.key).Send(context.Background(), client.Draft{To: "+447700900123", Text: "still here"})
	if err != nil {
		t.Fatal(err)
	}
	last := func(now client.Message) bool { m = now; return true }
	if err := client.New(third.console, third.key).Follow(t.Context(), m.ID, last); err != nil ||
		m.State != "delivered" {
		t.Errorf("after the kill: %s, %v", m.State, err)
	}
}
