package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/explain"
)

func (a *app) optOuts() *cobra.Command {
	return group("optout", "Who does not want to be written to", a.optOutList(), a.optOutAdd(), a.optOutRemove(), a.optOutImport())
}

func (a *app) optOutList() *cobra.Command {
	var number string
	var all bool
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List all of them, the newest first",
		Long: "Lists who does not want to be written to: since when, why, and who said so. With\n" +
			"--all also those that have ended. --output csv writes what import reads.",
		Example: "  pigeon optout list --output csv > opt-outs.csv",
		Args:    cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			var items []client.OptOut
			for cursor := ""; ; {
				page, err := c.OptOuts(cmd.Context(), number, all, cursor, 500)
				if err != nil {
					return err
				}
				items = append(items, page.Items...)
				if cursor = page.Next; cursor == "" {
					break
				}
			}
			var rows [][]string
			for _, o := range items {
				ended := ""
				if o.EndedAt != nil {
					ended = strings.TrimSpace(a.at(*o.EndedAt) + " " + o.EndedBy + " " + o.EndedWhy)
				}
				rows = append(rows, []string{o.Number, a.at(o.Since), o.Why, o.By, ended})
			}
			if len(rows) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "Nobody has opted out.")
				return nil
			}
			return a.print(cmd, items, []string{"number", "since", "why", "by", "ended"}, rows)
		}),
	}
	cmd.Flags().StringVar(&number, "number", "", "only of this number")
	cmd.Flags().BoolVar(&all, "all", false, "those that have ended, too")
	return cmd
}

func (a *app) optOutAdd() *cobra.Command {
	n := client.NewOptOuts{}
	cmd := &cobra.Command{
		Use:     "add NUMBER…",
		Short:   "Put numbers on the list: only passcodes go to them any more",
		Example: "  pigeon optout add +447700900123 --why \"asked at the desk\"",
		Args:    cobra.MinimumNArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			n.Numbers = args
			added, err := c.AddOptOuts(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.printAdded(cmd, added)
		}),
	}
	cmd.Flags().StringVar(&n.Country, "country", "", "where numbers without a country code are dialled, such as GB")
	cmd.Flags().StringVar(&n.Why, "why", "", "why, for whoever asks later")
	return cmd
}

func (a *app) printAdded(cmd *cobra.Command, added client.OptOutsAdded) error {
	return a.print(cmd, added, []string{"new", "there already"}, [][]string{{fmt.Sprint(added.Added), fmt.Sprint(added.Already)}})
}

func (a *app) optOutRemove() *cobra.Command {
	var why string
	cmd := &cobra.Command{
		Use:   "remove NUMBER",
		Short: "Take a number off the list: it may be written to again",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := c.RemoveOptOut(cmd.Context(), args[0], why); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s may be written to again. Undo: pigeon optout add %s\n", args[0], args[0])
			return nil
		}),
	}
	cmd.Flags().StringVar(&why, "why", "", "why, for whoever asks later")
	return cmd
}

func (a *app) optOutImport() *cobra.Command {
	var country, why, encoding string
	var dryRun bool
	cmd := &cobra.Command{
		Use:   "import FILE",
		Short: "Put the numbers of a list on the list: CSV, XLSX, JSON Lines, or a number a line",
		Long: "Reads a list, recognises which column holds the numbers, and puts them on the\n" +
			"list. Rows without a number are told and passed over; it ends with 3 if there are\n" +
			"any. It can be repeated: those that are there stay as they are.",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			file, err := os.Open(args[0])
			if err != nil {
				return usagef("%w", err)
			}
			defer file.Close()
			list, err := sheet.Open(file, sheet.Hint{Encoding: encoding})
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			defer list.Close()
			at := -1
			columns := list.Columns(country)
			for i, column := range columns {
				if column.Role == sheet.To {
					at = i
				}
			}
			if at < 0 {
				return fmt.Errorf("%s: %s; none of its columns holds numbers: %s", args[0], list.Found, strings.Join(list.Head(), ", "))
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s: %s; %s\n", args[0], list.Found, columns[at])
			var sum client.OptOutsAdded
			bad := 0
			var numbers []string
			flush := func() error {
				if len(numbers) == 0 {
					return nil
				}
				added, err := c.AddOptOuts(cmd.Context(), client.NewOptOuts{Numbers: numbers, Why: why, DryRun: dryRun})
				sum.Added, sum.Already, numbers = sum.Added+added.Added, sum.Already+added.Already, nil
				return err
			}
			for row, err := range list.Rows() {
				if err != nil {
					return fmt.Errorf("%s: %w", args[0], err)
				}
				wrong := row.Wrong
				if wrong == "" {
					n := explain.Number(row.Cells[at], country)
					if n.E164 != "" {
						if numbers = append(numbers, n.E164); len(numbers) == 1000 {
							if err := flush(); err != nil {
								return err
							}
						}
						continue
					}
					wrong = n.Reason
				}
				if bad++; bad <= 20 {
					fmt.Fprintf(cmd.ErrOrStderr(), "row %d: %s\n", row.N, wrong)
				}
			}
			if err := flush(); err != nil {
				return err
			}
			if bad > 20 {
				fmt.Fprintf(cmd.ErrOrStderr(), "… and %d more\n", bad-20)
			}
			if dryRun {
				fmt.Fprintln(cmd.ErrOrStderr(), "Every check was made, and nothing was changed.")
			}
			if err := a.printAdded(cmd, sum); err != nil {
				return err
			}
			if bad > 0 {
				return exit(exitRefused)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&country, "country", "", "where numbers without a country code are dialled, such as GB")
	cmd.Flags().StringVar(&why, "why", "imported", "why, for whoever asks later")
	cmd.Flags().StringVar(&encoding, "encoding", "", "what it is written in, where that is not recognised")
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "make every check and change nothing")
	return cmd
}
