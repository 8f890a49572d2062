package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/span"
)

func (a *app) message() *cobra.Command {
	return group(
		"message",
		"Look at messages",
		a.messageShow(),
		a.messageFind(),
		a.messageCancel(),
		a.messageHold(),
		a.messageRelease(),
		a.messageStop(),
		a.messageDecide(),
		a.messageChase(),
		a.messageInbound(),
	)
}

func (a *app) messageInbound() *cobra.Command {
	return &cobra.Command{Use: "inbound", Short: "List what people wrote to our senders, the newest first", Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			page, err := c.Inbound(cmd.Context(), "")
			if err != nil {
				return err
			}
			var rows [][]string
			for _, m := range page.Items {
				rows = append(rows, []string{clock(m.At), m.From, m.To, m.Gateway, flat(m.Text)})
			}
			return a.print(cmd, page, []string{"received", "from", "to", "gateway", "text"}, rows)
		})}
}

func (a *app) messageCancel() *cobra.Command {
	return a.decision("cancel", "Withdraw a message that still waits to be sent", "", (*client.Client).Cancel)
}

func (a *app) messageRelease() *cobra.Command {
	return a.decision("release", "Let a message go that waits for its time", "",
		func(c *client.Client, ctx context.Context, id string) (client.Message, error) {
			return c.SendAt(ctx, id, nil)
		})
}

func (a *app) messageHold() *cobra.Command {
	var until string
	cmd := a.decision("hold", "Change until when a message is held that waits for its time", "",
		func(c *client.Client, ctx context.Context, id string) (client.Message, error) {
			at, err := moment(until, time.Now())
			if err != nil {
				return client.Message{}, usagef("--until %q: %s", until, momentAccepted)
			}
			return c.SendAt(ctx, id, &at)
		})
	cmd.Flags().StringVar(&until, "until", "", "until when: 18:00, 2026-11-29 18:00 or 2026-11-29T18:00:00Z")
	cmd.MarkFlagRequired("until")
	return cmd
}

func (a *app) messageStop() *cobra.Command {
	return a.decision("stop", "Keep a message that may have gone from going again",
		"A message is in doubt when it was submitted and nobody knows whether the gateway took it.\n"+
			"Stopped, it becomes unknown by your decision: it is not submitted again, and not asked\n"+
			"about any more. What its gateway says of it later still counts.", (*client.Client).Stop)
}

// decision is a command that decides about one message.
func (a *app) decision(
	name, short, long string,
	decide func(*client.Client, context.Context, string) (client.Message, error),
) *cobra.Command {
	return &cobra.Command{
		Use:   name + " ID",
		Short: short,
		Long:  strings.TrimSpace(long + "\n\n" + pieceHelp),
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			m, err := decide(c, cmd.Context(), pieceOf(args[0]))
			if err != nil {
				return err
			}
			return a.printMessages(cmd, m, []client.Message{m})
		}),
	}
}

func (a *app) messageShow() *cobra.Command {
	var raw bool
	cmd := &cobra.Command{
		Use:   "show ID",
		Short: "Show what became of a message, and how it is known",
		Long: "Shows the message and its evidence in the order in which it was recorded: who\n" +
			"said it, the gateway's time and ours, what was claimed, and what that made of the\n" +
			"message. --raw adds what was sent and answered, secrets masked.\n\n" + pieceHelp,
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			m, err := c.Message(cmd.Context(), pieceOf(args[0]), raw)
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				writeMessage(cmd.OutOrStdout(), m)
			}
			head := []string{"at", "gateway_at", "source", "attempt", "claim", "state_after", "code", "cause", "note"}
			var rows [][]string
			for _, e := range m.Evidence {
				rows = append(
					rows,
					[]string{
						e.At.Format(time.RFC3339Nano),
						gatewayTime(e, time.RFC3339Nano),
						e.Source,
						fmt.Sprint(e.Attempt),
						e.Claim,
						e.StateAfter,
						e.Code,
						e.Cause,
						e.Note,
					},
				)
			}
			if a.config.GetString("output") == "table" {
				if m.HeldUntil != nil {
					fmt.Fprintf(cmd.OutOrStdout(), "Held until %s. Let it go: pigeon message release %s\n", a.at(*m.HeldUntil), m.ID)
				}
				writeTimeline(cmd.OutOrStdout(), m)
				for _, l := range m.Statements {
					fmt.Fprintln(cmd.OutOrStdout(), strings.TrimRight(statedWords(l), " "))
				}
				return nil
			}
			return a.print(cmd, m, head, rows)
		}),
	}
	cmd.Flags().BoolVar(&raw, "raw", false, "also show the raw exchanges")
	return cmd
}

const pieceHelp = "ID may be a start or an end of the id, of six digits or more, that no other has."

// pieceOf is an id as it was given, also as a table writes a start of one.
func pieceOf(given string) string { return strings.Trim(given, "…") }

func gatewayTime(e client.Evidence, layout string) string {
	if e.GatewayAt == nil {
		return ""
	}
	return e.GatewayAt.Local().Format(layout)
}

// writeMessage writes what a message is, a line a fact.
func writeMessage(w io.Writer, m client.Message) {
	state := stateWord(m)
	if m.Cause != "" {
		state += ", " + m.Cause
	}
	fmt.Fprintf(w, "%s\n", state)
	switch {
	case m.Decided:
		fmt.Fprintln(w, "Decided by a person. Take it back: pigeon message decide take_back "+m.ID)
	case m.Weak:
		fmt.Fprintln(w, "Weakly known: nothing names this message, and it can only be this one. Anything better takes its place.")
	}
	if m.Advice != "" {
		fmt.Fprintf(w, "%s\n", m.Advice)
	}
	if len(m.Rivals) > 1 {
		fmt.Fprintf(w, "Claims contradict each other: %s.\n", strings.Join(m.Rivals, " and "))
	}
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(w, "  %-10s %s\n", name, value)
		}
	}
	fmt.Fprintln(w)
	line("message", m.ID)
	line("text", strings.ReplaceAll(m.Text, "\n", "\n             "))
	line("from", m.Sender)
	line("to", m.To)
	line("kind", m.Kind)
	line("reference", m.Reference)
	line("labels", strings.ReplaceAll(labelWords(m.Labels), ",", ", "))
	if m.Batch != "" {
		line("batch", fmt.Sprintf("%s, row %d", brief(m.Batch), m.Row))
	}
	line("weight", fmt.Sprintf("%s, %d units of %s", segments(m.Segments), m.Units, m.Encoding))
	line("cost", costWords(m))
	line("gateway", strings.TrimSpace(m.Gateway+" "+m.GatewayRef))
	line("route", m.Route)
	line("valid", "until "+clock(m.ValidUntil))
	fmt.Fprintln(w)
}

// repeated tells of what was said again.
func repeated(n int) string {
	if n == 1 {
		return "Once something was said again, word for word, that is evidence already."
	}
	return fmt.Sprintf("%d times something was said again, word for word, that is evidence already.", n)
}

// wrapped breaks a text into lines of a width; where there is hardly any it stays as it
// is.
func wrapped(s string, width int) string {
	const least = 20
	if width < least {
		return s
	}
	return text.WrapSoft(s, width)
}

// writeTimeline writes the evidence as a ledger, raw exchanges in place.
func writeTimeline(w io.Writer, m client.Message) {
	defer func() {
		if m.Repeats > 0 {
			fmt.Fprintf(w, "\n%s\n", repeated(m.Repeats))
		}
	}()
	fmt.Fprintf(w, "%-13s %-13s %-9s %-3s %-15s %-15s %s\n", "our time", "gateway's", "source", "try", "claim", "state", "said")
	for _, e := range m.Evidence {
		claim, state := "", shape(e.StateAfter)+" "+e.StateAfter
		if e.Claim != "" {
			claim = shape(e.Claim) + " " + e.Claim
		}
		if e.Part > 0 {
			claim += fmt.Sprintf(" %d/%d", e.Part, e.Parts)
		}
		var said []string
		if e.Weak {
			said = append(said, "weak match")
		}
		if e.Withdrawn {
			said = append(said, "withdrawn")
		}
		billed := ""
		if e.Charge != nil {
			billed = "charged " + e.Charge.String()
		}
		for _, s := range []string{e.GatewayRef, e.Code, e.Cause, e.Note, billed} {
			if s != "" && !slices.Contains(said, s) {
				said = append(said, s)
			}
		}
		attempt := ""
		if e.Attempt > 0 {
			attempt = fmt.Sprint(e.Attempt)
		}
		before := fmt.Sprintf(
			"%-13s %-13s %-9s %-3s %-15s %-15s ",
			clock(e.At),
			gatewayTime(e, "15:04:05.000"),
			e.Source,
			attempt,
			claim,
			state,
		)
		for line := range strings.SplitSeq(wrapped(strings.Join(said, "  "), widthOf(w)-runewidth.StringWidth(before)), "\n") {
			fmt.Fprintln(w, strings.TrimRight(before+line, " "))
			before = strings.Repeat(" ", runewidth.StringWidth(before))
		}
		if e.Raw != nil {
			writeExchange(w, *e.Raw)
		}
	}
}

func writeExchange(w io.Writer, x client.Exchange) {
	put := func(mark, text string) {
		for line := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
			fmt.Fprintf(w, "    %s %s\n", mark, line)
		}
	}
	headers := func(mark string, header map[string]string) {
		names := make([]string, 0, len(header))
		for name := range header {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			put(mark, name+": "+header[name])
		}
	}
	to, from := ">", "<"
	if x.Purpose == "receipt" {
		to = "<" // it came to us
	}
	fmt.Fprintln(w)
	put(to, x.Method+" "+x.URL)
	headers(to, x.RequestHeader)
	if x.RequestBody != "" {
		put(to, "")
		put(to, pretty(x.RequestBody))
	}
	if x.Status > 0 {
		put(from, fmt.Sprintf("%d after %.1f ms", x.Status, x.TookMs))
		headers(from, x.ReplyHeader)
		if x.ReplyBody != "" {
			put(from, "")
			put(from, pretty(x.ReplyBody))
		}
	}
	if x.Error != "" {
		put("!", fmt.Sprintf("%s (after %.1f ms)", x.Error, x.TookMs))
	}
	fmt.Fprintln(w)
}

// pretty indents JSON; everything else stays as it came.
func pretty(body string) string {
	var value any
	if json.Unmarshal([]byte(body), &value) != nil {
		return body
	}
	var b strings.Builder
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if encoder.Encode(value) != nil {
		return body
	}
	return b.String()
}

// labelVar is the option by which labels are put on what is sent.
func labelVar(f *pflag.FlagSet, labels *map[string]string) {
	f.StringToStringVar(labels, "label", nil, "a label by which to tell these messages apart, as NAME=VALUE; may be given several times")
}

// labelWords writes labels as they are given.
func labelWords(labels map[string]string) string {
	var words []string
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		words = append(words, name+"="+labels[name])
	}
	return strings.Join(words, ",")
}

// filterFlags are the options by which messages are chosen.
type filterFlags struct {
	client.Filter
	since, until string
}

func (f *filterFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringVar(&f.To, "to", "", "only to this number")
	flags.StringSliceVar(&f.States, "state", nil, "only in these states, with commas between")
	flags.StringVar(&f.Kind, "kind", "", "only otp, transactional or bulk")
	flags.StringVar(&f.Sender, "sender", "", "only from this sender")
	flags.StringVar(&f.Gateway, "gateway", "", "only through this gateway")
	flags.StringVar(&f.Reference, "reference", "", "only with this reference of yours")
	flags.StringVar(&f.GatewayRef, "gateway-ref", "", "only with this id of the gateway's")
	flags.StringVar(&f.Country, "country", "", "only to numbers of this country (ISO 3166-1)")
	flags.StringVar(&f.Template, "template", "", "only of this template")
	flags.StringArrayVar(&f.Labels, "label", nil, "only with this label: NAME=VALUE, or NAME with any value; may be given several times")
	flags.StringVar(&f.Key, "sent-by", "", "only sent with the key of this id")
	flags.BoolVar(&f.Contested, "contested", false, "only those whose final claims contradict each other")
	flags.BoolVar(&f.Weak, "weak", false, "only those whose state rests on what names no message; not for tallies")
	flags.StringVar(&f.since, "since", "", "created at or after: a time (2026-11-15T07:40:00Z) or a span back from now (90m)")
	flags.StringVar(&f.until, "until", "", "created before: a time or a span back from now")
}

func (f *filterFlags) filter(now time.Time) (client.Filter, error) {
	for _, bound := range []struct {
		name, given string
		to          *time.Time
	}{{"since", f.since, &f.Since}, {"until", f.until, &f.Until}} {
		if bound.given == "" {
			continue
		}
		if back, err := span.Parse(bound.given); err == nil {
			*bound.to = now.Add(-back)
		} else if t, err := time.Parse(time.RFC3339, bound.given); err == nil {
			*bound.to = t
		} else {
			return f.Filter, usagef("--%s %q: accepted are a time such as 2026-11-15T07:40:00Z and a span back from now such as 90m", bound.name, bound.given)
		}
	}
	return f.Filter, nil
}

func (a *app) messageFind() *cobra.Command {
	var f filterFlags
	var limit int
	var cursor string
	cmd := &cobra.Command{
		Use:     "find",
		Short:   "List messages, the newest first",
		Example: "  pigeon message find --state undeliverable,rejected --since 24h\n  pigeon message find --to +447700900123 --output csv",
		Args:    cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			filter, err := f.filter(time.Now())
			if err != nil {
				return err
			}
			if err := listLimit(limit); err != nil {
				return err
			}
			page, err := c.Find(cmd.Context(), filter, cursor, limit)
			if err != nil {
				return err
			}
			if len(page.Items) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "No message is like that.")
				return nil
			}
			if err := a.printMessages(cmd, page, page.Items); err != nil {
				return err
			}
			if page.Next != "" && a.config.GetString("output") != "json" {
				fmt.Fprintf(cmd.ErrOrStderr(), "There are more: add --cursor %s\n", page.Next)
			}
			return nil
		}),
	}
	f.add(cmd)
	cmd.Flags().IntVar(&limit, "limit", 50, "how many at most, up to 500")
	cmd.Flags().StringVar(&cursor, "cursor", "", "go on where the page before ended")
	return cmd
}

func (a *app) tally() *cobra.Command {
	var f filterFlags
	cmd := &cobra.Command{
		Use:   "tally",
		Short: "Count messages by state; the count always adds up",
		Long: "Counts the chosen messages by state. Without any choice it counts all there are, and\n" +
			"says what wants a person; pigeon attention says that alone.",
		Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			filter, err := f.filter(time.Now())
			if err != nil {
				return err
			}
			t, err := c.Tally(cmd.Context(), filter)
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.OutOrStdout(), t.Equation)
				if t.Contested > 0 {
					fmt.Fprintf(cmd.OutOrStdout(), "%d of them contested: pigeon message find --contested\n", t.Contested)
				}
				if !filter.IsZero() {
					return nil
				}
				wants, err := c.Attention(cmd.Context())
				if err != nil {
					return err
				}
				fmt.Fprintln(cmd.OutOrStdout())
				writeNeeds(cmd.OutOrStdout(), wants.Items, time.Now())
				return nil
			}
			states := make([]string, 0, len(t.States))
			for s := range t.States {
				states = append(states, s)
			}
			slices.Sort(states)
			rows := [][]string{{"total", fmt.Sprint(t.Total)}}
			for _, s := range states {
				rows = append(rows, []string{s, fmt.Sprint(t.States[s])})
			}
			return a.print(cmd, t, []string{"state", "messages"}, rows)
		}),
	}
	f.add(cmd)
	return cmd
}

// costWords say what a message should cost, and what the gateway told.
func costWords(m client.Message) string {
	switch {
	case m.Price == nil && m.Charged == nil:
		return ""
	case m.Price == nil:
		return m.Charged.String() + " charged; no price is known here"
	case m.Charged == nil:
		return m.Price.String() + " by the price list"
	}
	return m.Price.String() + " by the price list, " + m.Charged.String() + " charged"
}
