package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

const (
	followWait   = client.Span("20s")
	followAnswer = 10 * time.Second
	followRead   = 1000
	// followAgain is how long it is waited before the service is asked again that did not answer.
	followAgain = time.Second
)

func (a *app) eventFollow() *cobra.Command {
	var to, like, secret string
	var types, kinds []string
	var labels map[string]string
	cmd := &cobra.Command{
		Use:   "follow",
		Short: "Bring events to an address of this machine, as they happen",
		Long: "For work on an application that the service cannot reach: what happens is fetched, and\n" +
			"brought to an address of this machine, signed as it will be. --like takes the choice and the\n" +
			"secret of a receiver; else a secret is made, and written at the start. What is not taken is\n" +
			"tried again, after growing pauses. Without --to it is only shown. Ctrl-C ends it.",
		Example: "  pigeon event follow --to http://127.0.0.1:3000/hook\n  pigeon event follow --like shop --to http://127.0.0.1:3000/hook\n" +
			"  pigeon event follow --type message.delivered --output json",
		Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			if u, err := url.Parse(to); to != "" && (err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
				return usagef("--to %q: accepted is http or https, a host and a path, such as http://127.0.0.1:3000/hook", to)
			}
			f := client.Following{Like: like, Types: types, Kinds: kinds, Labels: labels}
			if secret != "" {
				value, err := secretValue(secret)
				if err != nil {
					return usagef("--secret: %w", err)
				}
				f.Secret = &value
			}
			r, err := c.FollowEvents(cmd.Context(), f)
			if err != nil {
				return err
			}
			defer func() {
				ctx, cancel := context.WithTimeout(context.WithoutCancel(cmd.Context()), 3*time.Second)
				defer cancel()
				c.RemoveReceiver(ctx, r.Name) // else it is forgotten by itself in a minute
			}()
			if r.Secret != "" {
				fmt.Fprintf(cmd.ErrOrStderr(), "Signed with %s\n", r.Secret)
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "Following. Ctrl-C ends it.\n")
			return a.bringEvents(cmd, c, r.Name, to)
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&to, "to", "", "the address to which events are brought, such as http://127.0.0.1:3000/hook")
	flags.StringVar(&like, "like", "", "a receiver whose choice and secret are taken")
	flags.StringVar(&secret, "secret", "", "sign with this secret (whsec_…), @FILE or env:VARIABLE")
	flags.StringSliceVar(&types, "type", nil, "only of these types, with commas between; all if none is given")
	flags.StringSliceVar(&kinds, "kind", nil, "only about messages of these kinds: otp, transactional, bulk")
	flags.StringToStringVar(&labels, "label", nil, "only about messages with this label, NAME=VALUE")
	return cmd
}

// bringEvents fetches events and brings them to an address, until it is interrupted.
func (a *app) bringEvents(cmd *cobra.Command, c *client.Client, name, to string) error {
	ctx := cmd.Context()
	brings := &http.Client{
		Timeout:       followAnswer,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	var done []client.Delivered
	lost := false
	for {
		page, err := c.FetchEvents(ctx, name, done, followWait)
		var problem *client.Problem
		switch {
		case ctx.Err() != nil:
			return nil
		case errors.As(err, &problem) && problem.Status < http.StatusInternalServerError:
			return err
		case err != nil: // it comes back, or it is interrupted
			if !lost {
				fmt.Fprintf(cmd.ErrOrStderr(), "The service does not answer: %v. Trying again.\n", err)
			}
			lost = true
			select {
			case <-ctx.Done():
				return nil
			case <-time.After(followAgain):
			}
			continue
		}
		lost = false
		done = done[:0]
		failed := map[string]bool{} // subjects of which one was not taken: what comes after it waits for it
		for _, e := range page.Items {
			if failed[e.Subject] {
				continue
			}
			d := bring(ctx, brings, e, to)
			if ctx.Err() != nil {
				return nil
			}
			done = append(done, d)
			failed[e.Subject] = !d.Taken
			if err := a.sayBrought(cmd, e, d, to); err != nil {
				return err
			}
		}
	}
}

// bring makes the request that was made ready by the service.
func bring(ctx context.Context, c *http.Client, e client.SignedEvent, to string) client.Delivered {
	d := client.Delivered{ID: e.ID, Seq: e.Seq, Since: e.Since, Tries: e.Tries + 1}
	if to == "" {
		d.Taken, d.Status = true, http.StatusOK
		return d
	}
	began := time.Now()
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader([]byte(e.Body)))
	if err == nil {
		request.Header = e.Header
		var response *http.Response
		if response, err = c.Do(request); err == nil {
			defer response.Body.Close()
			answer, _ := io.ReadAll(io.LimitReader(response.Body, followRead))
			d.Status, d.Taken = response.StatusCode, response.StatusCode >= 200 && response.StatusCode < 300
			if !d.Taken {
				d.Error = fmt.Sprintf("it answered %d %s", d.Status, http.StatusText(d.Status))
				d.Answer = strings.ToValidUTF8(string(answer), "\uFFFD")
			}
		}
	}
	if d.TookMs = float64(time.Since(began).Microseconds()) / 1000; err != nil {
		d.Error = err.Error()
		var wrapped *url.Error
		if errors.As(err, &wrapped) {
			d.Error = wrapped.Err.Error()
		}
	}
	return d
}

// sayBrought says what came of one event.
func (a *app) sayBrought(cmd *cobra.Command, e client.SignedEvent, d client.Delivered, to string) error {
	if a.config.GetString("output") == "json" {
		_, err := fmt.Fprintln(cmd.OutOrStdout(), e.Body)
		return err
	}
	said := e.Subject
	if to != "" {
		said += fmt.Sprintf("  %d after %.1f ms", d.Status, d.TookMs)
		if !d.Taken {
			said = e.Subject + "  " + d.Error + ", tried again later"
		}
	}
	_, err := fmt.Fprintf(cmd.OutOrStdout(), "%s  %-22s %s\n", clock(time.Now()), e.Type, said)
	return err
}
