package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"calmpigeon.example/internal/service"
)

func (a *app) migrate() *cobra.Command {
	var check bool
	cmd := &cobra.Command{
		Use:   "migrate",
		Short: "Bring the schema of the database up to date",
		Long: "Brings the schema of the database at --database-url up to date, as pigeon serve does\n" +
			"when it starts; with serve --migrate=check it is done by this command alone. Take a\n" +
			"backup first: migrations only go forward. Instances of the version before go on\n" +
			"taking requests where they can, give up their gateways, and answer 503 on /healthz:\n" +
			"end them and start the new version.",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			url := a.config.GetString("database-url")
			if url == "" {
				return usagef("--database-url is missing: expected the address of a PostgreSQL database, also as PIGEON_DATABASE_URL")
			}
			from, to, err := service.Migrate(cmd.Context(), url, check)
			if err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			switch {
			case from > to:
				return fmt.Errorf("the schema is %d, and this version knows none after %d: use the newer version", from, to)
			case from == to:
				fmt.Fprintf(out, "The schema is up to date: %d.\n", to)
			case check:
				fmt.Fprintf(out, "The schema is %d; this version needs %d. Run: pigeon migrate\n", from, to)
				return exit(exitRefused)
			default:
				fmt.Fprintf(out, "Migrated from schema %d to %d.\n", from, to)
			}
			return nil
		},
	}
	cmd.Flags().String("database-url", "", "PostgreSQL whose schema it is")
	cmd.Flags().BoolVar(&check, "check", false, "change nothing, and end with 3 if it is not up to date")
	return cmd
}
