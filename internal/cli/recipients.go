package cli

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) recipients() *cobra.Command {
	return group("recipients", "Lists of recipients that are kept, with groups and fields, to be written to again",
		a.recipientLists(), a.recipientsShow(), a.recipientsSave(), a.recipientsAdd(), a.recipientsRemove(), a.recipientsForget())
}

func (a *app) recipientLists() *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the lists",
		Args:  cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			lists, err := c.RecipientLists(cmd.Context())
			if err != nil {
				return err
			}
			if len(lists) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "There are none. To keep one: pigeon recipients save NAME FILE")
				return nil
			}
			var rows [][]string
			for _, l := range lists {
				var heads []string
				for _, column := range l.Columns {
					heads = append(heads, column.Head)
				}
				rows = append(rows, []string{l.Name, fmt.Sprint(l.Rows), strings.Join(heads, ", "), l.By, a.at(l.ChangedAt)})
			}
			return a.print(cmd, lists, []string{"name", "rows", "columns", "by", "changed"}, rows)
		}),
	}
}

func (a *app) recipientsShow() *cobra.Command {
	var of, number, cursor string
	var limit int
	cmd := &cobra.Command{
		Use:   "show LIST",
		Short: "Show who is on a list",
		Long: "Shows who is on a list, in the order in which they came, with what stands in its columns.\n" +
			"--output csv writes all of them, and what save reads.",
		Example: "  pigeon recipients show passengers --group islanders\n  pigeon recipients show passengers --output csv > passengers.csv",
		Args:    cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			list, err := c.RecipientList(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			head := make([]string, len(list.Columns), len(list.Columns)+1)
			for i, column := range list.Columns {
				head[i] = column.Head
			}
			head = append(head, "groups")
			// CSV is written as it comes: lists are long.
			output, items := a.config.GetString("output"), []client.ListedRecipient{}
			for goesOn := false; ; goesOn = true {
				page, err := c.Recipients(cmd.Context(), args[0], of, number, cursor, limit)
				if err != nil {
					return err
				}
				items, cursor = append(items, page.Items...), page.Next
				if output != "json" || cursor == "" {
					rows := make([][]string, len(items))
					for i, r := range items {
						for _, h := range head[:len(head)-1] {
							rows[i] = append(rows[i], r.Fields[h])
						}
						rows[i] = append(rows[i], strings.Join(r.Groups, ", "))
					}
					if err := a.printGrid(cmd, items, grid{head: head, rows: rows, goesOn: goesOn}); err != nil {
						return err
					}
					items = nil
				}
				if cursor == "" || output == "table" {
					break
				}
			}
			if a.config.GetString("output") == "table" {
				said := []string{counted(list.Rows, "recipient")}
				for _, g := range list.Groups {
					said = append(said, fmt.Sprintf("%s %d", g.Name, g.Rows))
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "\n%s\n", strings.Join(said, " · "))
				if cursor != "" {
					fmt.Fprintf(cmd.ErrOrStderr(), "There are more: add --cursor %s\n", cursor)
				}
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&of, "group", "", "only those in this group")
	cmd.Flags().StringVar(&number, "number", "", "only this number, in international form")
	cmd.Flags().IntVar(&limit, "limit", 100, "how many at a time, 500 at most")
	cmd.Flags().StringVar(&cursor, "cursor", "", "those after a place that was told")
	return cmd
}

func (a *app) recipientsSave() *cobra.Command {
	var h client.SaveHint
	cmd := &cobra.Command{
		Use:   "save LIST FILE",
		Short: "Put the rows of a sheet on a list: CSV, XLSX, JSON Lines, or a number a line",
		Long: "Reads a sheet and puts its rows on a list, which is made if there is none. A number stands\n" +
			"once on a list: what comes of one that is there takes the place of what stood in those\n" +
			"columns. A column called group names the groups of each, with commas between. Rows whose\n" +
			"number cannot be read are told and left out; it ends with 3 if there are any. It can be repeated.",
		Example: `  pigeon recipients save passengers passengers.xlsx --group islanders
  pigeon recipients save crew crew.csv --country GB --replace --dry-run`,
		Args: cobra.ExactArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			file, err := a.listFile(cmd, args[1])
			if err != nil {
				return usagef("%w", err)
			}
			defer file.Close()
			return a.saveRecipients(cmd, c, args[0], file, h)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&h.Country, "country", "", "where numbers without a country code are dialled, such as GB")
	f.StringArrayVar(&h.Groups, "group", nil, "a group that all of them are put in; may be given more than once")
	f.StringVar(&h.Number, "number", "", "the column that holds numbers, where that is not recognised")
	f.BoolVar(&h.Replace, "replace", false, "what was on the list before goes, once all of this is there")
	f.BoolVar(&h.DryRun, "dry-run", false, "make every check and keep nothing")
	readingVar(f, &h.Encoding, &h.Delimiter, &h.Sheet, &h.Locale, &h.HeadRow)
	return cmd
}

// saveRecipients puts a sheet on a list, and says what came of it.
func (a *app) saveRecipients(cmd *cobra.Command, c *client.Client, name string, sheet io.Reader, h client.SaveHint) error {
	shown := &progress{in: sheet, status: statusOn(cmd.ErrOrStderr())}
	saved, err := c.SaveRecipients(cmd.Context(), name, shown, h)
	shown.status.clear()
	if err != nil {
		return err
	}
	at := slices.IndexFunc(saved.Columns, func(k client.Column) bool { return k.Role == "to" })
	fmt.Fprintf(cmd.ErrOrStderr(), "%s; numbers in %q: %s\n", saved.Recognised, saved.Columns[at].Head, saved.Columns[at].Why)
	for _, l := range saved.Left {
		fmt.Fprintf(cmd.ErrOrStderr(), "line %d: %s\n", l.Line, l.Why)
	}
	if more := saved.LeftOut - len(saved.Left); more > 0 {
		fmt.Fprintf(cmd.ErrOrStderr(), "and %s more\n", counted(more, "row"))
	}
	if h.DryRun {
		fmt.Fprintln(cmd.ErrOrStderr(), "Nothing was kept. It would be:")
	}
	row := []string{saved.List.Name}
	for _, n := range []int{saved.Added, saved.Changed, saved.Same, saved.LeftOut, saved.List.Rows} {
		row = append(row, fmt.Sprint(n))
	}
	if err := a.print(cmd, saved, []string{"list", "new", "changed", "as before", "left out", "on it now"}, [][]string{row}); err != nil {
		return err
	}
	if saved.LeftOut > 0 {
		return exit(exitRefused)
	}
	return nil
}

func (a *app) recipientsAdd() *cobra.Command {
	var h client.SaveHint
	var fields map[string]string
	cmd := &cobra.Command{
		Use:     "add LIST NUMBER…",
		Short:   "Put numbers on a list, or into a group of it",
		Example: "  pigeon recipients add passengers +447700900123 --field name=Ann --group islanders",
		Args:    cobra.MinimumNArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			number := "number"
			list, err := c.RecipientList(cmd.Context(), args[0])
			if err == nil { // its column of numbers may be called otherwise
				for _, column := range list.Columns {
					if column.Role == "to" {
						number = cmp.Or(column.Head, number)
					}
				}
			}
			var lines bytes.Buffer
			for _, given := range args[1:] {
				row := map[string]string{number: given}
				for name, value := range fields {
					row[name] = value
				}
				if err := json.NewEncoder(&lines).Encode(row); err != nil {
					return err
				}
			}
			h.Number = number
			return a.saveRecipients(cmd, c, args[0], &lines, h)
		}),
	}
	cmd.Flags().StringToStringVar(&fields, "field", nil, "what stands in a column, as NAME=VALUE")
	cmd.Flags().StringArrayVar(&h.Groups, "group", nil, "a group to put them in; may be given more than once")
	cmd.Flags().StringVar(&h.Country, "country", "", "where numbers without a country code are dialled, such as GB")
	return cmd
}

func (a *app) recipientsRemove() *cobra.Command {
	var of string
	cmd := &cobra.Command{
		Use:     "remove LIST NUMBER…",
		Short:   "Take numbers off a list, or out of a group of it",
		Example: "  pigeon recipients remove passengers +447700900123 --group islanders",
		Args:    cobra.MinimumNArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			done, err := c.RemoveRecipients(cmd.Context(), args[0], args[1:], of)
			if err != nil {
				return err
			}
			from := args[0]
			if of != "" {
				from = fmt.Sprintf("the group %s of %s", of, args[0])
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "Taken off %s: %d of %d.\n", from, done.Removed, len(args)-1)
			if done.Removed < len(args)-1 {
				return exit(exitRefused)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&of, "group", "", "they stay on the list, and are no longer in this group")
	return cmd
}

func (a *app) recipientsForget() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:   "forget LIST",
		Short: "Forget a list with all who are on it; batches that were made of it stay",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			list, err := c.RecipientList(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if !yes {
				return usagef(
					"%s would be forgotten, for good: say so with --yes. To keep a copy: pigeon recipients show %q --output csv > copy.csv",
					counted(list.Rows, "recipient"),
					args[0],
				)
			}
			if err := c.RemoveRecipientList(cmd.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s is forgotten, with %s.\n", list.Name, counted(list.Rows, "recipient"))
			return nil
		}),
	}
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "it is meant")
	return cmd
}
