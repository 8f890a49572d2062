package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) strays() *cobra.Command {
	return group(
		"stray",
		"Receipts that no message is known to match",
		a.strayList(),
		a.strayShow(),
		a.strayAttach(),
		a.strayDo(
			"discard",
			"Say that strays mean nothing to us",
			"They are kept, and nobody looks for their messages any more. One whose id becomes known\n"+
				"finds its message all the same. Undo: pigeon stray restore",
			"discarded",
			(*client.Client).DiscardStrays,
		),
		a.strayDo(
			"restore",
			"Take back what was done with strays",
			"They wait again, whether a person had settled them or they could only belong to one\n"+
				"message, and are not taken to belong to the messages that they had.",
			"waiting again",
			(*client.Client).RestoreStrays,
		),
	)
}

// strayFlags are the options by which strays are chosen.
func strayFlags(cmd *cobra.Command, f *client.StrayFilter, usual ...string) {
	flags := cmd.Flags()
	flags.StringSliceVar(&f.Fates, "fate", usual, "only waiting, weak, attached, discarded, with commas between")
	flags.StringVar(&f.Gateway, "gateway", "", "only from this gateway")
	flags.StringVar(&f.GatewayRef, "gateway-ref", "", "only under this id of the gateway's")
	flags.StringVar(&f.Number, "number", "", "only about this number")
	flags.StringVar(&f.Reason, "reason", "",
		"only for this reason: in_doubt, unknown_id, other_account, too_old, crowded, too_many or incomplete")
	flags.StringVar(&f.Message, "message", "", "only those that belong to this message")
}

func (a *app) strayList() *cobra.Command {
	var f client.StrayFilter
	var limit int
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List strays, the newest first, and say how many there are and why",
		Long: "A stray is a receipt that no message is known to match. It is looked for again as\n" +
			"messages become known. Where it can only belong to one message it is a weak match: it\n" +
			"settles doubt, gives way to anything better, and is never a reason to send again.\n" +
			"Those that wait and those matched weakly are listed, unless --fate says otherwise.",
		Example: "  pigeon stray list --gateway oldpier\n  pigeon stray list --fate discarded --output csv",
		Args:    cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			if err := listLimit(limit); err != nil {
				return err
			}
			page, err := c.Strays(cmd.Context(), f, "", limit)
			if err != nil {
				return err
			}
			if len(page.Items) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "There are no such strays: every receipt has found its message.")
				return nil
			}
			rows := make([][]string, len(page.Items))
			for i, t := range page.Items {
				rows[i] = []string{
					t.ID,
					a.at(t.At),
					t.Gateway,
					t.GatewayRef,
					t.Number,
					claimed(t),
					t.Fate,
					t.Reason,
					fmt.Sprint(t.Rivals),
					t.Message,
				}
			}
			if err := a.print(cmd, page, []string{"id", "came", "gateway", "gateway_ref", "number", "claims", "fate", "reason", "rivals", "message"},
				rows); err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				return nil
			}
			fmt.Fprintln(cmd.OutOrStdout())
			for _, n := range page.Counts {
				fmt.Fprintf(cmd.OutOrStdout(), "%s from %s %s%s\n", counted(n.Count, "stray"), n.Gateway, n.Fate, after(". ", n.Advice))
			}
			if page.Next != "" {
				fmt.Fprintf(cmd.ErrOrStderr(), "There are more. Ask for up to 500: --limit 500, or choose: --reason, --gateway.\n")
			}
			return nil
		}),
	}
	strayFlags(cmd, &f, "waiting", "weak")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many, at most 500")
	return cmd
}

// claimed is what a stray claims.
func claimed(t client.Stray) string {
	word := ""
	if t.Claim != "" {
		word = shape(t.Claim) + " " + t.Claim
	}
	if t.Part > 0 {
		word += fmt.Sprintf(" %d/%d", t.Part, t.Parts)
	}
	return word
}

// after is s, with something before it if there is any.
func after(between, s string) string {
	if s == "" {
		return ""
	}
	return between + s
}

func (a *app) strayShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show ID",
		Short: "Show a stray: the raw receipt, and the messages that are nearest to it",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			t, err := c.Stray(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			head := []string{"id", "to", "state", "try", "submitted", "until it came", "may be", "why not"}
			var rows [][]string
			for _, one := range t.Candidates {
				may := "no"
				if one.Fits {
					may = "yes"
				}
				rows = append(
					rows,
					[]string{one.Message, one.To, shape(one.State) + " " + one.State, fmt.Sprint(one.Attempt), a.at(one.BeganAt),
						fmt.Sprintf("%.1f s", one.After), may, whyNot(t, one)},
				)
			}
			if a.config.GetString("output") != "table" {
				return a.print(cmd, t, head, rows)
			}
			out := cmd.OutOrStdout()
			writeStray(out, a, t)
			if t.Raw != nil {
				writeExchange(out, *t.Raw)
			} else {
				fmt.Fprintln(out, "The raw receipt is not kept any more.")
			}
			if len(rows) == 0 {
				fmt.Fprintf(out, "Nothing is near to it among what went through %s.\n", t.Gateway)
				return nil
			}
			if err := a.print(cmd, t, head, rows); err != nil {
				return err
			}
			if t.Fate == "waiting" || t.Fate == "weak" {
				fmt.Fprintf(
					cmd.ErrOrStderr(),
					"\nIf you know better: pigeon stray attach %s --to MESSAGE --why \"…\", or pigeon stray discard %s\n",
					t.ID,
					t.ID,
				)
			}
			return nil
		}),
	}
}

// whyNot says why a stray does not belong to a candidate.
func whyNot(t client.Stray, one client.StrayCandidate) string {
	switch {
	case one.Fits:
		return ""
	case one.Settled:
		return "its end is known by name"
	case t.Number != "" && !one.SameNumber:
		return "another number"
	case one.GatewayRef != "":
		return "it is called " + one.GatewayRef
	}
	return "the time, or a decision"
}

func writeStray(w io.Writer, a *app, t client.Stray) {
	word := t.Fate
	if t.Message != "" {
		word += ", belongs to " + t.Message
	}
	fmt.Fprintln(w, word)
	if t.Advice != "" {
		fmt.Fprintln(w, t.Advice)
	}
	fmt.Fprintln(w)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(w, "  %-10s %s\n", name, value)
		}
	}
	line("stray", t.ID)
	line("came", a.at(t.At))
	line("gateway", strings.TrimSpace(t.Gateway+" "+t.GatewayRef))
	line("claims", strings.TrimSpace(claimed(t)+" "+t.Code+" "+t.Note))
	number := t.Number
	if number == "" && t.Written != "" {
		number = t.Written + ", which cannot be read"
	}
	line("number", number)
	line("reference", t.Reference)
	if t.GatewayAt != nil {
		line("its time", a.at(*t.GatewayAt))
	}
	if t.Asks > 0 {
		line("asked", counted(t.Asks, "time")+", and it knew: "+t.Answer)
	}
	if t.By != "" || t.Why != "" {
		line("settled", strings.TrimSpace(after("by ", t.By)+" "+t.Why))
	}
	if t.LookAt != nil {
		line("next look", a.at(*t.LookAt))
	}
}

func (a *app) strayAttach() *cobra.Command {
	var w client.StrayWish
	cmd := &cobra.Command{
		Use:   "attach STRAY…",
		Short: "Say that strays belong to a message",
		Long: "They become evidence about the last submission of the message through their gateway,\n" +
			"with your key's name and the reason. What comes later under the same id follows.\n" +
			"Undo: pigeon stray restore",
		Example: "  pigeon stray attach 019abd5e-… --to 019abd5d-… --why \"the gateway's list says so\"",
		Args:    cobra.MinimumNArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			w.Strays = args
			done, err := c.AttachStrays(cmd.Context(), w)
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				fmt.Fprintf(cmd.OutOrStdout(), "%s attached. See it: pigeon message show %s\n", counted(done.Strays, "stray"), w.Message)
				return nil
			}
			return a.print(cmd, done, []string{"strays"}, [][]string{{fmt.Sprint(done.Strays)}})
		}),
	}
	cmd.Flags().StringVar(&w.Message, "to", "", "the message that they belong to")
	cmd.Flags().StringVar(&w.Why, "why", "", "why, for whoever asks later")
	cmd.MarkFlagRequired("to")
	return cmd
}

// strayDo is a command that settles strays: those that are named, or all that are chosen.
func (a *app) strayDo(
	name, short, long, became string,
	do func(*client.Client, context.Context, client.StrayWish) (client.StraysDone, error),
) *cobra.Command {
	var f client.StrayFilter
	var why string
	var all, dryRun bool
	cmd := &cobra.Command{
		Use:     name + " [STRAY…]",
		Short:   short,
		Long:    long + "\n\nName them, or choose them with --all and the options of pigeon stray list.",
		Example: "  pigeon stray " + name + " --all --gateway oldpier --reason other_account --why \"the test account\"",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if (len(args) > 0) == all {
				return usagef("name strays, or choose them with --all")
			}
			ids := args
			if all {
				var err error
				if ids, err = a.chosenStrays(cmd.Context(), c, f); err != nil {
					return err
				}
			}
			n := 0
			for len(ids) > 0 && !dryRun {
				some := ids[:min(len(ids), 1000)]
				ids = ids[len(some):]
				done, err := do(c, cmd.Context(), client.StrayWish{Strays: some, Why: why})
				if err != nil {
					return err
				}
				n += done.Strays
			}
			if dryRun {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s would be %s. Nothing was changed.\n", counted(len(ids), "stray"), became)
				n = len(ids)
			} else if a.config.GetString("output") == "table" {
				fmt.Fprintf(cmd.OutOrStdout(), "%s %s.\n", counted(n, "stray"), became)
				return nil
			}
			return a.print(cmd, client.StraysDone{Strays: n}, []string{"strays"}, [][]string{{fmt.Sprint(n)}})
		}),
	}
	strayFlags(cmd, &f)
	cmd.Flags().BoolVar(&all, "all", false, "all that the other options choose")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "count them and change nothing")
	cmd.Flags().StringVar(&why, "why", "", "why, for whoever asks later")
	return cmd
}

// chosenStrays are the ids of those that options choose.
func (a *app) chosenStrays(ctx context.Context, c *client.Client, f client.StrayFilter) ([]string, error) {
	if len(f.Fates) == 0 && f.Gateway == "" && f.GatewayRef == "" && f.Number == "" && f.Reason == "" && f.Message == "" {
		return nil, usagef("--all needs one of --fate, --gateway, --gateway-ref, --number, --reason, --message")
	}
	var ids []string
	for cursor := ""; ; {
		page, err := c.Strays(ctx, f, cursor, 500)
		if err != nil {
			return nil, err
		}
		for _, t := range page.Items {
			ids = append(ids, t.ID)
		}
		if cursor = page.Next; cursor == "" {
			return ids, nil
		}
	}
}
