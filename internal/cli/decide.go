package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

// decideMost is about how many messages is decided in one request.
const decideMost = 1000

func (a *app) messageDecide() *cobra.Command {
	var f filterFlags
	var d client.MessageDecision
	var all bool
	cmd := &cobra.Command{
		Use:   "decide DECISION [ID…]",
		Short: "Decide about messages of which nobody knows the end, or two are claimed",
		Long: "DECISION is one of\n" +
			"  delivered    it reached the handset after all\n" +
			"  failed       it did not\n" +
			"  not_sent     no gateway took it\n" +
			"  send_again   it goes once more, whatever became of it\n" +
			"  leave        it stays as it is, and wants nobody any more\n" +
			"  take_back    the last decision counts no more\n" +
			"A decision is evidence, with your key's name and the reason. What is claimed later, and\n" +
			"was not known, makes the message contested. Name messages by their whole ids, or\n" +
			"choose them with --all and the options of pigeon message find. It ends with 3 if\n" +
			"nothing could be decided about some.",
		Example: "  pigeon message decide delivered 019abd5d-… --why \"the passenger showed it\"\n" +
			"  pigeon message decide leave --all --state unknown --gateway oldpier --dry-run",
		Args: cobra.MinimumNArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			d.Decision = args[0]
			ids := args[1:]
			ids, err := chosenMessages(cmd.Context(), c, ids, all, &f)
			if err != nil {
				return err
			}
			done := client.Decided{Refused: []client.MessageRefused{}, DryRun: d.DryRun}
			for len(ids) > 0 {
				d.Messages = ids[:min(len(ids), decideMost)]
				ids = ids[len(d.Messages):]
				some, err := c.Decide(cmd.Context(), d)
				if err != nil {
					return err
				}
				done.Decided += some.Decided
				done.Refused = append(done.Refused, some.Refused...)
			}
			if err := a.printDecided(cmd, d.Decision, done); err != nil {
				return err
			}
			if len(done.Refused) > 0 {
				return exit(exitRefused)
			}
			return nil
		}),
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&all, "all", false, "all that the other options choose")
	cmd.Flags().BoolVar(&d.DryRun, "dry-run", false, "make every check and change nothing")
	cmd.Flags().StringVar(&d.Why, "why", "", "why, for whoever asks later")
	return cmd
}

// chosenMessages are the messages that are named, or all that options choose.
func chosenMessages(ctx context.Context, c *client.Client, named []string, all bool, f *filterFlags) ([]string, error) {
	if (len(named) > 0) == all {
		return nil, usagef("name messages by their whole ids, or choose them with --all")
	}
	if !all {
		return named, nil
	}
	filter, err := f.filter(time.Now())
	if err != nil {
		return nil, err
	}
	if len(filter.States) == 0 && !filter.Contested && !filter.Weak {
		return nil, usagef("--all needs --state, --contested or --weak: which of them are meant")
	}
	var ids []string
	for cursor := ""; ; {
		page, err := c.Find(ctx, filter, cursor, 500)
		if err != nil {
			return nil, err
		}
		for _, m := range page.Items {
			ids = append(ids, m.ID)
		}
		if cursor = page.Next; cursor == "" {
			return ids, nil
		}
	}
}

// tellRefused says with which messages something was not done.
func tellRefused(cmd *cobra.Command, refused []client.MessageRefused) {
	const shown = 20
	for i, r := range refused {
		if i == shown {
			fmt.Fprintf(cmd.ErrOrStderr(), "… and %d more\n", len(refused)-shown)
			break
		}
		fmt.Fprintf(cmd.ErrOrStderr(), "Not %s: %s.\n", r.Message, r.Why)
	}
}

func (a *app) printDecided(cmd *cobra.Command, decision string, done client.Decided) error {
	if a.config.GetString("output") != "table" {
		var rows [][]string
		for _, r := range done.Refused {
			rows = append(rows, []string{r.Message, r.Why})
		}
		return a.print(cmd, done, []string{"id", "refused"}, rows)
	}
	would := ""
	if done.DryRun {
		would = " would be. Nothing was changed"
	}
	fmt.Fprintf(cmd.OutOrStdout(), "Decided about %s: %s%s.\n", counted(done.Decided, "message"), decision, would)
	tellRefused(cmd, done.Refused)
	if done.Decided > 0 && !done.DryRun && decision != "take_back" {
		fmt.Fprintln(cmd.ErrOrStderr(), "Undo: pigeon message decide take_back ID…")
	}
	return nil
}
