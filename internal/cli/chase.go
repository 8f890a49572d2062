package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) messageChase() *cobra.Command {
	var f filterFlags
	var all, dryRun bool
	cmd := &cobra.Command{
		Use:   "chase [ID…]",
		Short: "Ask the gateways about messages now",
		Long: "Within the pace of each gateway and below its submissions; also about messages whose end\n" +
			"is known or was given up. Says what it costs in requests; --dry-run says only that. Name\n" +
			"messages by their whole ids, or choose them with --all and the options of pigeon message\n" +
			"find. What the gateways answer stands in the messages: pigeon message show. It ends with\n" +
			"3 if some cannot be asked about.",
		Example: "  pigeon message chase 019abd5d-…\n  pigeon message chase --all --state accepted,enroute --since 2h --dry-run",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			ids, err := chosenMessages(cmd.Context(), c, args, all, &f)
			if err != nil {
				return err
			}
			done := client.Chased{Gateways: []client.ChaseCost{}, Refused: []client.MessageRefused{}, DryRun: dryRun}
			at := map[string]int{}
			for len(ids) > 0 {
				some := ids[:min(len(ids), decideMost)]
				ids = ids[len(some):]
				one, err := c.Chase(cmd.Context(), client.Chase{Messages: some, DryRun: dryRun})
				if err != nil {
					return err
				}
				done.Messages, done.Requests = done.Messages+one.Messages, done.Requests+one.Requests
				done.Refused = append(done.Refused, one.Refused...)
				for _, g := range one.Gateways {
					i, known := at[g.Gateway]
					if !known {
						at[g.Gateway] = len(done.Gateways)
						done.Gateways = append(done.Gateways, g)
						continue
					}
					done.Gateways[i].Messages += g.Messages
					done.Gateways[i].Requests += g.Requests
				}
			}
			var rows [][]string
			for _, g := range done.Gateways {
				rows = append(rows, []string{g.Gateway, fmt.Sprint(g.Messages), fmt.Sprint(g.Requests), fmt.Sprint(g.PerSecond)})
			}
			if len(rows) > 0 || a.config.GetString("output") != "table" {
				if err := a.print(cmd, done, []string{"gateway", "messages", "requests", "a second at most"}, rows); err != nil {
					return err
				}
			}
			if dryRun {
				fmt.Fprintln(cmd.ErrOrStderr(), "Nobody was asked.")
			}
			tellRefused(cmd, done.Refused)
			if len(done.Refused) > 0 {
				return exit(exitRefused)
			}
			return nil
		}),
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&all, "all", false, "all that the other options choose")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "say what it would cost and ask nobody")
	return cmd
}
