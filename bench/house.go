package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/fleet/arrival"
	"calmpigeon.example/internal/postgres"
)

// house is a service over a fresh database, as in earnest: its own process, and
// a server that writes to disk before it answers.
type house struct {
	folder string
	server *postgres.Server
	db     *pgxpool.Pool
	cmd    *exec.Cmd
	log    *os.File
	URL    string
	Key    string
	Client *client.Client
	clean  []func()
	hold   context.Context
}

func build(ctx context.Context, s settings, flags ...string) (h *house, err error) {
	h = &house{}
	if err := h.build(ctx, s, flags...); err != nil {
		h.Close()
		return nil, err
	}
	return h, nil
}

func (h *house) build(ctx context.Context, s settings, flags ...string) error {
	folder, err := os.MkdirTemp("", "pigeon-bench-")
	if err != nil {
		return err
	}
	h.folder = folder
	if s.hold {
		h.hold = ctx
	}
	h.clean = append(h.clean, func() { os.RemoveAll(folder) })
	if err := os.Chmod(folder, 0o755); err != nil { // the server runs as another user
		return err
	}
	if h.server, err = postgres.Start(ctx, folder, postgres.Options{Packaged: s.packaged}); err != nil {
		return err
	}
	h.clean = append(h.clean, h.server.Stop)
	if h.db, err = pgxpool.New(ctx, h.server.URL); err != nil {
		return err
	}
	h.clean = append(h.clean, h.db.Close)
	if err := h.start(s, flags...); err != nil {
		return err
	}
	_, err = h.Client.AddSender(ctx, client.NewSender{Sender: "Lanternholm"})
	return err
}

// open builds a house with a gateway.
func open(ctx context.Context, s settings, source string, g *theGateway, flags ...string) (*house, error) {
	h, err := build(ctx, s, flags...)
	if err != nil {
		return nil, err
	}
	if err := h.gateway(ctx, source, g); err != nil {
		h.Close()
		return nil, err
	}
	return h, nil
}

// flood sends n texts, one a request, from 64 clients.
func (h *house) flood(n int) error {
	c := carrier()
	return many(n, 64, func(i int) error { return post(c, h.URL+"/v1/messages", h.Key, text(i, "bulk")) })
}

// reached waits until n messages are in a state.
func (h *house) reached(ctx context.Context, state string, n int) error {
	return until(ctx, 3*time.Minute, func() (bool, error) {
		done, err := h.inState(ctx, state)
		return done >= int64(n), err
	})
}

// start starts a service.
func (h *house) start(s settings, flags ...string) error {
	pigeon, err := filepath.Abs(s.pigeon)
	if err != nil {
		return err
	}
	if s.profile != "" {
		flags = append(flags, "--profile-at", profileAt)
	}
	h.cmd = exec.Command(
		pigeon,
		append([]string{"serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(h.folder, "data")}, flags...)...)
	h.cmd.Env = append(os.Environ(), "PIGEON_DATABASE_URL="+h.server.URL, "PIGEON_SEAL_KEY=cHJhY3RpY2UtcHJhY3RpY2UtcHJhY3RpY2UtcHJhY3Q=")
	if h.log == nil {
		if h.log, err = os.Create(filepath.Join(h.folder, "log")); err != nil {
			return err
		}
		h.clean = append(h.clean, func() { h.log.Close() })
	}
	out, err := h.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	h.cmd.Stderr = h.log
	if err := h.cmd.Start(); err != nil {
		return err
	}
	lines := bufio.NewScanner(out)
	at := ""
	for at == "" && lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if strings.HasPrefix(line, "pigeon_") {
			h.Key = line
		}
		if url, ok := strings.CutPrefix(line, "Calm Pigeon answers at "); ok {
			at = url
		}
	}
	if at == "" {
		return errors.New("the service did not come up: " + h.said())
	}
	go io.Copy(io.Discard, out)
	h.URL, h.Client = at, client.New(at, h.Key)
	return nil
}

func (h *house) said() string {
	said, _ := os.ReadFile(h.log.Name())
	return string(said[max(0, len(said)-4000):])
}

func (h *house) stop() {
	if h.cmd != nil && h.cmd.Process != nil {
		h.cmd.Process.Signal(os.Interrupt)
		h.cmd.Wait()
	}
}

// Close ends everything and leaves nothing behind.
func (h *house) Close() {
	if h.hold != nil && h.server != nil {
		fmt.Fprintf(os.Stderr, "%s\n%s\nCtrl-C goes on\n", h.server.URL, h.folder)
		<-h.hold.Done()
	}
	h.stop()
	for i := len(h.clean) - 1; i >= 0; i-- {
		h.clean[i]()
	}
}

// serve answers at a free port until the house is closed.
func (h *house) serve(handler http.Handler) (string, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	server := &http.Server{Handler: handler, ConnContext: arrival.Context}
	go server.Serve(arrival.Listener(listener))
	h.clean = append(h.clean, func() { server.Close() })
	return "http://" + listener.Addr().String(), nil
}

// carrier is an HTTP client for many requests at once.
func carrier() *http.Client {
	return &http.Client{Transport: &http.Transport{MaxIdleConns: 512, MaxIdleConnsPerHost: 256, IdleConnTimeout: time.Minute}}
}

// post makes one request whose answer must be of the 200s.
func post(c *http.Client, url, key, body string) error {
	request, err := http.NewRequest("POST", url, strings.NewReader(body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	if key != "" {
		request.Header.Set("Authorization", "Bearer "+key)
	}
	response, err := c.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	said, err := io.ReadAll(response.Body)
	if err == nil && response.StatusCode/100 != 2 {
		err = fmt.Errorf("answered %d: %s", response.StatusCode, said)
	}
	return err
}

// many runs do for each of n numbers, so many at once, and returns the first
// error.
func many(n, atOnce int, do func(i int) error) error {
	var all sync.WaitGroup
	next := make(chan int)
	failed := make(chan error, 1)
	for range atOnce {
		all.Go(func() {
			for i := range next {
				if err := do(i); err != nil {
					select {
					case failed <- err:
					default:
					}
				}
			}
		})
	}
	var err error
	for i := 0; i < n && err == nil; i++ {
		select {
		case next <- i:
		case err = <-failed:
		}
	}
	close(next)
	all.Wait()
	select {
	case err = <-failed:
	default:
	}
	return err
}

// until waits until something holds.
func until(ctx context.Context, within time.Duration, holds func() (bool, error)) error {
	deadline := time.Now().Add(within)
	for {
		ok, err := holds()
		if ok || err != nil {
			return err
		}
		if time.Now().After(deadline) {
			return errors.New("not within " + within.String())
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// inState counts the messages in a state, as the service tells.
func (h *house) inState(ctx context.Context, state string) (int64, error) {
	tally, err := h.Client.Tally(ctx, client.Filter{})
	return tally.States[state], err
}

// number is one that answers a query.
func (h *house) number(ctx context.Context, sql string, args ...any) (n float64, err error) {
	err = h.db.QueryRow(ctx, sql, args...).Scan(&n)
	return n, err
}
