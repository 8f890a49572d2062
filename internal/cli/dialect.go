package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/dialects"
	"calmpigeon.example/internal/core/dialect"
)

func (a *app) dialect() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the dialects that ship", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
		type shipped struct {
			Name  string `json:"name"`
			About string `json:"about"`
		}
		var all []shipped
		var rows [][]string
		for _, name := range dialects.Names() {
			d, err := readDialect(name)
			if err != nil {
				return err
			}
			all = append(all, shipped{d.Name, d.About})
			rows = append(rows, []string{d.Name, d.About})
		}
		return a.print(cmd, all, []string{"name", "about"}, rows)
	}}
	show := &cobra.Command{Use: "show NAME", Short: "Write a dialect that ships, to copy from", Args: cobra.ExactArgs(1), Example: "  pigeon dialect show harbourline > my-gateway.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			source, err := dialects.Source(args[0])
			if err != nil {
				return usagef("%q does not ship; these do: %s", args[0], strings.Join(dialects.Names(), ", "))
			}
			_, err = cmd.OutOrStdout().Write(source)
			return err
		}}
	return group("dialect", "Describe how a gateway is spoken to", a.dialectCheck(), list, show)
}

// readDialect reads a dialect from a file, or one that ships by its name.
func readDialect(name string) (*dialect.Dialect, error) {
	source, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) && !strings.ContainsAny(name, "/.") {
		if source, err = dialects.Source(name); err != nil {
			return nil, usagef("%q is no file, and does not ship; these do: %s", name, strings.Join(dialects.Names(), ", "))
		}
	}
	if err != nil {
		return nil, usagef("%v", err)
	}
	return dialect.Load(name, source)
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
			d, err := readDialect(args[0])
			var wrong usage
			if errors.As(err, &wrong) {
				return err
			}
			if err != nil {
				fmt.Fprintln(cmd.ErrOrStderr(), err)
				return exit(exitRefused)
			}
			type played struct {
				Example int    `json:"example"`
				Kind    string `json:"kind"`
				Status  int    `json:"status"`
				Passed  bool   `json:"passed"`
				Gives   any    `json:"gives"`
				Want    any    `json:"want"`
				Wrong   string `json:"wrong"`
			}
			all := []played{}
			var rows [][]string
			failed := 0
			for i, p := range d.Play() {
				one := played{i + 1, p.Kind, p.Status, p.Wrong == "", p.Got, p.Want, p.Wrong}
				all = append(all, one)
				said, status := "passed", ""
				if !one.Passed {
					failed++
					said = fmt.Sprintf("%s; it should give %s", p.Wrong, compact(p.Want))
				}
				if p.Status > 0 {
					status = fmt.Sprint(p.Status)
				}
				rows = append(rows, []string{fmt.Sprint(i + 1), p.Kind, status, said, compact(p.Got)})
			}
			if err := a.print(cmd, all, []string{"example", "kind", "status", "check", "gives"}, rows); err != nil {
				return err
			}
			switch {
			case failed > 0:
				fmt.Fprintf(cmd.ErrOrStderr(), "%s is well-formed, but %d of %d examples are not read as they say\n", d.Name, failed, len(all))
				return exit(exitRefused)
			case len(all) == 0:
				fmt.Fprintf(cmd.ErrOrStderr(), "%s is well-formed. It has no examples: record some replies and receipts under examples, and what they must give\n", d.Name)
			default:
				fmt.Fprintf(cmd.ErrOrStderr(), "%s is well-formed, and its %d examples pass\n", d.Name, len(all))
			}
			return nil
		},
	}
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
