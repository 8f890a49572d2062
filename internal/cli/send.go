package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/span"
)

func (a *app) send() *cobra.Command {
	var d client.Draft
	var wait bool
	var patience time.Duration
	var idempotency, encoding, from string
	var dryRun bool
	var fields map[string]string
	cmd := &cobra.Command{
		Use:   "send NUMBER TEXT",
		Short: "Send one text",
		Long: "Sends one text to a number in international form, or, with --country, as it is\n" +
			"dialled there. With - for the text it is read from standard input; with\n" +
			"--template there is none.\n\n" +
			"--from FILE sends many: a JSON list, or an object a line, with the fields of the\n" +
			"API (to, text, sender, reference …); what the options say holds for those that do\n" +
			"not say otherwise. Each is by itself; it ends with 3 if some were refused. With\n" +
			"--idempotency-key it can be repeated, and sends nothing twice.\n\n" + exitHelp,
		Example: `  pigeon send +447700900123 "Crossing 0740 now leaves from berth 3" --wait
  date | pigeon send +447700900123 - --kind bulk
  pigeon send "07700 900123" --country GB --template crossing-moved \
      --field time=07:40 --field port=Skerrow --field berth=3 --dry-run
  pigeon send --from orders.jsonl --kind transactional --idempotency-key orders-2026-11-26`,
		Args: cobra.MaximumNArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			d.Fields = map[string]any{}
			for name, value := range fields {
				d.Fields[name] = value
			}
			switch {
			case from != "" && (len(args) > 0 || wait || dryRun):
				return usagef("--from takes what is sent from a file: no number, no text, and neither --wait nor --dry-run beside it")
			case from != "":
				return a.sendFrom(cmd, c, d, from, idempotency)
			case len(args) == 0:
				return usagef("expected: pigeon %s, or --from FILE", cmd.Use)
			}
			d.To = args[0]
			if len(args) > 1 {
				text, err := given(cmd, args[1], encoding)
				if err != nil {
					return err
				}
				d.Text = text
			}
			if len(args) < 2 && d.Template == "" {
				return usagef("requires a text, or --template")
			}
			if dryRun {
				w, err := c.Rehearse(cmd.Context(), d)
				if err != nil {
					return err
				}
				return a.printRehearsal(cmd, w)
			}
			if idempotency == "" {
				idempotency = uuid.NewString() // so that our own repetition is harmless
			}
			m, err := send(cmd.Context(), c, d, idempotency)
			if err != nil {
				return err
			}
			if m.Again {
				fmt.Fprintln(cmd.ErrOrStderr(), "Already sent: this key was used with the same message before. Nothing was sent now.")
			}
			if !wait {
				return a.printMessages(cmd, m, []client.Message{m})
			}
			return a.follow(cmd, c, m, patience)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&d.Sender, "sender", "", "who it comes from; the default sender if not given")
	f.StringVar(&d.Kind, "kind", "", "otp, transactional or bulk (default transactional)")
	f.StringVar(&d.Reference, "reference", "", "your own name for the message")
	f.StringVar(&d.Gateway, "gateway", "", "the gateway to use")
	f.Var(wireSpan{&d.ValidFor}, "valid-for", "how long the text is of use, such as 5m (default: by kind)")
	f.StringVar(&from, "from", "", "a file of messages, in JSON or JSON Lines; - is standard input")
	f.StringVar(&idempotency, "idempotency-key", "", "repeating a command with the same key sends nothing more")
	f.BoolVarP(&wait, "wait", "w", false, "follow the message until it is known what became of it")
	f.BoolVar(&dryRun, "dry-run", false, "make every check and show what would be sent; nothing is")
	f.StringVar(&d.Country, "country", "", "where the number is dialled, if it has no country code, such as GB")
	labelVar(f, &d.Labels)
	f.StringVar(&d.Template, "template", "", "a template in the place of a text")
	f.StringToStringVar(&fields, "field", nil, "what is put into the template, as NAME=VALUE; may be given several times")
	f.StringVar(&d.Language, "language", "", "whose text of the template is taken; by the country if not given")
	f.BoolVar(&d.Flash, "flash", false, "show it at once and do not keep it, where the gateway can")
	f.StringVar(&d.Cure, "cure", "", "how far characters may be replaced to save segments: off, safe or strong")
	f.StringVar(&d.SendAt, "at", "", "when it is to go: 2026-11-29T09:00:00Z, or 2026-11-29T09:00 by the recipient's clock")
	f.BoolVar(&d.AtAnyHour, "at-any-hour", false, "send a bulk text in quiet hours, too")
	f.StringVar(&d.ReportTo, "report-to", "", "tell what becomes of it at this address, below that of a receiver that lets messages name such")
	f.BoolVar(&d.Long, "long", false, "send it though it has ten segments or more")
	f.StringVar(&encoding, "encoding", "", "what a text from standard input is written in, such as windows-1252 (default utf-8)")
	spanVar(f, &patience, "timeout", 2*time.Minute, "how long to wait at most")
	return cmd
}

// send tries a few times when the service does not answer: the idempotency key
// makes that harmless.
func send(ctx context.Context, c *client.Client, d client.Draft, key string) (client.Message, error) {
	for try := 1; ; try++ {
		m, err := c.SendOnce(ctx, d, key)
		var problem *client.Problem
		if err == nil || try == 3 || ctx.Err() != nil || errors.As(err, &problem) && problem.Status < 500 {
			return m, err
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(try) * 300 * time.Millisecond):
		}
	}
}

// follow shows each change and ends with the code that matches the end.
func (a *app) follow(cmd *cobra.Command, c *client.Client, m client.Message, patience time.Duration) error {
	ctx, cancel := context.WithTimeout(cmd.Context(), patience)
	defer cancel()
	show := func(m client.Message) {
		if !onTerminal(os.Stderr) {
			return
		}
		line := fmt.Sprintf("%s  %s %-13s", clock(m.ChangedAt), shape(m.State), m.State)
		switch {
		case m.State == "queued" && m.Attempts > 0:
			line += fmt.Sprintf(" after attempt %d: %s", m.Attempts, m.Cause)
		case m.State == "queued":
			line += fmt.Sprintf(" %s to %s from %s, %s (%s)", m.ID, m.To, m.Sender, segments(m.Segments), m.Encoding)
		case m.State == "sending":
			line += " through " + m.Gateway
		case m.State == "accepted":
			line += fmt.Sprintf(" by %s as %s", m.Gateway, m.GatewayRef)
		case m.Cause != "":
			line += fmt.Sprintf(" %s. %s", m.Cause, m.Advice)
		}
		fmt.Fprintln(cmd.ErrOrStderr(), strings.TrimRight(line, " "))
	}
	show(m)
	last := m
	err := c.Follow(ctx, m.ID, func(now client.Message) bool {
		if now.State != last.State || now.Attempts != last.Attempts {
			show(now)
		}
		last = now
		return true
	})
	if err != nil && ctx.Err() == nil {
		return err
	}
	// Who has watched it on the terminal need not read it there again.
	if watched := onTerminal(os.Stderr) && onTerminal(os.Stdout); !watched || a.config.GetString("output") != "table" {
		if err := a.printMessages(cmd, last, []client.Message{last}); err != nil {
			return err
		}
	}
	switch {
	case last.State == "delivered":
		return nil
	case last.State == "unknown":
		return exit(exitUnknown)
	case last.Final:
		return exit(exitNotThere)
	}
	if cmd.Context().Err() != nil {
		fmt.Fprintf(
			cmd.ErrOrStderr(),
			"No longer waiting. The message is %s, and goes on without you: pigeon message show %s\n",
			last.State,
			last.ID,
		)
		return exit(exitTimeout)
	}
	fmt.Fprintf(
		cmd.ErrOrStderr(),
		"Still %s after %s. It goes on without you: pigeon message show %s\n",
		last.State,
		span.Words(patience),
		last.ID,
	)
	return exit(exitTimeout)
}

// printMessages prints messages as rows: one row, one state, one reason.
func (a *app) printMessages(cmd *cobra.Command, value any, messages []client.Message) error {
	csv := a.config.GetString("output") == "csv"
	s := grid{
		head: []string{"id", "state", "cause", "to", "text", "created", "sender", "gateway", "segments", "kind", "country", "gateway_ref",
			"reference", "template", "labels", "price"},
	}
	s.usual = s.head[:9]
	if csv {
		s.head = []string{
			"id",
			"created_at",
			"to",
			"sender",
			"kind",
			"state",
			"cause",
			"segments",
			"gateway",
			"gateway_ref",
			"reference",
			"text",
			"labels",
		}
	}
	for _, m := range messages {
		if csv {
			s.rows = append(s.rows, []string{m.ID, m.CreatedAt.Format(time.RFC3339Nano), m.To, m.Sender, m.Kind, m.State, m.Cause,
				fmt.Sprint(m.Segments), m.Gateway, m.GatewayRef, m.Reference, m.Text, labelWords(m.Labels)})
			continue
		}
		price := ""
		if m.Price != nil {
			price = m.Price.String()
		}
		s.rows = append(
			s.rows,
			[]string{m.ID, stateWord(m), m.Cause, m.To, flat(m.Text), strings.TrimSuffix(clock(m.CreatedAt.Truncate(time.Second)), ".000"),
				m.Sender, m.Gateway, fmt.Sprint(m.Segments), m.Kind, m.Country, m.GatewayRef, m.Reference, m.Template,
				labelWords(m.Labels), price},
		)
	}
	return a.printGrid(cmd, value, s)
}

// printRehearsal shows what would be sent.
func (a *app) printRehearsal(cmd *cobra.Command, w client.Weighing) error {
	if a.config.GetString("output") != "table" {
		return a.printCosts(cmd, w, "")
	}
	out := cmd.OutOrStdout()
	writeWeighing(out, w)
	for _, r := range w.Recipients {
		fmt.Fprintln(out)
		line := func(name, value string) {
			if value != "" {
				fmt.Fprintf(out, "  %-9s %s\n", name, value)
			}
		}
		line("to", strings.TrimSpace(r.Number.Display+"  "+r.Name+", "+strings.ReplaceAll(r.Number.Line, "_", " ")))
		line("", strings.Join(r.Number.Changes, ", "))
		line("from", r.Sender)
		line("through", r.Gateway)
		line("", r.Why)
		if r.Price != nil {
			line("price", r.Price.String())
		} else {
			line("price", "unknown: "+r.Gateway+" has no price for "+r.Name)
		}
		if d := r.Decision; d != nil {
			line("rule", d.Rule+": "+d.Verdict)
		}
		for _, warning := range r.Warnings {
			line("careful", warning.Say)
		}
	}
	fmt.Fprintln(cmd.ErrOrStderr(), "\nNothing was sent.")
	return nil
}
