package cli

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/template"
	"calmpigeon.example/internal/explain"
)

func (a *app) template() *cobra.Command {
	list := &cobra.Command{
		Use:   "list",
		Short: "List the templates",
		Args:  cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := c.Templates(cmd.Context())
			if err != nil {
				return err
			}
			if err := sayFlaws(cmd, c, "template"); err != nil {
				return err
			}
			return a.printTemplates(cmd, all, all...)
		}),
	}
	show := &cobra.Command{
		Use:   "show NAME",
		Short: "Show a template as a file",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			t, err := c.Template(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				_, err = fmt.Fprint(cmd.OutOrStdout(), t.Source)
				return err
			}
			return a.printTemplates(cmd, t, t)
		}),
	}
	var replace bool
	add := &cobra.Command{
		Use:     "add FILE",
		Short:   "Add a template from a file, or - for standard input",
		Args:    cobra.ExactArgs(1),
		Example: "  pigeon template add crossing-moved.yaml\n  pigeon template add crossing-moved.yaml --replace",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			source, err := readFile(cmd, args[0])
			if err != nil {
				return err
			}
			var t client.Template
			if replace {
				read, wrong := template.Read([]byte(source))
				if wrong != nil {
					return usagef("%s: %v", args[0], wrong)
				}
				t, err = c.PutTemplate(cmd.Context(), read.Name, client.TemplateFile{Source: source})
			} else {
				t, err = c.AddTemplate(cmd.Context(), client.TemplateFile{Source: source})
			}
			if err != nil {
				return err
			}
			return a.printTemplates(cmd, t, t)
		}),
	}
	add.Flags().BoolVar(&replace, "replace", false, "change the one of the same name, if there is one")
	remove := &cobra.Command{
		Use:   "remove NAME",
		Short: "Forget a template",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			t, err := c.Template(cmd.Context(), args[0])
			if err == nil {
				err = c.RemoveTemplate(cmd.Context(), args[0])
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s is forgotten. It was:\n%s", args[0], t.Source)
			return nil
		}),
	}
	return group("template", "Manage templates: texts with fields, in several languages", add, list, show, a.templateCheck(), remove)
}

func (a *app) printTemplates(cmd *cobra.Command, value any, all ...client.Template) error {
	var rows [][]string
	for _, t := range all {
		rows = append(
			rows,
			[]string{
				t.Name,
				strings.Join(slices.Sorted(maps.Keys(t.Texts)), " "),
				strings.Join(t.Must, " "),
				strings.Join(t.May, " "),
				t.Kind,
				t.Sender,
				t.Cure,
				flat(t.Texts[t.Language]),
			},
		)
	}
	return a.print(cmd, value, []string{"name", "languages", "needs", "may have", "kind", "sender", "cure", "text"}, rows)
}

func (a *app) templateCheck() *cobra.Command {
	var data, encoding, lang, prices string
	var values map[string]string
	cmd := &cobra.Command{
		Use:   "check FILE",
		Short: "Check a template, preview it, and weigh it over data; needs no service",
		Long: "Checks a template file and shows its texts, with --field filled in. With --data,\n" +
			"a sheet whose head names the fields (CSV, XLSX or JSON Lines), it renders every\n" +
			"row and tells the shortest, longest and typical text, and which rows cannot go.\n" +
			"What the sheet is written in, and which columns hold numbers, countries and\n" +
			"languages, is recognised and said. It ends with 3 if a row cannot go.",
		Example: "  pigeon template check crossing-moved.yaml --field time=07:40 --field port=Skerrow --field berth=3\n  pigeon " +
			"template check crossing-moved.yaml --data passengers.csv",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			source, err := readFile(cmd, args[0])
			if err != nil {
				return err
			}
			t, err := template.Read([]byte(source))
			if err != nil {
				return fmt.Errorf("%s: %w", args[0], err)
			}
			if data != "" {
				return a.weighData(cmd, t, data, encoding, lang, prices)
			}
			return a.preview(cmd, t, lang, values)
		},
	}
	f := cmd.Flags()
	f.StringVar(&data, "data", "", "a list with a row for each recipient: CSV, XLSX or JSON Lines")
	f.StringVar(&encoding, "encoding", "", "what it is written in, such as windows-1251, where that is not recognised")
	f.StringVar(&prices, "prices", "", "a price list in CSV: with --data, also what all rows cost, by their columns to and country")
	f.StringVar(&lang, "language", "", "only this text; with --data, of rows that name none")
	f.StringToStringVar(&values, "field", nil, "what is put in, as NAME=VALUE; may be given several times")
	return cmd
}

// preview shows the texts of a template; what is missing stays a field.
func (a *app) preview(cmd *cobra.Command, t *template.Template, lang string, given map[string]string) error {
	values := t.Example()
	must, may := t.Needs()
	for name, value := range given {
		if !slices.Contains(must, name) && !slices.Contains(may, name) {
			return usagef("--field %s: the template has no such field; it has %s", name, dash(strings.Join(append(must, may...), ", ")))
		}
		values[name] = value
	}
	var examples []string
	for _, name := range must {
		if given[name] == "" {
			examples = append(examples, fmt.Sprintf("%s=%v", name, values[name]))
		}
	}
	languages := slices.Sorted(maps.Keys(t.Texts))
	if lang != "" {
		languages = []string{t.For(lang, "")}
	}
	out := cmd.OutOrStdout()
	all := map[string]client.Weighing{}
	for _, l := range languages {
		rendered, err := t.Render(l, values)
		if err != nil {
			return err
		}
		text, _ := smstext.Options{}.Cure(rendered.Text, t.Cure)
		all[l] = explain.Text(text, smstext.Options{})
	}
	if a.config.GetString("output") == "json" {
		return a.print(cmd, all, nil, nil)
	}
	fmt.Fprintf(out, "%s is well-formed. It needs %s", t.Name, dash(strings.Join(must, ", ")))
	if len(may) > 0 {
		fmt.Fprintf(out, "; it may have %s", strings.Join(may, ", "))
	}
	fmt.Fprintln(out, ".")
	if len(examples) > 0 {
		fmt.Fprintf(
			out,
			"Weighed with examples: %s. Give your own with --field, or all of them with --data.\n",
			strings.Join(examples, ", "),
		)
	}
	for _, l := range languages {
		fmt.Fprintf(out, "\n%s: ", l)
		writeWeighing(out, all[l])
	}
	return nil
}

// weighData renders every row of a file and tells what they weigh and, by a
// price list, what they cost.
func (a *app) weighData(cmd *cobra.Command, t *template.Template, file, encoding, lang, prices string) error {
	source, err := os.Open(file)
	if err != nil {
		return usagef("--data: %w", err)
	}
	defer source.Close()
	list, broken := sheet.Open(source, sheet.Hint{Encoding: encoding})
	if broken != nil {
		return fmt.Errorf("%s: %w", file, broken)
	}
	defer list.Close()
	columns := list.Columns("")
	found := []string{list.Found.String()}
	for _, c := range columns {
		if c.Role != "" {
			found = append(found, c.String())
		}
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "%s: %s\n", file, strings.Join(found, "; "))
	var estimate price.Estimate
	var each func(template.Row, template.Sample)
	if prices != "" {
		by, err := readPrices(prices)
		if err != nil {
			return err
		}
		each = func(row template.Row, s template.Sample) {
			estimate.Add(row.Estimate(by, t.Kind, s.Weight.Segments, time.Now()))
		}
	}
	span := t.Weigh(t.Rows(list, columns, lang, &broken), smstext.Options{}, each)
	if broken != nil {
		return fmt.Errorf("%s: %w", file, broken)
	}
	value := explain.Span(span)
	if prices != "" {
		value.Cost = explain.Estimate(estimate)
	}
	var rows [][]string
	for _, s := range []struct {
		name string
		*client.TemplateSample
	}{{"shortest", value.Shortest}, {"typical", value.Typical}, {"longest", value.Longest}} {
		if s.TemplateSample != nil {
			rows = append(
				rows,
				[]string{s.name, fmt.Sprint(s.Row), fmt.Sprint(s.Segments), fmt.Sprint(s.Units), s.Encoding, flat(s.Text)},
			)
		}
	}
	if a.config.GetString("output") == "table" {
		fmt.Fprintf(
			cmd.OutOrStdout(),
			"%s, %s in all, %d cannot be sent\n",
			counted(span.Rows, "row"),
			counted(int(span.Segments), "segment"),
			span.Failed,
		)
		if prices != "" {
			fmt.Fprintf(cmd.OutOrStdout(), "They cost %s.\n", &estimate)
		}
		fmt.Fprintln(cmd.OutOrStdout())
	}
	if err := a.print(cmd, value, []string{"", "row", "segments", "units", "encoding", "text"}, rows); err != nil {
		return err
	}
	for _, f := range span.Faults {
		fmt.Fprintln(cmd.ErrOrStderr(), f)
	}
	if more := span.Failed - len(span.Faults); more > 0 {
		fmt.Fprintf(cmd.ErrOrStderr(), "… and %d more\n", more)
	}
	if span.Failed > 0 {
		return exit(exitRefused)
	}
	return nil
}
