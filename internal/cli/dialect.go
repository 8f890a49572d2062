package cli

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/dialect"
	"calmpigeon.example/internal/explain"
)

func (a *app) dialect() *cobra.Command {
	list := &cobra.Command{
		Use:   "list",
		Short: "List the dialects that ship",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			type shipped struct {
				Name  string `json:"name"`
				About string `json:"about"`
			}
			var all []shipped
			var rows [][]string
			for _, name := range dialects.Names() {
				source, err := dialectSource(name)
				if err != nil {
					return err
				}
				d := explain.Dialect(cmd.Context(), name, source)
				all = append(all, shipped{d.Name, d.About})
				rows = append(rows, []string{d.Name, d.About})
			}
			return a.print(cmd, all, []string{"name", "about"}, rows)
		},
	}
	show := &cobra.Command{
		Use:     "show NAME",
		Short:   "Write a dialect that ships, to copy from",
		Args:    cobra.ExactArgs(1),
		Example: "  pigeon dialect show harbourline > my-gateway.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			source, err := dialects.Source(args[0])
			if err != nil {
				return usagef("%q does not ship; these do: %s", args[0], strings.Join(dialects.Names(), ", "))
			}
			_, err = cmd.OutOrStdout().Write(source)
			return err
		},
	}
	schema := &cobra.Command{
		Use:   "schema",
		Short: "Write the JSON Schema of dialect files, for your editor",
		Args:  cobra.NoArgs,
		Example: "  pigeon dialect schema > dialect.schema.json\n  # then, as the first line of your file:\n  # yaml-language-server: " +
			"$schema=dialect.schema.json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := cmd.OutOrStdout().Write(dialects.Schema)
			return err
		},
	}
	return group("dialect", "Describe how a gateway is spoken to", a.dialectCheck(), a.dialectTry(), a.dialectNew(), list, show, schema)
}

// dialectSource reads a dialect file, or one that ships by its name.
func dialectSource(name string) ([]byte, error) {
	source, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) && !strings.ContainsAny(name, "/.") {
		if source, err = dialects.Source(name); err != nil {
			return nil, usagef("%q is no file, and does not ship; these do: %s", name, strings.Join(dialects.Names(), ", "))
		}
	}
	if err != nil {
		return nil, usagef("%w", err)
	}
	return source, nil
}

func (a *app) dialectCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Check a dialect file and play its recorded examples; needs no service",
		Long: "Loads a dialect file, or one that ships by its name, and plays the examples that\n" +
			"stand in it: recorded replies, answers and receipts, with what must be read from\n" +
			"each. Mistakes are told with their line. It ends with 3 if the file or one of its\n" +
			"examples is not as it should be.",
		Example: "  pigeon dialect check my-gateway.yaml",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			source, err := dialectSource(args[0])
			if err != nil {
				return err
			}
			check := explain.Dialect(cmd.Context(), args[0], source)
			if len(check.Mistakes) > 0 {
				for _, mistake := range check.Mistakes {
					fmt.Fprintln(cmd.ErrOrStderr(), mistake)
				}
				return exit(exitRefused)
			}
			var rows [][]string
			failed := 0
			for _, p := range check.Examples {
				said, status := "passed", ""
				if !p.Passed {
					failed++
					said = fmt.Sprintf("%s; it should give %s", p.Wrong, compact(p.Want))
				}
				if p.Status > 0 {
					status = fmt.Sprint(p.Status)
				}
				rows = append(rows, []string{fmt.Sprint(p.Example), p.Kind, status, said, compact(p.Gives)})
			}
			if err := a.print(cmd, check.Examples, []string{"example", "kind", "status", "check", "gives"}, rows); err != nil {
				return err
			}
			for _, warning := range check.Warnings {
				fmt.Fprintf(cmd.ErrOrStderr(), "Warning: %s\n", warning)
			}
			switch n := len(check.Examples); {
			case failed > 0:
				fmt.Fprintf(cmd.ErrOrStderr(), "%s is well-formed, but %d of %d examples are not read as they say\n", check.Name, failed, n)
				return exit(exitRefused)
			case n == 0:
				fmt.Fprintf(
					cmd.ErrOrStderr(),
					"%s is well-formed. It has no examples: record some replies and receipts under examples, and what they must give\n",
					check.Name,
				)
			default:
				fmt.Fprintf(cmd.ErrOrStderr(), "%s is well-formed, and its %d examples pass\n", check.Name, n)
			}
			return nil
		},
	}
}

func (a *app) dialectNew() *cobra.Command {
	var s dialect.Sketch
	cmd := &cobra.Command{
		Use:   "new",
		Short: "Ask a few questions and write a first dialect file with comments",
		Long: "Asks what has to be known of a gateway and writes the first version of its dialect\n" +
			"file to standard output, with comments at what is to be filled in. What is given as\n" +
			"an option is not asked. An empty answer takes the first choice.",
		Example: "  pigeon dialect new > my-gateway.yaml\n  pigeon dialect new --name my-gateway --body json --credentials bearer " +
			"--number e164 --recipients one --receipts json --asked yes",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			in := bufio.NewScanner(cmd.InOrStdin())
			for _, q := range dialect.Questions {
				to := q.To(&s)
				for *to == "" {
					fmt.Fprintln(cmd.ErrOrStderr(), q.Ask)
					if q.Accepts != nil {
						fmt.Fprintf(cmd.ErrOrStderr(), "  %s [%s] ", strings.Join(q.Accepts, ", "), q.Accepts[0])
					} else {
						fmt.Fprint(cmd.ErrOrStderr(), "  ")
					}
					if !in.Scan() {
						return usagef("%s is not answered; give it with --%s", q.Field, q.Field)
					}
					answer := strings.ToLower(strings.TrimSpace(in.Text()))
					if answer == "" && q.Accepts != nil {
						answer = q.Accepts[0]
					}
					if q.Accepts != nil && !slices.Contains(q.Accepts, answer) {
						fmt.Fprintf(cmd.ErrOrStderr(), "  %q is none of them.\n", answer)
						continue
					}
					*to = answer
				}
			}
			source, err := s.Source()
			if err != nil {
				return usagef("%w", err)
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "Written. Fill in what the manual says, then: pigeon dialect check %s.yaml\n", s.Name)
			_, err = fmt.Fprint(cmd.OutOrStdout(), source)
			return err
		},
	}
	for _, q := range dialect.Questions {
		help := q.Ask
		if q.Accepts != nil {
			help = strings.Join(q.Accepts, ", ")
		}
		cmd.Flags().StringVar(q.To(&s), q.Field, "", help)
	}
	return cmd
}

// compact writes a value on one line.
func compact(value any) string {
	if value == nil {
		return ""
	}
	encoded, err := json.Marshal(value)
	if err != nil {
		return fmt.Sprint(value)
	}
	return string(encoded)
}
