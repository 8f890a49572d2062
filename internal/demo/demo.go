// Package demo runs everything together with the scenario of Lanternholm
// Ferries, a made-up company with boats between made-up islands.
package demo

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/engine"
	"calmpigeon.example/internal/engine/setup"
	"calmpigeon.example/internal/fleet"
	"calmpigeon.example/internal/fleet/arrival"
	"calmpigeon.example/internal/service"
)

// Options are what may differ from one demo to another.
type Options struct {
	Service     service.Options
	FleetListen string
	Seed        uint64
	Out         io.Writer
}

// gatewaySpans are how patient the demo is with its gateway: seconds, where in
// earnest it would be hours.
type gatewaySpans struct{ timeout, askAfter, giveUp client.Span }

// Run keeps everything up until ctx ends.
func Run(ctx context.Context, o Options) error {
	started := time.Now()
	fmt.Fprintln(o.Out, "Starting the practice fleet, the database and the service …")
	return together(ctx, o, func(ctx context.Context, at places) error {
		c, key, err := signIn(ctx, o, at)
		if err != nil {
			return err
		}
		fmt.Fprintln(o.Out, "Loading gateways, senders, templates and prices …")
		if err := load(ctx, c, at, gatewaySpans{timeout: "5s", askAfter: "3s", giveUp: "2m"}); err != nil {
			return fmt.Errorf("loading the demo data: %w", err)
		}
		played, err := isPlayed(ctx, c)
		if err == nil && !played {
			fmt.Fprintln(o.Out, "Writing what happened in the last weeks …")
			_, err = writeHistory(ctx, at.engine, at.engine.Now())
			at.engine.Arrivals.Forget() // whoever asked meanwhile was told of a part of it
		}
		if err != nil {
			return fmt.Errorf("writing the past: %w", err)
		}
		if !played {
			fmt.Fprintln(o.Out, "Playing the scenario: crossings move, passengers sign in, a storm comes …")
		}
		fresh, err := play(ctx, c, at)
		if err != nil {
			return fmt.Errorf("playing the scenario: %w", err)
		}
		if fresh {
			if err := flood(ctx, c, at, io.Discard); err != nil {
				return fmt.Errorf("playing a flood of codes: %w", err)
			}
			go func() {
				if err := holdBill(ctx, c, o, at); err != nil && ctx.Err() == nil {
					o.Service.Log.Error("holding the bill against the messages", "error", err)
				}
			}()
			go func() {
				if err := writeBack(ctx, c, at); err != nil && ctx.Err() == nil {
					o.Service.Log.Error("writing back from a practice phone", "error", err)
				}
			}()
		}
		secrets, err := writeSecrets(o)
		if err != nil {
			return err
		}
		list, err := writeStorm(o)
		if err != nil {
			return err
		}
		welcome(o.Out, at, key, secrets, billFile(o), list, fresh, time.Since(started))
		<-ctx.Done()
		fmt.Fprintln(o.Out, "\nStopping: what is in flight is recorded first.")
		return nil
	})
}

// places are where things are to be found.
type places struct {
	service, fleet string
	ships          *fleet.Fleet
	engine         *engine.Engine
	gangway        *gangway
}

// quiet is how long nothing may have been heard before strays are judged: whoever looks on does not wait
// for a minute.
const quiet = 3 * time.Second

// together runs service and fleet while do runs, and stops them after it.
func together(ctx context.Context, o Options, do func(context.Context, places) error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	listener, err := net.Listen("tcp", o.FleetListen)
	if err != nil {
		return fmt.Errorf(
			"starting the practice fleet: %w. Is another demo running? Give this one a place of its own with --fleet-listen and --data",
			err,
		)
	}
	at := places{fleet: "http://" + listener.Addr().String()}
	// The fleet outlives the service, which may still want answers.
	sailing, dock := context.WithCancel(context.Background())
	defer dock()
	ships := fleet.New(sailing, o.Seed, o.Service.Log)
	at.ships = ships
	at.gangway = &gangway{}
	mux := http.NewServeMux()
	mux.Handle("/", ships.Handler())
	mux.Handle("/boarding/", at.gangway.Handler())
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, ConnContext: arrival.Context}
	defer server.Close()
	go server.Serve(arrival.Listener(listener))

	o.Service.PhoneURL = at.fleet + "/phone"
	o.Service.StrayQuiet = min(o.Service.StrayQuiet, quiet)
	o.Service.ShowFirstKey = func(key string) error { return os.WriteFile(keyFile(o), []byte(key), 0o600) }
	o.Service.Opened = func(e *engine.Engine) { at.engine = e }
	done := make(chan error, 1)
	ended := service.Run(ctx, o.Service, func(url string) {
		at.service = url
		go func() {
			done <- do(ctx, at)
			stop()
		}()
	})
	if at.service == "" {
		return ended
	}
	stop()
	return errors.Join(<-done, ended)
}

// keyFile is where the demo keeps its key, because a demo is there to be tried
// again.
func keyFile(o Options) string { return filepath.Join(o.Service.Data, "demo-key") }

// writeSecrets writes the secrets of the practice fleet as a shell reads them, named
// as in an exported set-up, so that its gateways can be added and set-ups be taken
// in elsewhere.
func writeSecrets(o Options) (file string, err error) {
	file = filepath.Join(o.Service.Data, "practice-secrets.env")
	var all strings.Builder
	all.WriteString("# Secrets of the practice fleet, which are no secrets. In a shell: source this file.\n")
	for _, b := range fleet.Berths() {
		for _, name := range slices.Sorted(maps.Keys(b.Secrets)) {
			fmt.Fprintf(&all, "export %s='%s'\n", strings.Trim(setup.Placeholder(b.Dialect, name), "${}"), b.Secrets[name])
		}
	}
	for _, name := range []string{"key", "secret"} {
		fmt.Fprintf(&all, "export %s='%s'\n", strings.Trim(setup.Placeholder(swapped, name), "${}"), swappedSecrets()[name])
	}
	return file, os.WriteFile(file, []byte(all.String()), 0o600)
}

// swappedSecrets are key and secret of a gateway, the one in the place of the other,
// as happens.
func swappedSecrets() map[string]string {
	return map[string]string{"key": fleet.OldpierSecret, "secret": fleet.OldpierKey}
}

// signIn takes the demo's key.
func signIn(ctx context.Context, o Options, at places) (*client.Client, string, error) {
	file := keyFile(o)
	kept, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, "", fmt.Errorf(
			"this database has API keys already, but the demo's own is not in %s: give the demo a database and a data folder of its own",
			file,
		)
	}
	if err != nil {
		return nil, "", err
	}
	key := strings.TrimSpace(string(kept))
	c := client.New(at.service, key)
	if _, err := c.Senders(ctx); err != nil {
		return nil, "", fmt.Errorf("the demo's key in %s is not accepted: %w", file, err)
	}
	at.gangway.pigeon.Store(c)
	return c, key, nil
}

// load puts in what is missing of the demo data, so that a start that was cut
// short is made good by the next.
func load(ctx context.Context, c *client.Client, at places, spans gatewaySpans) error {
	there, err := c.Senders(ctx)
	if err != nil {
		return err
	}
	have := map[string]client.Sender{}
	for _, s := range there {
		have[s.Sender] = s
	}
	for _, s := range senders {
		// What an earlier version put in knew no registrations.
		if now, ok := have[s.Sender]; !ok || len(now.Registrations) == 0 {
			if _, err := c.PutSender(ctx, s); err != nil {
				return err
			}
		}
	}
	if err := loadGateways(ctx, c, at, spans); err != nil {
		return err
	}
	if err := loadFiles(ctx, c); err != nil {
		return err
	}
	known, err := c.Routes(ctx)
	if err == nil && len(known.Items) == 0 {
		_, err = c.PutRoutes(ctx, routes)
	}
	return err
}

// isPlayed reports whether all of the scenario was sent.
func isPlayed(ctx context.Context, c *client.Client) (bool, error) {
	all, err := c.Tally(ctx, client.Filter{})
	if err != nil {
		return false, err
	}
	before, err := c.Tally(ctx, client.Filter{Labels: []string{historyFilter}})
	return all.Total-before.Total >= int64(len(scenario)), err
}

// play sends what of the scenario was not sent yet, and reports whether anything was.
func play(ctx context.Context, c *client.Client, at places) (fresh bool, err error) {
	if played, err := isPlayed(ctx, c); err != nil || played {
		return false, err
	}
	if err := loadReceivers(ctx, c, at); err != nil {
		return false, err
	}
	if err := shareAccount(ctx, at); err != nil {
		return false, err
	}
	for _, act := range scenario {
		if _, err := c.SendOnce(ctx, act.Draft, act.token()); err != nil {
			return false, err
		}
	}
	return true, nil
}

// loadReceivers adds the applications of the ferries that are told of what happens: one of them is closed.
func loadReceivers(ctx context.Context, c *client.Client, at places) error {
	there, err := c.Receivers(ctx)
	if err != nil {
		return err
	}
	secret := fleet.AppSecret
	booking, kiosk := at.fleet+"/apps/booking/events", at.fleet+"/apps/kiosk/events"
	for _, s := range []client.ReceiverSettings{
		{Name: "booking", Address: &booking, Secret: &secret},
		{Name: "kiosk", Address: &kiosk, Secret: &secret, Kinds: &[]string{"otp"}, Types: &[]string{"message.delivered"}},
	} {
		if slices.ContainsFunc(there.Items, func(r client.Receiver) bool { return r.Name == s.Name }) {
			continue
		}
		if _, err := c.AddReceiver(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// writer is a passenger who answers, to a number of the ferries.
const writer, writtenTo = "+447700900158", "+447700900000"

// writeBack answers from a practice phone, once what was sent to it has arrived.
func writeBack(ctx context.Context, c *client.Client, at places) error {
	for arrived := false; !arrived; {
		found, err := c.Find(ctx, client.Filter{To: writer, Sender: writtenTo, States: []string{"delivered"}}, "", 1)
		if err != nil {
			return err
		}
		if arrived = len(found.Items) > 0; !arrived {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(500 * time.Millisecond):
			}
		}
	}
	for _, text := range []string{"Is there room for a wheelchair at berth 3?", "We are two, and a dog"} {
		body, err := json.Marshal(map[string]string{"text": text})
		if err != nil {
			return err
		}
		request, err := http.NewRequestWithContext(ctx, http.MethodPost, at.fleet+"/phones/"+writer+"/reply", bytes.NewReader(body))
		if err != nil {
			return err
		}
		response, err := http.DefaultClient.Do(request)
		if err != nil {
			return fmt.Errorf("speaking to the practice fleet: %w", err)
		}
		response.Body.Close()
		if response.StatusCode != http.StatusNoContent {
			return fmt.Errorf("the practice fleet answered %s", response.Status)
		}
	}
	return nil
}

// shareAccount lets somebody else use the account at a practice gateway, too: receipts of theirs come to us.
func shareAccount(ctx context.Context, at places) error {
	const moods = `[{"gateway": "oldpier", "how": "receipt of somebody else", "times": 1}]`
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, at.fleet+"/misbehave", strings.NewReader(moods))
	if err != nil {
		return err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return fmt.Errorf("speaking to the practice fleet: %w", err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusNoContent {
		return fmt.Errorf("the practice fleet answered %s", response.Status)
	}
	return nil
}

// stated is the gateway whose statement is fetched each day.
const stated = "waxseal"

// loadGateways adds the gateways of the practice fleet that are missing, and one
// more whose key and secret were given the wrong way round.
func loadGateways(ctx context.Context, c *client.Client, at places, spans gatewaySpans) error {
	there, err := c.Gateways(ctx)
	if err != nil {
		return err
	}
	have := map[string]client.Gateway{}
	for _, g := range there {
		have[g.Name] = g
	}
	berths := fleet.Berths()
	for _, b := range berths {
		if g, ok := have[b.Dialect]; ok {
			if want := at.fleet + b.Path; g.Address != want {
				return fmt.Errorf(
					"the demo's gateway %s is at %s, the practice fleet now at %s: start with --fleet-listen as before, or with a fresh --data",
					g.Name,
					g.Address,
					want,
				)
			}
			continue
		}
		every := ""
		if b.Dialect == stated {
			every = "24h"
		}
		if _, err := c.AddGateway(ctx, client.NewGateway{StatementEvery: every, Dialect: b.Dialect,
			Address: at.fleet + b.Path, Secrets: b.Secrets, Senders: b.Senders, Currency: "EUR", LowBalance: "25",
			Timeout: spans.timeout, AskAfter: spans.askAfter, GiveUpAfter: spans.giveUp}); err != nil {
			return err
		}
	}
	if _, ok := have[swapped]; !ok {
		_, err = c.AddGateway(
			ctx,
			client.NewGateway{
				Name:        swapped,
				Dialect:     "oldpier",
				Address:     at.fleet + "/oldpier",
				Secrets:     swappedSecrets(),
				Timeout:     spans.timeout,
				AskAfter:    spans.askAfter,
				GiveUpAfter: spans.giveUp,
			},
		)
	}
	return err
}

func welcome(w io.Writer, at places, key, secrets, bill, list string, fresh bool, took time.Duration) {
	data := "Its data is as you left it."
	if fresh {
		data = fmt.Sprintf("%d messages of Lanternholm Ferries are on their way.", len(scenario))
	}
	fmt.Fprintf(w, `
Calm Pigeon is up after %.1f s. %s

  Console         %s/#key=%s
  Practice phone  %s/phone
  Endings         %s/endings   what a number's last two digits do
  Boarding pass   %s/boarding/   a sign-in with passcodes, as an application has it
  Secrets         %s   of the practice gateways, to add them elsewhere
  A bill          %s   in half a minute; it is wrong in every way once

Send a text, and see it arrive on the practice phone:

  curl -s %s/v1/messages \
    -H "Authorization: Bearer %s" -H "Content-Type: application/json" \
    -d '{"to": "+447700900123", "text": "Crossing 0740 now leaves from berth 3"}'

  export PIGEON_URL=%s PIGEON_KEY=%s
  bin/pigeon send +447700900123 "Crossing 0740 now leaves from berth 3" --wait

Or to everyone whom Sunday's storm concerns, and see first what that would be:

  bin/pigeon batch rehearse %s --template storm-cancels

Ctrl-C stops it; the next start finds its data again.
`, took.Seconds(), data, at.service, key, at.fleet, at.fleet, at.fleet, secrets, bill, at.service, key, at.service, key, list)
}
