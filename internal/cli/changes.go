package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) changes() *cobra.Command {
	var f client.ChangeFilter
	var cursor string
	var limit int
	cmd := &cobra.Command{
		Use:   "changes",
		Short: "Show who changed what of what is set, the newest first",
		Long: "Shows the changes of gateways, senders, defaults, rules, templates, routes, prices and\n" +
			"keys: when, with which key, and what differs, before and after. Secrets are never told.",
		Example: "  pigeon changes --what gateway --name harbourline",
		Args:    cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			page, err := c.Changes(cmd.Context(), f, cursor, limit)
			if err != nil {
				return err
			}
			var rows [][]string
			for _, one := range page.Items {
				rows = append(
					rows,
					[]string{
						strings.TrimSuffix(clock(one.At.Truncate(time.Second)), ".000"),
						one.By,
						one.What,
						one.Name,
						one.Action,
						differs(one),
					},
				)
			}
			if err := a.print(cmd, page, []string{"at", "by", "what", "name", "", "before → after"}, rows); err != nil {
				return err
			}
			if page.Next != "" {
				fmt.Fprintf(cmd.ErrOrStderr(), "There are more: add --cursor %s\n", page.Next)
			}
			return nil
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&f.What, "what", "", "only of gateway, sender, default, rule, template, route, prices, key, receiver, "+
		"passcode_limit, passcode_rule or passcode_alarm")
	flags.StringVar(&f.Name, "name", "", "only of what is called so")
	flags.StringVar(&f.By, "by", "", "only with the key of this name")
	flags.StringVar(&cursor, "cursor", "", "go on from here")
	flags.IntVar(&limit, "limit", 0, "at most so many")
	return cmd
}

// differs says in one line what differs. Of what was added or removed its name says
// enough.
func differs(c client.Change) string {
	if c.Before == nil || c.After == nil {
		return ""
	}
	var said []string
	for _, field := range slices.Sorted(maps.Keys(c.After)) {
		before, after := short(c.Before[field]), short(c.After[field])
		if before == after {
			said = append(said, field+" changed")
			continue
		}
		said = append(said, fmt.Sprintf("%s %s → %s", field, before, after))
	}
	return strings.Join(said, ", ")
}

// short is a value in a few words.
func short(value any) string {
	switch value {
	case nil, "":
		return "none"
	}
	if s, ok := value.(string); ok {
		return flat(s)
	}
	return compact(value)
}
