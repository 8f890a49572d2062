package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) gateway() *cobra.Command {
	list := &cobra.Command{
		Use:   "list",
		Short: "List the gateways in use, how they fare and why",
		Args:  cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			all, err := c.Gateways(cmd.Context())
			if err != nil {
				return err
			}
			if err := sayFlaws(cmd, c, "gateway"); err != nil {
				return err
			}
			return a.printGateways(cmd, all, all...)
		}),
	}
	show := &cobra.Command{
		Use:   "show NAME",
		Short: "Show one gateway, without its secrets",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			g, err := c.Gateway(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				return a.describeGateway(cmd, g)
			}
			return a.printGateways(cmd, g, g)
		}),
	}
	var why string
	pause := &cobra.Command{Use: "pause NAME", Short: "Let nothing more go through a gateway", Args: cobra.ExactArgs(1),
		Long:    "Lets nothing more go through a gateway until it is resumed. What is on its way is\nstill heard of; what waits takes the next gateway of its route, or waits.",
		Example: "  pigeon gateway pause harbourline --why \"maintenance until noon\"",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			g, err := c.PauseGateway(cmd.Context(), args[0], why)
			if err != nil {
				return err
			}
			return a.printGateways(cmd, g, g)
		})}
	pause.Flags().StringVar(&why, "why", "", "what others are told")
	resume := &cobra.Command{
		Use:   "resume NAME",
		Short: "End a pause",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			g, err := c.ResumeGateway(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printGateways(cmd, g, g)
		}),
	}
	remove := &cobra.Command{
		Use:   "remove NAME",
		Short: "Take a gateway out of use, when it has nothing left to do",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := c.RemoveGateway(cmd.Context(), args[0]); err != nil {
				return err
			}
			fmt.Fprintf(
				cmd.ErrOrStderr(),
				"%s is out of use. Its messages keep their evidence, and late receipts still find them.\n",
				args[0],
			)
			return nil
		}),
	}
	test := &cobra.Command{Use: "test NAME", Short: "Check the credentials of a gateway without sending anything", Args: cobra.ExactArgs(1),
		Long: "Asks the gateway what costs nothing: its balance, a message that does not exist, or\na token. Says in plain words " +
			"which of the usual mistakes it looks like. It ends with\n3 if the credentials do not work.",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			t, err := c.TestGateway(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printTrial(cmd, t)
		})}
	return group("gateway", "Manage gateways", a.gatewayAdd(), a.gatewaySet(), list, show, test, pause, resume, remove, a.prices())
}

// secretFlags reads secrets as they are given on the command line.
func secretFlags(given []string) (map[string]string, error) {
	secrets := map[string]string{}
	for _, one := range given {
		name, value, ok := strings.Cut(one, "=")
		if !ok {
			return nil, usagef("--secret: accepted is NAME=VALUE, NAME=@FILE or NAME=env:VARIABLE")
		}
		var err error
		if secrets[name], err = secretValue(value); err != nil {
			return nil, usagef("--secret %s: %w", name, err)
		}
	}
	return secrets, nil
}

func secretValue(given string) (string, error) {
	if file, ok := strings.CutPrefix(given, "@"); ok {
		value, err := os.ReadFile(file)
		return strings.TrimRight(string(value), "\r\n"), err
	}
	if name, ok := strings.CutPrefix(given, "env:"); ok {
		value, set := os.LookupEnv(name)
		if !set {
			return "", fmt.Errorf("%s is not set in the environment", name)
		}
		return value, nil
	}
	return given, nil
}

// dialectGiven is a dialect as it is given on the command line: the name of one
// that ships, or the source of a file.
func dialectGiven(given string) (name, source string, err error) {
	file, err := os.ReadFile(given)
	switch {
	case err == nil:
		return "", string(file), nil
	case errors.Is(err, fs.ErrNotExist) && !strings.ContainsAny(given, "/."):
		return given, "", nil
	}
	return "", "", usagef("dialect: %w", err)
}

const secretHelp = "a secret that the dialect names, as NAME=VALUE, NAME=@FILE or NAME=env:VARIABLE; may be given several times"

func (a *app) gatewayAdd() *cobra.Command {
	var n client.NewGateway
	var secrets []string
	cmd := &cobra.Command{
		Use:   "add DIALECT ADDRESS",
		Short: "Add a gateway: a dialect, an address, secrets",
		Long: "Adds a gateway that speaks DIALECT (a file, or the name of one that ships) at\n" +
			"ADDRESS. A secret is given as NAME=VALUE, as NAME=@FILE or as NAME=env:VARIABLE;\n" +
			"the last two keep it out of your shell's history.",
		Example: "  pigeon gateway add harbourline http://127.0.0.1:7411/harbourline \\\n      --secret api_key=env:HARBOURLINE_KEY " +
			"--secret receipt_secret=@receipt-secret.txt",
		Args: cobra.ExactArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			n.Address = args[1]
			var err error
			if n.Dialect, n.Source, err = dialectGiven(args[0]); err != nil {
				return err
			}
			if n.Secrets, err = secretFlags(secrets); err != nil {
				return err
			}
			g, err := c.AddGateway(cmd.Context(), n)
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				fmt.Fprintf(cmd.ErrOrStderr(), "Added. Check its credentials with: pigeon gateway test %s\n", g.Name)
			}
			return a.printGateways(cmd, g, g)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&n.Name, "name", "", "what it is called here; the dialect's name if not given")
	f.StringArrayVar(&secrets, "secret", nil, secretHelp)
	f.IntVar(&n.PerSecond, "per-second", 0, "messages a second at most; the dialect's own if not given")
	f.IntVar(&n.PerMinute, "per-minute", 0, "messages a minute at most")
	f.IntVar(&n.PerDay, "per-day", 0, "messages in any 24 hours at most")
	f.IntVar(&n.InFlight, "in-flight", 0, "requests at the same time at most; the dialect's own if not given")
	f.Var(wireSpan{&n.AskAfter}, "ask-after", "silence before a status query, such as 30s")
	f.StringToStringVar(
		&n.AskAfterKinds,
		"ask-after-kind",
		nil,
		"the same of a kind for which it differs, such as otp=5s; may be given several times",
	)
	f.Var(wireSpan{&n.GiveUpAfter}, "give-up-after", "silence after which a message is unknown, such as 48h")
	f.Var(wireSpan{&n.Timeout}, "request-timeout", "how long a request may take, such as 10s")
	f.StringVar(&n.Currency, "currency", "", "of its account, where the gateway does not say, such as EUR")
	f.StringArrayVar(&n.Senders, "leased-sender", nil, "a sender leased from it; may be given several times")
	f.StringVar(&n.LowBalance, "low-balance", "", "warn when less than this is left, such as 25")
	f.StringVar(&n.StatementEvery, "statement-every", "", statementEveryHelp)
	return cmd
}

const statementEveryHelp = "fetch its statement so often, such as 24h for each day of UTC; empty is never"

func (a *app) gatewaySet() *cobra.Command {
	var n client.GatewayChange
	var secrets, senders []string
	var dialect, address, currency, low, every string
	var perSecond, perMinute, perDay, inFlight int
	cmd := &cobra.Command{
		Use:     "set NAME",
		Short:   "Change a gateway; what is not given stays",
		Example: "  pigeon gateway set harbourline --per-second 20\n  pigeon gateway set harbourline --secret api_key=env:NEW_KEY",
		Args:    cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			var err error
			given := cmd.Flags().Changed
			if given("dialect") {
				if n.Dialect, n.Source, err = dialectGiven(dialect); err != nil {
					return err
				}
			}
			if n.Secrets, err = secretFlags(secrets); err != nil {
				return err
			}
			for name, to := range map[string]struct {
				from *string
				to   **string
			}{"address": {&address, &n.Address}, "currency": {&currency, &n.Currency}, "low-balance": {&low, &n.LowBalance},
				"statement-every": {&every, &n.StatementEvery}} {
				if given(name) {
					*to.to = to.from
				}
			}
			for name, to := range map[string]struct {
				from *int
				to   **int
			}{"per-second": {&perSecond, &n.PerSecond}, "per-minute": {&perMinute, &n.PerMinute}, "per-day": {&perDay, &n.PerDay}, "in-flight": {&inFlight, &n.InFlight}} {
				if given(name) {
					*to.to = to.from
				}
			}
			if given("leased-sender") {
				n.Senders = &senders
			}
			if _, err := c.Gateway(cmd.Context(), args[0]); err != nil { // as of now: who changes it meanwhile is told apart
				return err
			}
			g, err := c.ChangeGateway(cmd.Context(), args[0], n)
			if err != nil {
				return err
			}
			return a.printGateways(cmd, g, g)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&dialect, "dialect", "", "a dialect file, or the name of one that ships")
	f.StringVar(&address, "address", "", "where the gateway is")
	f.StringArrayVar(&secrets, "secret", nil, secretHelp)
	f.IntVar(&perSecond, "per-second", 0, "messages a second at most")
	f.IntVar(&perMinute, "per-minute", 0, "messages a minute at most; 0 is no limit")
	f.IntVar(&perDay, "per-day", 0, "messages in any 24 hours at most; 0 is no limit")
	f.IntVar(&inFlight, "in-flight", 0, "requests at the same time at most")
	f.Var(wireSpan{&n.AskAfter}, "ask-after", "silence before a status query, such as 30s")
	f.StringToStringVar(
		&n.AskAfterKinds,
		"ask-after-kind",
		nil,
		"the same of a kind for which it differs, such as otp=5s; may be given several times",
	)
	f.Var(wireSpan{&n.GiveUpAfter}, "give-up-after", "silence after which a message is unknown, such as 48h")
	f.Var(wireSpan{&n.Timeout}, "request-timeout", "how long a request may take, such as 10s")
	f.StringVar(&currency, "currency", "", "of its account, where the gateway does not say, such as EUR")
	f.StringArrayVar(&senders, "leased-sender", nil, "a sender leased from it, in the place of all before; may be given several times")
	f.StringVar(&low, "low-balance", "", "warn when less than this is left; empty is never")
	f.StringVar(&every, "statement-every", "", statementEveryHelp)
	return cmd
}

// fares says how a gateway fares in one word, with why beside it.
func fares(h client.GatewayHealth) (word, why string) {
	word, why = h.State, h.Why
	if h.Cause != "" {
		word += " (" + h.Cause + ")"
	}
	if why == "" {
		why = h.Advice
	}
	switch {
	case h.Until == nil:
	case h.Until.After(time.Now()):
		why = strings.TrimSpace(why + " Tried again at " + h.Until.Local().Format(time.TimeOnly) + ".")
	default:
		why = strings.TrimSpace(why + " Tried again with the next message.")
	}
	for _, w := range h.Warnings {
		why = strings.TrimSpace(why + " " + w)
	}
	return word, why
}

func balanceOf(h client.GatewayHealth) string {
	if h.Balance == nil {
		return ""
	}
	return strings.TrimSpace(h.Balance.Amount + " " + h.Balance.Currency)
}

func (a *app) printGateways(cmd *cobra.Command, value any, all ...client.Gateway) error {
	var rows [][]string
	for _, g := range all {
		word, why := fares(g.Health)
		why = cmp.Or(why, g.About)
		rows = append(rows, []string{g.Name, word, balanceOf(g.Health), g.Dialect, g.Address, fmt.Sprint(g.PerSecond), why})
	}
	return a.print(cmd, value, []string{"name", "fares", "balance", "dialect", "address", "per second", "about or why"}, rows)
}

// describeGateway writes all there is to know of one gateway.
func (a *app) describeGateway(cmd *cobra.Command, g client.Gateway) error {
	word, why := fares(g.Health)
	limits := fmt.Sprintf("%d a second", g.PerSecond)
	if g.PerMinute > 0 {
		limits += fmt.Sprintf(", %d a minute", g.PerMinute)
	}
	if g.PerDay > 0 {
		limits += fmt.Sprintf(", %d in 24 hours", g.PerDay)
	}
	rows := [][]string{
		{
			"name",
			g.Name,
		}, {"fares", word}, {"why", why}, {"advice", g.Health.Advice}, {"balance", balanceOf(g.Health)}, {"warn below", g.LowBalance},
		{"dialect", g.Dialect}, {"about", g.About}, {"address", g.Address}, {"secrets", strings.Join(g.Secrets, ", ")},
		{"limits", limits + fmt.Sprintf(", %d requests at a time, %s a request", g.InFlight, counted(g.Recipients, "message"))},
		{"our reference", g.Reference}, {"leased senders", strings.Join(g.Senders, ", ")},
		{
			"asked after",
			spanWords(g.AskAfter) + kindWords(g.AskAfterKinds),
		}, {"given up after", spanWords(g.GiveUpAfter)}, {"clock", clockWords(g.Clock)},
		{"a request may take", spanWords(g.Timeout)}, {"statement", everyWords(g)},
	}
	for _, r := range rows {
		if r[1] != "" {
			fmt.Fprintf(cmd.OutOrStdout(), "%-19s %s\n", r[0], r[1])
		}
	}
	return nil
}

// everyWords say how often a statement is fetched.
func everyWords(g client.Gateway) string {
	switch {
	case g.StatementEvery != "":
		return "fetched every " + spanWords(g.StatementEvery)
	case g.CanFetchStatement:
		return "can be fetched: --statement-every 24h"
	}
	return ""
}

// sayFlaws says which gateways or templates cannot be used as they stand: they are
// in no list.
func sayFlaws(cmd *cobra.Command, c *client.Client, what string) error {
	flaws, err := c.Flaws(cmd.Context())
	for _, f := range flaws {
		if f.What == what {
			fmt.Fprintf(cmd.ErrOrStderr(), "The %s %s cannot be used as it stands: %s\n", f.What, f.Name, f.Why)
		}
	}
	return err
}

// clockWords says how a gateway's clock goes, as far as its receipts tell.
func clockWords(k client.GatewayClock) string {
	by := fmt.Sprintf(", by %d receipts of the last day", k.Receipts)
	switch {
	case k.Ahead == nil:
		return "not known yet" + by
	case *k.Ahead > 2:
		return fmt.Sprintf("%.1f s ahead of ours", *k.Ahead) + by
	case *k.Ahead < -2:
		return fmt.Sprintf("%.1f s behind ours, or it holds receipts back", -*k.Ahead) + by
	}
	return "as ours" + by
}

// kindWords adds spans that differ by kind.
func kindWords(spans map[string]client.Span) string {
	said := ""
	for _, kind := range slices.Sorted(maps.Keys(spans)) {
		said += ", " + kind + " after " + spanWords(spans[kind])
	}
	return said
}
