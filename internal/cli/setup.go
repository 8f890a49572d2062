package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/service"
)

func yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

func (a *app) keys() *cobra.Command {
	var cure, budget, database string
	var practice bool
	var countries []string
	var labels map[string]string
	create := &cobra.Command{
		Use:   "new NAME",
		Short: "Make an API key; it is shown once",
		Long: "Makes an API key, with a key that is in use. Where none is at hand any more, whoever\n" +
			"can reach the database makes one with --database-url.",
		Example: "  pigeon key new reports\n  pigeon key new rescue --database-url postgres://…",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var k client.Key
			var err error
			if database != "" {
				k.Name = args[0]
				k.Key, err = service.NewKey(cmd.Context(), database, args[0], cure, budget, labels)
			} else {
				err = a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
					k, err = c.NewKey(cmd.Context(), client.NewKey{Name: args[0], Cure: cure, BudgetDay: budget, Labels: labels,
						Practice: practice, PasscodeCountries: countries})
					return err
				})(cmd, args)
			}
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "Keep it now: it is stored as a hash and cannot be shown again.")
			}
			return a.print(cmd, k, []string{"name", "key"}, [][]string{{k.Name, k.Key}})
		},
	}
	create.Flags().StringVar(&cure, "cure", "", "how far characters may be replaced in what it sends: off, safe or strong")
	create.Flags().StringVar(&budget, "budget-day", "", "what batches that are launched with it may spend a day, such as 30 EUR")
	create.Flags().BoolVar(&practice, "practice", false, "it may see the codes of passcodes: for tests, and for nothing else")
	create.Flags().
		StringSliceVar(&countries, "passcode-countries", nil, "to which it may send passcodes, such as GB,FR; all if not given")
	labelVar(create.Flags(), &labels)
	create.Flags().StringVar(&database, "database-url", "", "make it in the database itself, where no key is at hand")
	list := &cobra.Command{
		Use:   "list",
		Short: "List API keys",
		Args:  cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := c.Keys(cmd.Context())
			if err != nil {
				return err
			}
			when := func(t *time.Time) string {
				if t == nil {
					return ""
				}
				return t.Local().Format(time.DateTime)
			}
			var rows [][]string
			for _, k := range all {
				rows = append(
					rows,
					[]string{k.ID, k.Name, "pigeon_" + k.Handle + "_…", when(&k.CreatedAt), when(k.LastUsedAt), when(k.RevokedAt)},
				)
			}
			return a.print(cmd, all, []string{"id", "name", "key", "made", "last used", "revoked"}, rows)
		}),
	}
	revoke := &cobra.Command{
		Use:   "revoke ID",
		Short: "End a key's use, for good",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := c.RevokeKey(cmd.Context(), pieceOf(args[0])); err != nil {
				return err
			}
			fmt.Fprintln(cmd.ErrOrStderr(), "Revoked.")
			return nil
		}),
	}
	return group("key", "Manage API keys", create, list, revoke)
}
