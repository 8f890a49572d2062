package cli

import (
	"fmt"
	"os"
	"regexp"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

var placeholders = regexp.MustCompile(`\$\{([A-Z0-9_]+)\}`)

func (a *app) setup() *cobra.Command {
	export := &cobra.Command{Use: "export", Short: "Write everything that is set up to a file, secrets as placeholders", Args: cobra.NoArgs,
		Long:    "Writes gateways with their dialects, routes, senders, changed country rules and\ntemplates as YAML to standard output, so that a set-up can live in version control\nand be moved. Secrets are never in it: placeholders such as ${HARBOURLINE_API_KEY}\nstand for them.",
		Example: "  pigeon setup export > setup.yaml",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			f, err := c.ExportSetup(cmd.Context())
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(cmd.OutOrStdout(), f.Source)
			return err
		})}
	var dryRun bool
	load := &cobra.Command{Use: "import FILE", Short: "Take a set-up in, all of it or nothing", Args: cobra.ExactArgs(1),
		Long:    "Takes in what a file as export writes it holds, all of it or nothing. The values of\nits placeholders are taken from the environment; those of a gateway that is there\nalready may be missing, and stay as they are. What the file does not name stays;\nroutes, if it has any, take the place of all that are there.",
		Example: "  HARBOURLINE_API_KEY=… HARBOURLINE_RECEIPT_SECRET=… pigeon setup import setup.yaml --dry-run",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			source, err := readFile(cmd, args[0])
			if err != nil {
				return err
			}
			f := client.SetupFile{Source: source, Secrets: map[string]string{}}
			for _, m := range placeholders.FindAllStringSubmatch(source, -1) {
				if value, set := os.LookupEnv(m[1]); set {
					f.Secrets[m[1]] = value
				}
			}
			change, err := c.ImportSetup(cmd.Context(), f, dryRun)
			if err != nil {
				return err
			}
			var rows [][]string
			for _, part := range []struct {
				word  string
				names []string
			}{{"new", change.New}, {"changed", change.Changed}, {"as it was", change.Same}} {
				for _, name := range part.names {
					rows = append(rows, []string{part.word, name})
				}
			}
			if err := a.print(cmd, change, []string{"", "part"}, rows); err != nil {
				return err
			}
			if dryRun {
				fmt.Fprintln(cmd.ErrOrStderr(), "Every check was made, and nothing was changed.")
			}
			return nil
		})}
	load.Flags().BoolVar(&dryRun, "dry-run", false, "make every check and change nothing")
	return group("setup", "Write everything that is set up to a file, and take it in again", export, load)
}
