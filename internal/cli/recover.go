package cli

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/span"
)

func (a *app) recover() *cobra.Command {
	show := a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
		r, err := c.Recovery(cmd.Context())
		if err != nil {
			return err
		}
		return a.printRecovery(cmd, r)
	})
	cmd := &cobra.Command{
		Use:   "recover",
		Short: "Lead the service out of quarantine, after its database was restored or lost something",
		Long: "A service that finds its database restored, rewound, cloned or promoted goes into\n" +
			"quarantine: it takes receipts and answers what it knows, and sends nothing. What was\n" +
			"queued may have gone since the moment of the copy, and is doubtful. Without a\n" +
			"subcommand this shows where the recovery stands and what to do next:\n" +
			"  1. pigeon recover ask              gateways are asked what they took\n" +
			"  2. pigeon statement fetch GATEWAY  statements tell of the rest\n" +
			"  3. pigeon recover decide CHOICE    you decide about what nobody knows\n" +
			"  4. pigeon recover lift             messages go again",
		Args: cobra.NoArgs,
		RunE: show,
	}
	cmd.AddCommand(a.recoverAsk(), a.recoverDecide(), a.recoverLift())
	return cmd
}

var meansSaid = map[string]string{
	"honours_reference": "takes the same reference once: safe to send again",
	"by_reference":      "can be asked: pigeon recover ask",
	"by_statement":      "its statement tells: pigeon statement fetch",
	"not_at_all":        "cannot be asked: decide",
}

func (a *app) printRecovery(cmd *cobra.Command, r client.Recovery) error {
	head := []string{"kind", "gateway", "doubtful", "accepted from", "to", "how to know"}
	var rows [][]string
	for _, d := range r.Doubtful {
		rows = append(rows, []string{d.Kind, d.Gateway, fmt.Sprint(d.N), a.at(d.First), a.at(d.Last), meansSaid[d.Means]})
	}
	if a.config.GetString("output") != "table" {
		return a.print(cmd, r, head, rows)
	}
	out := cmd.OutOrStdout()
	switch {
	case r.Reason == "":
		fmt.Fprintln(out, "No quarantine: the database is as the service left it.")
		return nil
	case !r.Quarantine:
		fmt.Fprintf(
			out,
			"No quarantine. The last one began at %s (%s) and was lifted at %s by %s.\n",
			a.at(*r.Since),
			r.Why,
			a.at(*r.LiftedAt),
			r.LiftedBy,
		)
		return nil
	}
	fmt.Fprintf(out, "In quarantine since %s: %s.\n", a.at(*r.Since), r.Why)
	if r.Reaches != nil {
		fmt.Fprintf(out, "The database knows nothing after %s. What happened since is not in it.\n", a.at(*r.Reaches))
	}
	if !r.Prepared {
		fmt.Fprintln(out, "What was queued is still being made doubtful. Look again in a moment.")
		return nil
	}
	if len(rows) > 0 {
		fmt.Fprintln(out, "\nThese messages may have gone since:")
		if err := a.print(cmd, r, head, rows); err != nil {
			return err
		}
	} else {
		fmt.Fprintln(out, "\nNo message is doubtful.")
	}
	if len(r.Paused) > 0 {
		fmt.Fprintln(out, "\nThese batches are paused. Their rows that are no messages yet may have gone too:")
		for _, b := range r.Paused {
			fmt.Fprintf(out, "  %s  %s, %s\n", b.ID, b.Name, counted(b.Rows, "row"))
		}
		fmt.Fprintln(out, "  Resume or cancel each after the quarantine: pigeon batch resume|cancel ID")
	}
	if r.Unknown > 0 {
		fmt.Fprintf(out, "\nGateways tell of %s that the database does not know. Their senders have an answer, so do not ask\n"+
			"them to repeat requests: under their old Idempotency-Key they would be accepted, and go, once more.\n", counted(r.Unknown, "message"))
	}
	fmt.Fprintln(out, "\nAlso behind, if it is a copy: limits of passcodes and budgets count less than was sent, events may be told twice,")
	fmt.Fprintln(out, "and opt-outs, settings and keys of that time are missing.")
	fmt.Fprintf(out, "\nWhen it is lifted %s at once.\n", queuedGo(r.Queued))
	fmt.Fprintln(out, "Next: "+nextStep(r))
	return nil
}

func queuedGo(n int64) string {
	if n == 0 {
		return "no message goes"
	}
	return counted(n, "message") + " go"
}

// nextStep is what is to be done next.
func nextStep(r client.Recovery) string {
	for _, d := range r.Doubtful {
		if d.Means == "by_reference" && !r.Asking {
			return "pigeon recover ask"
		}
	}
	if len(r.Doubtful) > 0 {
		return "pigeon recover decide send|hold|cancel --kind KIND --gateway GATEWAY, then pigeon recover lift"
	}
	return "pigeon recover lift"
}

func (a *app) recoverAsk() *cobra.Command {
	var ask client.RecoveryAsk
	var wait time.Duration
	cmd := &cobra.Command{
		Use:   "ask",
		Short: "Ask gateways what they took",
		Long: "Asks all gateways that can be asked by our reference about all messages that are\n" +
			"doubtful, within their paces, and waits until they have answered. What a gateway\n" +
			"took counts as accepted; what it surely does not know is queued, and goes when the\n" +
			"quarantine is lifted; the rest stays doubtful.",
		Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			done, err := c.AskInRecovery(cmd.Context(), ask)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "Gateways are asked about %s.\n", counted(done.Asked, "message"))
			r, err := c.Recovery(cmd.Context())
			for began, last := time.Now(), int64(-1); err == nil && time.Since(began) < wait; r, err = c.Recovery(cmd.Context()) {
				left := int64(0)
				for _, d := range r.Doubtful {
					if d.Means == "by_reference" && (ask.Gateway == "" || d.Gateway == ask.Gateway) {
						left += d.N
					}
				}
				if left == 0 {
					break
				}
				if left != last {
					fmt.Fprintf(cmd.ErrOrStderr(), "%s still doubtful.\n", counted(left, "message"))
					last = left
				}
				select {
				case <-cmd.Context().Done():
					return cmd.Context().Err()
				case <-time.After(time.Second):
				}
			}
			if err != nil {
				return err
			}
			return a.printRecovery(cmd, r)
		}),
	}
	cmd.Flags().StringVar(&ask.Gateway, "gateway", "", "ask this one alone")
	cmd.Flags().DurationVar(&wait, "wait", time.Minute, "how long to wait for their answers")
	return cmd
}

func (a *app) recoverDecide() *cobra.Command {
	var d client.RecoveryDecision
	var older string
	cmd := &cobra.Command{
		Use:   "decide CHOICE",
		Short: "Decide about messages that may have gone",
		Long: "CHOICE is one of\n" +
			"  send     they go when the quarantine is lifted; whoever has them already gets them twice\n" +
			"  hold     they stay doubtful, and go again only where that is safe\n" +
			"  cancel   they do not go\n" +
			"Choose by kind, gateway and age. What is to be sent is chosen kind by kind.",
		Example: "  pigeon recover decide cancel --kind bulk --dry-run\n  pigeon recover decide send --kind transactional --gateway harbourline",
		Args:    cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			d.Choice = args[0]
			if older != "" {
				age, err := span.Parse(older)
				if err != nil || age < 0 {
					return usagef("--older %q: expected a span such as 30m or 2h", older)
				}
				before := time.Now().Add(-age)
				d.Before = &before
			}
			done, err := c.DecideInRecovery(cmd.Context(), d)
			if err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				return a.print(cmd, done, []string{"decided", "expired"}, [][]string{{fmt.Sprint(done.Decided), fmt.Sprint(done.Expired)}})
			}
			would := ""
			if done.DryRun {
				would = " (dry run: nothing was changed)"
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s: %s%s.\n", counted(done.Decided, "message"), d.Choice, would)
			if done.Expired > 0 {
				fmt.Fprintf(
					cmd.OutOrStdout(),
					"%s left doubtful: the time in which they are of use is over.\n",
					counted(done.Expired, "message"),
				)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&d.Kind, "kind", "", "otp, transactional or bulk")
	cmd.Flags().StringVar(&d.Gateway, "gateway", "", "that was to carry them")
	cmd.Flags().StringVar(&older, "older", "", "accepted longer ago than this, such as 2h")
	cmd.Flags().BoolVar(&d.DryRun, "dry-run", false, "count them and change nothing")
	return cmd
}

func (a *app) recoverLift() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:   "lift",
		Short: "End the quarantine: messages go again",
		Long: "Ends the quarantine. What is queued goes at once. What is still doubtful stays so, and\n" +
			"goes again only where that is safe. Asks first, unless --yes is given.",
		Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			r, err := c.Recovery(cmd.Context())
			if err != nil {
				return err
			}
			if r.Quarantine && !yes {
				doubtful := int64(0)
				for _, d := range r.Doubtful {
					doubtful += d.N
				}
				fmt.Fprintf(
					cmd.ErrOrStderr(),
					"%s at once, and %s stay doubtful. Lift the quarantine? Type yes: ",
					queuedGo(r.Queued),
					counted(doubtful, "message"),
				)
				answer, err := bufio.NewReader(io.LimitReader(cmd.InOrStdin(), 100)).ReadString('\n')
				if strings.TrimSpace(answer) != "yes" {
					return fmt.Errorf("not lifted: %w", firstOf(err, errNotYes))
				}
			}
			if r, err = c.LiftQuarantine(cmd.Context()); err != nil {
				return err
			}
			return a.printRecovery(cmd, r)
		}),
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

var errNotYes = usagef("the answer was not yes; in a script, give --yes")

func firstOf(errs ...error) error {
	for _, err := range errs {
		if err != nil && err != io.EOF {
			return err
		}
	}
	return nil
}
