package cli

import (
	"cmp"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) event() *cobra.Command {
	types := &cobra.Command{
		Use:   "types",
		Short: "List the types of events, and when one is told",
		Args:  cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := c.EventTypes(cmd.Context())
			if err != nil {
				return err
			}
			var rows [][]string
			for _, t := range all.Items {
				rows = append(rows, []string{t.Type, t.When})
			}
			return a.print(cmd, all, []string{"type", "when"}, rows)
		}),
	}
	return group("event", "Telling applications what happens, signed as Standard Webhooks says",
		a.eventList(), a.eventShow(), a.eventResend("resend", "Have a receiver told of events again",
			"Those that are named, or those that are chosen: events that were parked, about a message, of\n"+
				"a type. They are told under the same ids as before.",
			"  pigeon event resend --receiver shop 019abd5d-…\n  pigeon event resend --receiver shop --outcome parked"),
		a.eventResend(
			"replay",
			"Have a receiver told of all that happened in a span of time",
			"What happened is told in its order, also what the receiver was told before, under the same\n"+
				"ids, and what happened before it was added, as long as somebody was told. --since is needed.",
			"  pigeon event replay --receiver shop --since 2h --dry-run\n  pigeon event replay --receiver shop --since 2h --type message.delivered",
		),
		a.eventFollow(), types, a.receiver())
}

// eventFlags are the options by which events are chosen.
type eventFlags struct {
	client.EventFilter
	since, until string
}

func (f *eventFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.Receiver, "receiver", "", "the receiver that was told, or is to be")
	flags.StringVar(&f.Outcome, "outcome", "", "only where telling it came to this: waiting, told or parked")
	flags.StringSliceVar(&f.Types, "type", nil, "only of these types, with commas between; message.* is all that begin so")
	flags.StringVar(&f.Message, "message", "", "only about the message with this id")
	flags.StringVar(&f.since, "since", "", "from a time (2026-11-15T07:40:00Z) or a span back from now (90m)")
	flags.StringVar(&f.until, "until", "", "until a time or a span back from now")
}

func (f *eventFlags) filter(now time.Time) (client.EventFilter, error) {
	spans := filterFlags{since: f.since, until: f.until}
	times, err := spans.filter(now)
	f.Since, f.Until = times.Since, times.Until
	return f.EventFilter, err
}

func (a *app) eventList() *cobra.Command {
	var f eventFlags
	var limit int
	cmd := &cobra.Command{
		Use:     "list",
		Short:   "List what happened and who was told, the newest first",
		Long:    "What happens is kept if anybody is to be told of it, as long as raw exchanges.",
		Example: "  pigeon event list --receiver shop --outcome parked\n  pigeon event list --message 019abd5d-…",
		Args:    cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			if err := listLimit(limit); err != nil {
				return err
			}
			chosen, err := f.filter(time.Now())
			if err != nil {
				return err
			}
			page, err := c.Events(cmd.Context(), chosen, "", limit)
			if err != nil {
				return err
			}
			if len(page.Items) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(
					cmd.ErrOrStderr(),
					"There are no such events. They are kept from when there is a receiver: pigeon event receiver add, or pigeon event follow.",
				)
				return nil
			}
			var rows [][]string
			for _, e := range page.Items {
				rows = append(rows, a.tellingRows(e, f.Receiver)...)
			}
			err = a.print(cmd, page, tellingHead, rows)
			if err == nil && page.Next != "" && a.config.GetString("output") == "table" {
				fmt.Fprintln(
					cmd.ErrOrStderr(),
					"There are more. Ask for up to 500: --limit 500, or choose: --receiver, --outcome, --type, --since.",
				)
			}
			return err
		}),
	}
	f.add(cmd)
	cmd.Flags().IntVar(&limit, "limit", 50, "how many events, at most 500")
	return cmd
}

var tellingHead = []string{"id", "at", "type", "receiver", "outcome", "answer", "tries", "due", "about"}

// tellingRows are who was told of an event, or one of them.
func (a *app) tellingRows(e client.Event, receiver string) (rows [][]string) {
	for _, t := range e.Tellings {
		if receiver != "" && t.Receiver != receiver {
			continue
		}
		outcome := t.Outcome
		if a.config.GetString("output") == "table" {
			outcome = outcomeShape(outcome) + outcome
		}
		rows = append(
			rows,
			[]string{e.ID, a.at(e.At), e.Type, t.Receiver, outcome, answered(t), fmt.Sprint(t.Tries), a.due(t.DueAt), e.Subject},
		)
	}
	return rows
}

func outcomeShape(outcome string) string {
	switch outcome {
	case "told":
		return "● "
	case "parked":
		return "⊗ "
	}
	return "○ "
}

// answered is what a receiver answered, or why it did not.
func answered(t client.Telling) string {
	switch {
	case t.Outcome == "told":
		return fmt.Sprintf("%d after %.1f ms", t.Status, t.TookMs)
	case t.Tries == 0 && t.Error == "":
		return "not told yet"
	}
	return t.Error
}

// due is when something is due; empty if it is not.
func (a *app) due(at *time.Time) string {
	if at == nil {
		return ""
	}
	return a.at(*at)
}

func (a *app) eventShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show ID",
		Short: "Show one event: what is told, and who was",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			e, err := c.Event(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				return a.print(cmd, e, tellingHead, a.tellingRows(e, ""))
			}
			out := cmd.OutOrStdout()
			fmt.Fprintf(out, "%s at %s, about %s\n\n", e.Type, a.at(e.At), e.Subject)
			for _, t := range e.Tellings {
				fmt.Fprintf(
					out,
					"%s%s: %s, %s. %s%s\n",
					outcomeShape(t.Outcome),
					t.Receiver,
					t.Outcome,
					counted(t.Tries, "request"),
					answered(t),
					after(". It is told at ", a.due(t.DueAt)),
				)
				if t.Answer != "" {
					fmt.Fprintf(out, "    < %s\n", strings.ReplaceAll(strings.TrimSpace(t.Answer), "\n", "\n    < "))
				}
			}
			fmt.Fprintf(out, "\n%s", pretty(string(e.Body)))
			return nil
		}),
	}
}

func (a *app) eventResend(use, short, long, example string) *cobra.Command {
	var f eventFlags
	var dryRun bool
	cmd := &cobra.Command{
		Use: use, Short: short, Long: long, Example: example,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			chosen, err := f.filter(time.Now())
			if err != nil {
				return err
			}
			switch {
			case chosen.Receiver == "":
				return usagef("--receiver: accepted is the name of a receiver (pigeon event receiver list)")
			case use == "replay" && (chosen.Since.IsZero() || len(args) > 0):
				return usagef(
					"--since: accepted is from when on it is told again, such as 2h; events by their ids are for: pigeon event resend",
				)
			}
			r := client.Retelling{
				Receiver: chosen.Receiver,
				Events:   args,
				Outcome:  chosen.Outcome,
				Types:    chosen.Types,
				Message:  chosen.Message,
				DryRun:   dryRun,
			}
			if !chosen.Since.IsZero() {
				r.Since = &chosen.Since
			}
			if !chosen.Until.IsZero() {
				r.Until = &chosen.Until
			}
			done, err := c.Retell(cmd.Context(), r)
			if err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				return a.print(cmd, done, []string{"events"}, [][]string{{fmt.Sprint(done.Events)}})
			}
			verb := "is told again of"
			if dryRun {
				verb = "would be told again of"
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s %s %s.\n", chosen.Receiver, verb, counted(done.Events, "event"))
			return nil
		}),
	}
	if use == "resend" {
		cmd.Use += " [ID…]"
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say of how many, and tell nobody")
	return cmd
}

func (a *app) receiver() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List who is told of events, and how they fare", Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := c.Receivers(cmd.Context())
			if err != nil {
				return err
			}
			if len(all.Items) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(
					cmd.ErrOrStderr(),
					"Nobody is told. Add your application's address: pigeon event receiver add NAME --address URL",
				)
				return nil
			}
			return a.printReceivers(cmd, all, all.Items...)
		}),
	}
	show := &cobra.Command{
		Use: "show NAME", Short: "Show one receiver, without its secrets", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			r, err := c.Receiver(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				return a.printReceivers(cmd, r, r)
			}
			a.describeReceiver(cmd.OutOrStdout(), r)
			return nil
		}),
	}
	var why string
	pause := &cobra.Command{
		Use: "pause NAME", Short: "Tell a receiver nothing until it is resumed", Args: cobra.ExactArgs(1),
		Long: "What happens meanwhile waits, for a day; then it is parked, and can be told with: pigeon event resend",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			r, err := c.PauseReceiver(cmd.Context(), args[0], why)
			if err != nil {
				return err
			}
			return a.printReceivers(cmd, r, r)
		}),
	}
	pause.Flags().StringVar(&why, "why", "", "what others should know")
	resume := &cobra.Command{
		Use: "resume NAME", Short: "End a pause", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			r, err := c.ResumeReceiver(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printReceivers(cmd, r, r)
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a receiver, and what it was still to be told", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := c.RemoveReceiver(cmd.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s is told no more.\n", args[0])
			return nil
		}),
	}
	test := &cobra.Command{
		Use: "test NAME", Short: "Tell a receiver of nothing but that it is told, and show what it answers", Args: cobra.ExactArgs(1),
		Long: "Makes one request, from where the service runs, signed as all are, and shows the exact request\n" +
			"and the exact answer. It ends with 3 if the answer is not 2xx.",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			t, err := c.TestReceiver(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				writeExchange(cmd.OutOrStdout(), t.Exchange)
				said := "It takes events."
				if !t.Taken {
					said = "It takes no events: " + t.Wrong + "."
				}
				fmt.Fprintln(cmd.OutOrStdout(), said)
			} else if err := a.print(cmd, t, []string{"taken", "status", "took_ms", "wrong"},
				[][]string{{fmt.Sprint(t.Taken), fmt.Sprint(t.Exchange.Status), fmt.Sprint(t.Exchange.TookMs), t.Wrong}}); err != nil {
				return err
			}
			if !t.Taken {
				return exit(exitRefused)
			}
			return nil
		}),
	}
	return group(
		"receiver",
		"Addresses that are told of events",
		list,
		a.receiverAdd(),
		a.receiverSet(),
		show,
		test,
		a.receiverRotate(),
		pause,
		resume,
		remove,
	)
}

// receiverFlags are what is set of a receiver.
type receiverFlags struct {
	address, reports, timeout string
	types, kinds, keys        []string
	labels                    map[string]string
	atOnce                    int
}

func (f *receiverFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.address, "address", "", "where it is told: http or https")
	flags.StringSliceVar(
		&f.types,
		"type",
		nil,
		"only of these types, with commas between, such as message.delivered,batch.*; all if none is given",
	)
	flags.StringSliceVar(&f.kinds, "kind", nil, "only about messages of these kinds: otp, transactional, bulk")
	flags.StringToStringVar(&f.labels, "label", nil, "only about messages with this label, NAME=VALUE; may be given several times")
	flags.StringVar(
		&f.reports,
		"reports",
		"",
		"whether messages may name addresses below this one (--report-to): no, also, or only (it is told of no others)",
	)
	flags.StringSliceVar(&f.keys, "sent-by", nil, "only messages that are sent with these keys, by name, may name addresses")
	flags.IntVar(&f.atOnce, "at-once", 0, "how many requests may be on their way to it; 16 if it is not given")
	flags.StringVar(&f.timeout, "timeout", "", "how long it may take to answer, 1s to 30s; 10s if it is not given")
}

// settings are those options that were given.
func (f *receiverFlags) settings(cmd *cobra.Command) client.ReceiverSettings {
	timeout := client.Span(f.timeout)
	s := client.ReceiverSettings{Address: changed(cmd, "address", &f.address), Reports: changed(cmd, "reports", &f.reports),
		Types: changed(cmd, "type", &f.types), Kinds: changed(cmd, "kind", &f.kinds), Keys: changed(cmd, "sent-by", &f.keys),
		AtOnce: changed(cmd, "at-once", &f.atOnce), Timeout: changed(cmd, "timeout", &timeout)}
	if cmd.Flags().Changed("label") {
		s.Labels = f.labels
	}
	return s
}

// changed is the value of an option, nil if it was not given.
func changed[T any](cmd *cobra.Command, option string, value *T) *T {
	if !cmd.Flags().Changed(option) {
		return nil
	}
	return value
}

func (a *app) receiverAdd() *cobra.Command {
	var f receiverFlags
	var secret string
	cmd := &cobra.Command{
		Use:   "add NAME",
		Short: "Add an address that is told of events",
		Long: "Its secret, with which what it is told is signed, is written once: keep it where your\n" +
			"application checks signatures. docs/events.md shows how, in a few lines of Go, Node and Python.",
		Example: "  pigeon event receiver add shop --address https://shop.example.net/hooks/sms\n" +
			"  pigeon event receiver add codes --address https://app.example.net/hook --kind otp --type message.delivered,message.undeliverable",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s := f.settings(cmd)
			s.Name = args[0]
			if secret != "" {
				value, err := secretValue(secret)
				if err != nil {
					return usagef("--secret: %w", err)
				}
				s.Secret = &value
			}
			r, err := c.AddReceiver(cmd.Context(), s)
			if err != nil {
				return err
			}
			return a.printSecret(cmd, r, "See that it answers: pigeon event receiver test "+r.Name)
		}),
	}
	f.add(cmd)
	cmd.Flags().
		StringVar(&secret, "secret", "", "a secret that it has already (whsec_…), @FILE or env:VARIABLE; one is made if none is given")
	return cmd
}

func (a *app) receiverSet() *cobra.Command {
	var f receiverFlags
	cmd := &cobra.Command{
		Use:     "set NAME",
		Short:   "Change what is set of a receiver",
		Example: "  pigeon event receiver set shop --type message.*,batch.finished --at-once 4",
		Args:    cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			r, err := c.ChangeReceiver(cmd.Context(), args[0], f.settings(cmd))
			if err != nil {
				return err
			}
			return a.printReceivers(cmd, r, r)
		}),
	}
	f.add(cmd)
	return cmd
}

func (a *app) receiverRotate() *cobra.Command {
	var secret, overlap string
	cmd := &cobra.Command{
		Use:   "rotate NAME",
		Short: "Give a receiver a new secret",
		Long: "What it is told is signed with the new one and the one before, until the overlap is over: put\n" +
			"the new one into your application meanwhile. --overlap 0s ends the old one at once.",
		Example: "  pigeon event receiver rotate shop --overlap 48h",
		Args:    cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			value := ""
			if secret != "" {
				var err error
				if value, err = secretValue(secret); err != nil {
					return usagef("--secret: %w", err)
				}
			}
			r, err := c.RotateSecret(cmd.Context(), args[0], client.Rotation{Secret: value, Overlap: client.Span(overlap)})
			if err != nil {
				return err
			}
			next := "The one before is of no use any more."
			if len(r.Signing) > 1 {
				next = "What it is told is signed with the one before, too, until " + a.at(*r.Signing[1].Until) + "."
			}
			return a.printSecret(cmd, r, next)
		}),
	}
	cmd.Flags().StringVar(&secret, "secret", "", "the new secret (whsec_…), @FILE or env:VARIABLE; one is made if none is given")
	cmd.Flags().StringVar(&overlap, "overlap", "24h", "for how long the one before is in use, at most 720h")
	return cmd
}

// printSecret writes a new secret, and what to do next.
func (a *app) printSecret(cmd *cobra.Command, r client.Receiver, next string) error {
	if a.config.GetString("output") != "table" {
		return a.print(cmd, r, []string{"name", "secret"}, [][]string{{r.Name, r.Secret}})
	}
	fmt.Fprintln(cmd.OutOrStdout(), r.Secret)
	fmt.Fprintf(cmd.ErrOrStderr(), "This is the secret of %s. It is told this once.\n%s\n", r.Name, next)
	return nil
}

func (a *app) printReceivers(cmd *cobra.Command, value any, all ...client.Receiver) error {
	var rows [][]string
	for _, r := range all {
		rows = append(rows, []string{r.Name, r.State, r.Why, fmt.Sprint(r.Waiting), fmt.Sprint(r.Parked), a.due(r.ToldAt),
			cmp.Or(strings.Join(r.Types, ","), "all"), strings.Join(r.Kinds, ","), labelWords(r.Labels), r.Address})
	}
	return a.print(
		cmd,
		value,
		[]string{"name", "fares", "why", "waiting", "parked", "last told", "types", "kinds", "labels", "address"},
		rows,
	)
}

func (a *app) describeReceiver(out io.Writer, r client.Receiver) {
	reports := map[string]string{
		"also": "may name addresses below this one",
		"only": "may name addresses below this one; it is told of no others",
	}
	if len(r.Keys) > 0 && reports[r.Reports] != "" {
		reports[r.Reports] += ", if they are sent with the key " + strings.Join(r.Keys, ", ")
	}
	signing := counted(len(r.Signing), "secret")
	if len(r.Signing) > 1 {
		signing += ", the older one until " + a.due(r.Signing[1].Until)
	}
	for _, row := range [][]string{
		{"name", r.Name}, {"fares", r.State}, {"why", r.Why}, {"until", a.due(r.Until)}, {"last told", a.due(r.ToldAt)},
		{"waiting", counted(r.Waiting, "event") + after(", tried in vain: ", positive(r.Late))}, {"parked", positive(r.Parked)},
		{"address", cmp.Or(r.Address, "somebody follows: pigeon event follow")}, {"types", cmp.Or(strings.Join(r.Types, ", "), "all")},
		{"kinds", strings.Join(r.Kinds, ", ")}, {"labels", labelWords(r.Labels)}, {"messages", reports[r.Reports]}, {"signed with", signing},
		{"at once", counted(r.AtOnce, "request")}, {"may take", spanWords(r.Timeout)},
	} {
		if row[1] != "" {
			fmt.Fprintf(out, "%-12s %s\n", row[0], row[1])
		}
	}
}

// positive is a number, or nothing for none.
func positive(n int64) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}
