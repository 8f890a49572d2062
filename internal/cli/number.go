package cli

import (
	"bufio"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/explain"
)

func (a *app) number() *cobra.Command {
	var country string
	var lines bool
	cmd := &cobra.Command{
		Use:   "number NUMBER…",
		Short: "Explain telephone numbers: what they are, or why they are none",
		Long: "Reads numbers as people type them and sheets hold them, says what was changed,\n" +
			"and explains them: country, kind of line, time zones. It needs no service. With\n" +
			"- it reads a number a line from standard input. The command ends with 3 if one\n" +
			"of them is not valid.\n\n" +
			"--jsonl reads a JSON string a line, or an object with text and a country of its\n" +
			"own, and writes an object a line with valid, e164, country and more.",
		Example: "  pigeon number \"07700 900123\" --country GB\n" +
			"  cut -d, -f3 passengers.csv | pigeon number - --country GB --output csv\n" +
			"  pigeon number --jsonl --country GB < numbers.jsonl",
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if lines {
				if len(args) > 0 {
					return usagef("--jsonl reads standard input, and takes no numbers beside it")
				}
				return jsonl(cmd, func(q question) any {
					if q.Country == "" {
						q.Country = country
					}
					return explain.Number(q.Text, q.Country)
				})
			}
			if len(args) == 0 {
				return usagef("requires a number, or - to read them from standard input")
			}
			if len(args) == 1 && args[0] == "-" {
				args = nil
				in := bufio.NewScanner(cmd.InOrStdin())
				in.Buffer(nil, lineMost)
				for in.Scan() { // an empty line too: what comes out stands beside what went in
					args = append(args, strings.TrimSuffix(in.Text(), "\r"))
				}
				if err := in.Err(); err != nil {
					return fmt.Errorf("reading standard input: %w", err)
				}
			}
			all := make([]client.Number, len(args))
			invalid := 0
			for i, given := range args {
				if all[i] = explain.Number(given, country); !all[i].Valid {
					invalid++
				}
			}
			if err := a.printNumbers(cmd, all, invalid); err != nil {
				return err
			}
			if invalid > 0 {
				return exit(exitRefused)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&country, "country", "", "where numbers without a country code are dialled, such as GB")
	cmd.Flags().BoolVar(&lines, "jsonl", false, "read JSON Lines from standard input")
	return cmd
}

func (a *app) printNumbers(cmd *cobra.Command, all []client.Number, invalid int) error {
	table := a.config.GetString("output") == "table"
	if table && len(all) == 1 {
		writeNumber(cmd.OutOrStdout(), all[0])
		return nil
	}
	var rows [][]string
	for _, n := range all {
		said := strings.Join(n.Changes, "; ")
		if n.Reason != "" {
			said = strings.TrimPrefix(said+"; "+n.Reason, "; ")
		}
		if table {
			rows = append(rows, []string{flat(n.Given), dash(n.Display), n.Country, strings.ReplaceAll(n.Line, "_", " "), said})
		} else {
			rows = append(rows, []string{n.Given, fmt.Sprint(n.Valid), n.E164, n.Country, n.Region, n.Line, strings.Join(n.TimeZones, " "), n.Fictional, strings.Join(n.Changes, "; "), n.Reason})
		}
	}
	if !table {
		return a.print(
			cmd,
			all,
			[]string{"given", "valid", "e164", "country", "region", "line", "time_zones", "fictional", "changes", "reason"},
			rows,
		)
	}
	if err := a.print(cmd, all, []string{"given", "number", "country", "line", "said"}, rows); err != nil {
		return err
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s, %d valid\n", counted(len(all), "number"), len(all)-invalid)
	return nil
}

func dash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// writeNumber explains one number, a line a fact.
func writeNumber(w io.Writer, n client.Number) {
	if n.E164 == "" {
		fmt.Fprintf(w, "%s cannot be known: %s.\n", strings.TrimSpace(n.Given), n.Reason)
		return
	}
	fmt.Fprintf(w, "%s\n\n", n.E164)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(w, "  %-11s %s\n", name, value)
		}
	}
	line("written", n.Display)
	line("country", fmt.Sprintf("%s (%s)", n.Name, n.Country))
	line("region", n.Region)
	line("line", strings.ReplaceAll(n.Line, "_", " "))
	zones := n.TimeZones
	if len(zones) > 6 {
		zones = append(append([]string{}, zones[:6]...), fmt.Sprintf("and %d more", len(n.TimeZones)-6))
	}
	line("time", strings.Join(zones, ", "))
	if n.Fictional != "" {
		line("fictional", "reserved for fiction by "+n.Fictional+"; nobody answers there")
	}
	line("changed", strings.Join(n.Changes, ", "))
	if n.Reason != "" {
		line("but", n.Reason)
	}
}
