package cli

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) passcode() *cobra.Command {
	return group(
		"passcode",
		"Send one-time passwords, and check them",
		a.passcodeIssue(),
		a.passcodeCheck(),
		a.passcodeAgain(),
		a.passcodeShow(),
		a.passcodeList(),
		a.passcodeEnd(),
		a.passcodeFunnel(),
		a.passcodeLimits(),
		a.passcodeBlock(),
		a.passcodeSuspicion(),
		a.passcodeRules(),
		a.passcodeAlarm(),
	)
}

func (a *app) passcodeIssue() *cobra.Command {
	var n client.NewPasscode
	var letters bool
	var fields []string
	var token string
	cmd := &cobra.Command{
		Use:   "issue NUMBER",
		Short: "Draw a code and send it",
		Long: "Sends a code to NUMBER. Of a number and a purpose the newest counts. The code is shown nowhere,\n" +
			"but with --reveal, which takes a key for practice (pigeon key new --practice). Limits hold for\n" +
			"numbers, addresses of end users, networks and ranges of numbers: pigeon passcode limits.",
		Example: "  pigeon passcode issue +447700900123 --purpose sign-in\n" +
			"  pigeon passcode issue +447700900123 --purpose sign-in --language de --length 8 --life 10m --address 192.0.2.7",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			n.To = args[0]
			if letters {
				n.Of = "letters"
			}
			for _, f := range fields {
				name, value, ok := strings.Cut(f, "=")
				if !ok {
					return usagef("--field %q: accepted is NAME=VALUE", f)
				}
				if n.Fields == nil {
					n.Fields = map[string]any{}
				}
				n.Fields[name] = value
			}
			p, err := c.Issue(cmd.Context(), n, token)
			if err != nil {
				return err
			}
			return a.showPasscode(cmd, p)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&n.Purpose, "purpose", "", "what it is for, such as sign-in")
	f.StringVar(&n.Country, "country", "", "in which NUMBER is dialled, if it has no country code")
	f.StringVar(&n.Template, "template", "", "a template with the fields {code} and {minutes}; a text that ships if not given")
	f.StringVar(&n.Language, "language", "", "of the text (BCP 47)")
	f.StringArrayVar(&fields, "field", nil, "a field of the template, as NAME=VALUE; may be given several times")
	f.StringVar(&n.Sender, "sender", "", "from whom it comes")
	f.StringVar(&n.Gateway, "gateway", "", "through which it goes")
	f.BoolVar(&letters, "letters", false, "letters without look-alikes, not digits")
	f.IntVar(&n.Length, "length", 0, "characters of the code, 4 to 10; 6 if not given")
	f.Var(wireSpan{&n.Life}, "life", "how long it holds, 30s to 1h; 5m if not given")
	f.IntVar(&n.Tries, "tries", 0, "wrong codes that may be typed; 5 if not given")
	f.StringVar(&n.Address, "address", "", "the end user's IP address")
	f.StringVar(&n.Reference, "reference", "", "a reference of your own")
	f.StringVar(&n.Domain, "domain", "", "the host that the code is bound to, so that phones fill it in there")
	f.StringVar(&n.AppHash, "app-hash", "", "the hash of the app that is meant")
	f.IntVar(&n.SuspicionMost, "suspicion-most", 0, "how suspicious it may be, at most, to be sent: 1 to 100; not asked if not given")
	f.BoolVar(&n.Reveal, "reveal", false, "show the code; takes a key for practice")
	f.StringVar(&token, "idempotency-key", "", "repeating the same request with it sends nothing more")
	return cmd
}

// showPasscode writes how one passcode stands.
func (a *app) showPasscode(cmd *cobra.Command, p client.Passcode) error {
	if a.config.GetString("output") != "table" {
		return a.print(cmd, p, passcodeHead, [][]string{a.passcodeRow(p)})
	}
	out := cmd.OutOrStdout()
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(out, "  %-10s %s\n", name, value)
		}
	}
	fmt.Fprintf(out, "%s\n\n", p.State)
	line("passcode", p.ID)
	line("code", p.Code)
	line("to", p.Number)
	line("purpose", p.Purpose)
	line("made of", fmt.Sprintf("%d %s", p.Length, p.Of))
	line("sent", passcodeSends(p, a.at))
	line("holds", "until "+a.at(p.EndsAt))
	line("tries", fmt.Sprintf("%d left", p.TriesLeft))
	if p.UsedAt != nil {
		line("used", a.at(*p.UsedAt))
	}
	line("address", p.Address)
	line("reference", p.Reference)
	line("template", p.Template)
	line("language", p.Language)
	line("message", p.Message)
	for i, t := range p.Texts {
		name, way := "", "text"
		if i == 0 {
			name = "went"
		}
		if t.Spoken {
			way = "call"
		}
		fmt.Fprintf(
			out,
			"  %-10s %s  %s through %s: %s  %s\n",
			name,
			a.at(t.CreatedAt),
			way,
			t.Gateway,
			strings.TrimSpace(t.State+" "+t.Cause),
			t.Message,
		)
	}
	if s := p.Suspicion; s != nil {
		fmt.Fprintf(out, "\nsuspicion ")
		a.writeSuspicion(cmd, *s)
	}
	if p.Again {
		fmt.Fprintln(cmd.ErrOrStderr(), "The same was asked for before: nothing was sent now.")
	}
	for _, w := range p.Warnings {
		fmt.Fprintf(cmd.ErrOrStderr(), "%s: %s\n", w.Field, w.Say)
	}
	return nil
}

func passcodeSends(p client.Passcode, at func(time.Time) string) string {
	said := counted(p.Sends, "time")
	if p.Gateway != "" {
		said += ", now through " + p.Gateway
	}
	if p.AgainAt != nil {
		said += fmt.Sprintf("; again from %s on, %s more", at(*p.AgainAt), counted(p.SendsLeft, "time"))
	}
	return said
}

var passcodeHead = []string{"created", "state", "to", "purpose", "sent", "tries left", "holds until", "address", "reference", "id"}

func (a *app) passcodeRow(p client.Passcode) []string {
	return []string{
		a.at(p.CreatedAt),
		p.State,
		p.Number,
		p.Purpose,
		strconv.Itoa(p.Sends),
		strconv.Itoa(p.TriesLeft),
		a.at(p.EndsAt),
		p.Address,
		p.Reference,
		p.ID,
	}
}

func (a *app) passcodeCheck() *cobra.Command {
	var to, purpose string
	cmd := &cobra.Command{
		Use:   "check [ID] CODE",
		Short: "Say whether a code is the right one",
		Long: "Says right, wrong, ended, used or locked, and how many tries are left. Spaces, dashes and digits of\n" +
			"other scripts are forgiven. Without an ID the newest of --to and --purpose is meant. Ends with 7\n" +
			"where the code is not right.",
		Example: "  pigeon passcode check 019abd5d-… 042197\n  pigeon passcode check --to +447700900123 --purpose sign-in \"042 197\"",
		Args:    cobra.RangeArgs(1, 2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			var v client.PasscodeVerdict
			var err error
			switch {
			case len(args) == 2:
				v, err = c.Check(cmd.Context(), args[0], args[1])
			case to == "" || purpose == "":
				return usagef("an ID is missing, or --to and --purpose")
			default:
				v, err = c.CheckFor(cmd.Context(), to, purpose, args[0])
			}
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.OutOrStdout(), verdictWords(v))
			} else if err := a.print(cmd, v, []string{"verdict", "tries left"}, [][]string{{v.Verdict, strconv.Itoa(v.TriesLeft)}}); err != nil {
				return err
			}
			if v.Verdict != "right" {
				return exit(exitNotRight)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&to, "to", "", "the number that the code was sent to")
	cmd.Flags().StringVar(&purpose, "purpose", "", "what it is for")
	return cmd
}

func verdictWords(v client.PasscodeVerdict) string {
	switch v.Verdict {
	case "wrong":
		return fmt.Sprintf("wrong; %s left", counted(v.TriesLeft, "try"))
	case "ended":
		return "ended: its time is over, or a newer one was sent"
	case "used":
		return "used: it was right once, and is right no more"
	case "locked":
		return "locked: too many wrong codes were typed"
	}
	return v.Verdict
}

func (a *app) passcodeAgain() *cobra.Command {
	var how client.PasscodeAgain
	var voice bool
	cmd := &cobra.Command{Use: "again ID", Short: "Send the same code again", Args: cobra.ExactArgs(1),
		Long: "Sends the same code again while it lives, after a pause that grows, three times at most; through\n" +
			"another gateway than the one that was silent, if there is one. What was delivered is sent again\n" +
			"with --anyway only. --voice lets it be spoken in a call, where a gateway offers that.",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if voice {
				how.By = "voice"
			}
			p, err := c.AgainBy(cmd.Context(), args[0], how)
			if err != nil {
				return err
			}
			return a.showPasscode(cmd, p)
		})}
	cmd.Flags().BoolVar(&how.Anyway, "anyway", false, "although the last text was delivered")
	cmd.Flags().BoolVar(&voice, "voice", false, "spoken in a call")
	return cmd
}

func (a *app) passcodeShow() *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "Show how a passcode stands, without its code", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			p, err := c.Passcode(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.showPasscode(cmd, p)
		})}
}

func (a *app) passcodeEnd() *cobra.Command {
	return &cobra.Command{Use: "end ID", Short: "End a passcode: no code is right any more", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			p, err := c.EndPasscode(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.showPasscode(cmd, p)
		})}
}

func (a *app) passcodeList() *cobra.Command {
	var to, purpose string
	var limit int
	cmd := &cobra.Command{Use: "list", Short: "List passcodes, the newest first", Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			l, err := c.Passcodes(cmd.Context(), to, purpose, "", limit)
			if err != nil {
				return err
			}
			if len(l.Items) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "No passcode was sent: pigeon passcode issue NUMBER --purpose sign-in")
				return nil
			}
			rows := make([][]string, len(l.Items))
			for i, p := range l.Items {
				rows[i] = a.passcodeRow(p)
			}
			return a.print(cmd, l, passcodeHead, rows)
		})}
	cmd.Flags().StringVar(&to, "to", "", "only to this number")
	cmd.Flags().StringVar(&purpose, "purpose", "", "only for this purpose")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many, 500 at most")
	return cmd
}

func (a *app) passcodeFunnel() *cobra.Command {
	var f filterFlags
	var purpose, by string
	var times bool
	cmd := &cobra.Command{
		Use:   "funnel",
		Short: "How passcodes fare, from being issued until they are right",
		Long: "Tells how many passcodes were issued, sent again, delivered, checked and right, by the hour in which\n" +
			"they were issued, and how long it took. What is right of those that were issued is the true measure\n" +
			"of a gateway.",
		Example: "  pigeon passcode funnel --since 24h\n  pigeon passcode funnel --by country --gateway harbourline\n" +
			"  pigeon passcode funnel --times",
		Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			filter, err := f.filter(time.Now())
			if err != nil {
				return err
			}
			r, err := c.PasscodeFunnel(cmd.Context(), filter, purpose, by)
			if err != nil {
				return err
			}
			if r.All.Issued == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "No passcode was issued in this time: pigeon passcode issue NUMBER --purpose sign-in")
				return nil
			}
			row := func(name string, g client.PasscodeFared) []string {
				return []string{
					name,
					thousands(g.Issued),
					thousands(g.Again),
					thousands(g.Messages),
					thousands(g.Accepted),
					thousands(g.Delivered),
					thousands(g.Checked),
					thousands(g.Right),
					rateWords(g.Conversion),
				}
			}
			var rows [][]string
			fared := func(g client.PasscodeFared) string {
				if g.At != nil {
					return a.at(*g.At)
				}
				return g.Gateway + g.Country + g.Purpose + g.Template
			}
			for _, g := range r.Groups {
				rows = append(rows, row(fared(g), g))
			}
			if len(r.Groups) != 1 {
				rows = append(rows, row("together", r.All))
			}
			head := []string{r.By, "issued", "again", "messages", "accepted", "delivered", "checked", "right", "of issued"}
			if times {
				head, rows = []string{r.By}, nil
				for _, step := range []string{"accepted", "delivered", "checked", "right"} {
					head = append(head, step+" within", "9 in 10")
				}
				for _, g := range append(slices.Clone(r.Groups), r.All) {
					row := []string{cmp.Or(fared(g), "together")}
					for _, t := range []*client.Took{g.Took.Accepted, g.Took.Delivered, g.Took.Checked, g.Took.Right} {
						if t == nil {
							row = append(row, "", "")
							continue
						}
						row = append(row, tookWords(&t.P50Ms), tookWords(&t.P90Ms))
					}
					rows = append(rows, row)
				}
			}
			return a.printGrid(cmd, r, grid{head: head, rows: rows, right: head[1:]})
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&f.Gateway, "gateway", "", "only through this gateway")
	flags.StringVar(&f.Country, "country", "", "only to numbers of this country (ISO 3166-1)")
	flags.StringVar(&f.Template, "template", "", "only with this template")
	flags.StringVar(&purpose, "purpose", "", "only for this purpose")
	flags.StringVar(&f.since, "since", "24h", "from a time (2026-11-15T07:40:00Z) or a span back from now (90m)")
	flags.StringVar(&f.until, "until", "", "until a time or a span back from now")
	flags.StringVar(&by, "by", "gateway", "what is held side by side: gateway, country, purpose, template or hour")
	flags.BoolVar(&times, "times", false, "tell how long each step took instead: half of them at most, and nine in ten")
	return cmd
}

func (a *app) passcodeLimits() *cobra.Command {
	var set []string
	var usual bool
	cmd := &cobra.Command{
		Use:   "limits",
		Short: "How many passcodes are sent at most; set it with --set",
		Long: "Lists the limits that hold. --set number/hour=5 sets one, none lets none hold, usual takes it back;\n" +
			"what it can be by: number, address (of the end user), network, site (of IPv6, the /48), range (numbers\n" +
			"that differ in their last three digits), stretch (in their last five), purpose, country and key, each\n" +
			"a minute, an hour or a day. No window, wherever it begins, holds more.",
		Example: "  pigeon passcode limits\n  pigeon passcode limits --set number/hour=3 --set country/day=none\n" +
			"  pigeon passcode limits --usual",
		Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			l, err := c.PasscodeLimits(cmd.Context())
			if err != nil {
				return err
			}
			if usual {
				l.Items = nil
			}
			if usual || set != nil {
				kept, err := limitsSet(l.Items, set)
				if err != nil {
					return err
				}
				if l, err = c.SetPasscodeLimits(cmd.Context(), kept); err != nil {
					return err
				}
			}
			rows := make([][]string, len(l.Items))
			for i, one := range l.Items {
				most, which := "none", "usual"
				if one.Most != nil {
					most = strconv.Itoa(*one.Most)
				}
				if one.Set {
					which = "set"
				}
				rows[i] = []string{one.By, one.Window, most, which}
			}
			return a.print(cmd, l, []string{"for each", "in a", "at most", "which is"}, rows)
		}),
	}
	cmd.Flags().
		StringArrayVar(&set, "set", nil, "a limit, such as number/hour=5, number/hour=none or number/hour=usual; may be given several times")
	cmd.Flags().BoolVar(&usual, "usual", false, "take all back that were set")
	return cmd
}

// limitsSet are the limits that are set, with changes.
func limitsSet(now []client.PasscodeLimit, changes []string) (kept []client.PasscodeLimit, err error) {
	for _, l := range now {
		if l.Set {
			kept = append(kept, l)
		}
	}
	for _, change := range changes {
		what, value, ok := strings.Cut(change, "=")
		by, window, both := strings.Cut(what, "/")
		if !ok || !both {
			return nil, usagef("--set %q: accepted is such as number/hour=5, number/hour=none or number/hour=usual", change)
		}
		var rest []client.PasscodeLimit
		for _, l := range kept {
			if l.By != by || l.Window != window {
				rest = append(rest, l)
			}
		}
		kept = rest
		one := client.PasscodeLimit{By: by, Window: window}
		switch value {
		case "usual":
			continue
		case "none":
		default:
			most, err := strconv.Atoi(value)
			if err != nil {
				return nil, usagef("--set %q: accepted is a number, none or usual", change)
			}
			one.Most = &most
		}
		kept = append(kept, one)
	}
	return kept, nil
}

func (a *app) passcodeBlock() *cobra.Command {
	return group("block", "What gets no passcodes", a.blockAdd(), a.blockList(), a.blockLift())
}

var blockHead = []string{"what", "value", "since", "until", "by", "why", "lifted", "id"}

func (a *app) blockRow(b client.PasscodeBlock) []string {
	until, lifted := "for good", ""
	if b.Until != nil {
		until = a.at(*b.Until)
	}
	if b.LiftedAt != nil {
		lifted = strings.TrimSpace(a.at(*b.LiftedAt) + " " + b.LiftedBy + " " + b.LiftedWhy)
	}
	return []string{b.What, b.Value, a.at(b.Since), until, b.By, b.Why, lifted, b.ID}
}

func (a *app) blockAdd() *cobra.Command {
	var n client.NewPasscodeBlock
	cmd := &cobra.Command{
		Use:   "add WHAT VALUE",
		Short: "Block a number, a range, a stretch, a country, an address, a network or a site",
		Example: "  pigeon passcode block add number +447700900123 --for 24h --why \"it asks again and again\"\n" +
			"  pigeon passcode block add range +447700900123      # and all that differ in their last three digits\n" +
			"  pigeon passcode block add network 192.0.2.7",
		Args: cobra.ExactArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			n.What, n.Value = args[0], args[1]
			b, err := c.BlockPasscodes(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.print(cmd, b, blockHead, [][]string{a.blockRow(b)})
		}),
	}
	cmd.Flags().Var(wireSpan{&n.For}, "for", "for how long, such as 24h; for good if not given")
	cmd.Flags().StringVar(&n.Why, "why", "", "why, for whoever lifts it")
	return cmd
}

func (a *app) blockList() *cobra.Command {
	var all bool
	cmd := &cobra.Command{Use: "list", Short: "List what is blocked, the newest first", Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			l, err := c.PasscodeBlocks(cmd.Context(), all)
			if err != nil {
				return err
			}
			if len(l.Items) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "Nothing is blocked.")
				return nil
			}
			rows := make([][]string, len(l.Items))
			for i, b := range l.Items {
				rows[i] = a.blockRow(b)
			}
			return a.print(cmd, l, blockHead, rows)
		})}
	cmd.Flags().BoolVar(&all, "all", false, "also what is over or was lifted")
	return cmd
}

func (a *app) blockLift() *cobra.Command {
	var why string
	cmd := &cobra.Command{Use: "lift ID", Short: "End a block", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			b, err := c.LiftPasscodeBlock(cmd.Context(), args[0], why)
			if err != nil {
				return err
			}
			return a.print(cmd, b, blockHead, [][]string{a.blockRow(b)})
		})}
	cmd.Flags().StringVar(&why, "why", "", "why")
	return cmd
}
