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
	"calmpigeon.example/internal/core/charset"
)

// senderFlags are what is known of a sender.
type senderFlags struct {
	client.NewSender
	defaults []string
}

func (f *senderFlags) add(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.BoolVar(&f.Default, "default", false, "use it where no other sender is given; the first one is anyway")
	flags.StringSliceVar(
		&f.defaults,
		"default-for",
		nil,
		"what it is the default for: a kind, a country, or KIND:COUNTRY, such as otp or otp:SE",
	)
	flags.StringSliceVar(&f.Countries, "country", nil, "countries it is for; all that accept it if not given")
	flags.StringSliceVar(&f.Gateways, "gateway", nil, "gateways that may use it; all if not given")
	flags.StringToStringVar(&f.Registrations, "registration", nil, "the id under which a country has registered it, as IE=ID")
	flags.BoolVar(&f.TwoWay, "two-way", false, "replies to it reach us")
	flags.StringVar(&f.RepliesTo, "replies-to", "",
		"the receiver of events that alone is told of what people write to it; all that want to know if empty")
	flags.IntVar(&f.PerSecond, "per-second", 0, "messages a second at most; as many as the gateway takes if 0")
}

// given puts what is on the command line into a sender and leaves the rest.
func (f *senderFlags) given(cmd *cobra.Command, n *client.NewSender) error {
	set := cmd.Flags().Changed
	if set("default") {
		n.Default = f.Default
		n.Defaults = slices.DeleteFunc(n.Defaults, func(d client.SenderDefault) bool { return d == client.SenderDefault{} })
	}
	if set("default-for") {
		n.Defaults = nil
		for _, d := range f.defaults {
			kind, country, both := strings.Cut(d, ":")
			if !both && len(kind) == 2 {
				kind, country = "", kind
			}
			n.Defaults = append(n.Defaults, client.SenderDefault{Kind: kind, Country: country})
		}
	}
	if set("country") {
		n.Countries = f.Countries
	}
	if set("gateway") {
		n.Gateways = f.Gateways
	}
	if set("registration") {
		n.Registrations = f.Registrations
	}
	if set("two-way") {
		n.TwoWay = f.TwoWay
	}
	if set("replies-to") {
		n.RepliesTo = f.RepliesTo
	}
	if set("per-second") {
		n.PerSecond = f.PerSecond
	}
	return nil
}

func (a *app) sender() *cobra.Command {
	var adding, setting senderFlags
	add := &cobra.Command{Use: "add SENDER", Short: "Register a sender", Args: cobra.ExactArgs(1),
		Example: "  pigeon sender add Lanternholm --default --registration IE=IE-LH-0031\n  pigeon sender add +447700900000 --two-way " +
			"--per-second 1\n  pigeon sender add 80123 --country IN --default-for IN",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			n := client.NewSender{Sender: args[0]}
			if err := adding.given(cmd, &n); err != nil {
				return err
			}
			s, err := c.AddSender(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.printSenders(cmd, s, s)
		})}
	adding.add(add)
	set := &cobra.Command{Use: "set SENDER", Short: "Change what is known of a sender; what is not given stays", Args: cobra.ExactArgs(1),
		Example: "  pigeon sender set Lanternholm --registration IE=IE-LH-0031,AU=AU-LH-0917",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			all, err := c.Senders(cmd.Context())
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all, func(s client.Sender) bool { return s.Sender == args[0] })
			if i < 0 {
				return fmt.Errorf("%s is not in use; add it with: pigeon sender add %q", args[0], args[0])
			}
			now := all[i]
			n := client.NewSender{
				Sender:        now.Sender,
				Defaults:      now.Defaults,
				Gateways:      now.Gateways,
				Countries:     now.Countries,
				Registrations: now.Registrations,
				TwoWay:        now.TwoWay,
				PerSecond:     now.PerSecond,
				RepliesTo:     now.RepliesTo,
			}
			if err := setting.given(cmd, &n); err != nil {
				return err
			}
			s, err := c.PutSender(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.printSenders(cmd, s, s)
		})}
	setting.add(set)
	list := &cobra.Command{
		Use:   "list",
		Short: "List the senders in use",
		Args:  cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := c.Senders(cmd.Context())
			if err != nil {
				return err
			}
			return a.printSenders(cmd, all, all...)
		}),
	}
	remove := &cobra.Command{
		Use:   "remove SENDER",
		Short: "Take a sender out of use",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			all, err := c.Senders(cmd.Context())
			if err != nil {
				return err
			}
			if err := c.RemoveSender(cmd.Context(), args[0]); err != nil {
				return err
			}
			undo := fmt.Sprintf("pigeon sender add %q", args[0])
			if i := slices.IndexFunc(all, func(s client.Sender) bool { return s.Sender == args[0] }); i >= 0 {
				undo = addAgain(all[i])
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s is out of use. To undo: %s\n", args[0], undo)
			return nil
		}),
	}
	return group("sender", "Manage senders, and the rules of countries for them", add, set, list, remove, a.rules())
}

// addAgain is the command that registers a sender as it is.
func addAgain(s client.Sender) string {
	words := []string{"pigeon sender add", fmt.Sprintf("%q", s.Sender)}
	for _, d := range s.Defaults {
		if d == (client.SenderDefault{}) {
			words = append(words, "--default")
		} else {
			words = append(words, "--default-for "+strings.Trim(d.Kind+":"+d.Country, ":"))
		}
	}
	for _, list := range []struct {
		flag string
		of   []string
	}{{"country", s.Countries}, {"gateway", s.Gateways}} {
		if len(list.of) > 0 {
			words = append(words, "--"+list.flag+" "+strings.Join(list.of, ","))
		}
	}
	for _, country := range slices.Sorted(maps.Keys(s.Registrations)) {
		words = append(words, fmt.Sprintf("--registration %q", country+"="+s.Registrations[country]))
	}
	if s.TwoWay {
		words = append(words, "--two-way")
	}
	if s.PerSecond > 0 {
		words = append(words, fmt.Sprintf("--per-second %d", s.PerSecond))
	}
	return strings.Join(words, " ")
}

func (a *app) printSenders(cmd *cobra.Command, value any, all ...client.Sender) error {
	var rows [][]string
	for _, s := range all {
		var defaults, registered []string
		for _, d := range s.Defaults {
			if d != (client.SenderDefault{}) {
				defaults = append(defaults, strings.Trim(d.Kind+":"+d.Country, ":"))
			}
		}
		for country, id := range s.Registrations {
			registered = append(registered, country+"="+id)
		}
		slices.Sort(registered)
		pace := ""
		if s.PerSecond > 0 {
			pace = fmt.Sprint(s.PerSecond)
		}
		rows = append(rows, []string{s.Sender, s.Kind, yes(s.Default), s.CreatedAt.Local().Format(time.DateTime),
			strings.Join(
				defaults,
				" ",
			), strings.Join(s.Countries, " "), strings.Join(s.Gateways, " "), strings.Join(registered, " "), yes(s.TwoWay), pace})
	}
	return a.print(
		cmd,
		value,
		[]string{"sender", "kind", "default", "since", "default for", "countries", "gateways", "registered", "two-way", "per second"},
		rows,
	)
}

func (a *app) rules() *cobra.Command {
	list := &cobra.Command{
		Use:   "list",
		Short: "List what countries accept",
		Args:  cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := c.Rules(cmd.Context())
			if err != nil {
				return err
			}
			return a.printRules(cmd, all, all...)
		}),
	}
	show := &cobra.Command{
		Use:   "show COUNTRY",
		Short: "Show what a country accepts, since when, and who says so",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			r, err := c.Rule(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				writeRule(cmd, r)
				return nil
			}
			return a.printRules(cmd, r, r)
		}),
	}
	var given client.Rule
	set := &cobra.Command{Use: "set COUNTRY", Short: "Change what a country accepts; what is not given stays", Args: cobra.ExactArgs(1),
		Long:    "Changes the rule of a country. Senders, texts and links are open, registered,\nclosed or unknown.",
		Example: "  pigeon sender rules set IE --alphanumeric registered --date 2026-11-20 --origin \"the gateway's account manager\"",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			r, err := c.Rule(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			for _, f := range []struct {
				name      string
				to, given *string
			}{{"alphanumeric", &r.Alphanumeric, &given.Alphanumeric}, {"numeric", &r.Numeric, &given.Numeric}, {"short-code", &r.ShortCode, &given.ShortCode},
				{"texts", &r.Texts, &given.Texts}, {"links", &r.Links, &given.Links}, {"opt-out", &r.OptOut, &given.OptOut},
				{"stop-answer", &r.StopAnswer, &given.StopAnswer}, {"start-answer", &r.StartAnswer, &given.StartAnswer},
				{"date", &r.Date, &given.Date}, {"origin", &r.Origin, &given.Origin}, {"note", &r.Note, &given.Note}} {
				if cmd.Flags().Changed(f.name) {
					*f.to = *f.given
				}
			}
			if !cmd.Flags().Changed("date") {
				r.Date = time.Now().Format(time.DateOnly)
			}
			if r, err = c.PutRule(cmd.Context(), r); err != nil {
				return err
			}
			return a.printRules(cmd, r, r)
		})}
	f := set.Flags()
	f.StringVar(&given.Alphanumeric, "alphanumeric", "", "names as senders")
	f.StringVar(&given.Numeric, "numeric", "", "numbers as senders")
	f.StringVar(&given.ShortCode, "short-code", "", "short codes as senders")
	f.StringVar(&given.Texts, "texts", "", "texts; registered: only registered templates")
	f.StringVar(&given.Links, "links", "", "links; registered: only in the wording of a registered template")
	f.StringVar(&given.OptOut, "opt-out", "", "what bulk texts must say, such as STOP")
	f.StringVar(&given.StopAnswer, "stop-answer", "", "what is answered to who writes STOP, or its like; \"\": nothing")
	f.StringVar(&given.StartAnswer, "start-answer", "", "what is answered to who writes START, or its like")
	f.StringVar(&given.Date, "date", "", "when it was looked at (default today)")
	f.StringVar(&given.Origin, "origin", "", "who says so")
	f.StringVar(&given.Note, "note", "", "what else there is to know")
	reset := &cobra.Command{
		Use:   "reset COUNTRY",
		Short: "Put the rule that ships back in force",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := c.ResetRule(cmd.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "The rule that ships holds again for %s.\n", strings.ToUpper(args[0]))
			return nil
		}),
	}
	export := &cobra.Command{
		Use:     "export",
		Short:   "Write all rules as a file",
		Args:    cobra.NoArgs,
		Example: "  pigeon sender rules export > rules.yaml",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			file, err := c.ExportRules(cmd.Context())
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(cmd.OutOrStdout(), file.Source)
			return err
		}),
	}
	var dryRun bool
	load := &cobra.Command{
		Use:     "import FILE",
		Short:   "Take the rules of a file in, all or none",
		Args:    cobra.ExactArgs(1),
		Example: "  pigeon sender rules import rules.yaml --dry-run",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			source, err := readFile(cmd, args[0])
			if err != nil {
				return err
			}
			change, err := c.ImportRules(cmd.Context(), client.RulesFile{Source: source}, dryRun)
			if err != nil {
				return err
			}
			if dryRun {
				fmt.Fprintln(cmd.ErrOrStderr(), "Nothing was changed. It would be:")
			}
			return a.print(
				cmd,
				change,
				[]string{"new", "changed", "unchanged"},
				[][]string{{strings.Join(change.New, " "), strings.Join(change.Changed, " "), fmt.Sprint(change.Unchanged)}},
			)
		}),
	}
	load.Flags().BoolVar(&dryRun, "dry-run", false, "say what would change, and change nothing")
	return group("rules", "What countries accept: senders, texts, links, quiet hours", list, show, set, reset, export, load)
}

// readFile reads a file, or standard input where it is a dash.
func readFile(cmd *cobra.Command, name string) (string, error) {
	if name == "-" {
		return given(cmd, "-", "")
	}
	source, err := os.ReadFile(name)
	if err != nil {
		return "", usagef("%w", err)
	}
	if err := charset.Check(source); err != nil {
		return "", usagef("%s: %v", name, err)
	}
	return string(source), nil
}

func quietHours(r client.Rule) string {
	var said []string
	for _, q := range r.Quiet {
		one := fmt.Sprintf("%s %s to %s", strings.Join(q.Kinds, ", "), q.From, q.To)
		if len(q.Days) > 0 {
			one += ", all of " + strings.Join(q.Days, ", ")
		}
		said = append(said, one)
	}
	return strings.Join(said, "; ")
}

func (a *app) printRules(cmd *cobra.Command, value any, all ...client.Rule) error {
	var rows [][]string
	for _, r := range all {
		by := r.ChangedBy
		if by == "" {
			by = "as shipped"
		}
		rows = append(
			rows,
			[]string{r.Country, r.Name, r.Alphanumeric, r.Numeric, r.ShortCode, r.Texts, r.Links, quietHours(r), r.OptOut, r.Date, by},
		)
	}
	return a.print(
		cmd,
		value,
		[]string{"country", "name", "alphanumeric", "numeric", "short code", "texts", "links", "quiet", "opt-out", "date", "by"},
		rows,
	)
}

func writeRule(cmd *cobra.Command, r client.Rule) {
	w := cmd.OutOrStdout()
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(w, "  %-13s %s\n", name, value)
		}
	}
	fmt.Fprintf(w, "%s (%s)\n\n", r.Name, r.Country)
	line("alphanumeric", r.Alphanumeric)
	line("numeric", r.Numeric)
	line("short code", r.ShortCode)
	line("texts", r.Texts)
	line("links", r.Links)
	line("quiet", quietHours(r))
	line("opt-out", r.OptOut)
	line("stop answer", r.StopAnswer)
	line("start answer", r.StartAnswer)
	line("note", r.Note)
	line("date", r.Date)
	line("origin", r.Origin)
	if r.ChangedAt != nil {
		line("changed", "by "+r.ChangedBy+" "+clock(*r.ChangedAt))
	}
}
