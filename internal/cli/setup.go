package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) gateway() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the gateways in use", Args: cobra.NoArgs, RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
		all, err := c.Gateways(cmd.Context())
		if err != nil {
			return err
		}
		return a.printGateways(cmd, all, all...)
	})}
	show := &cobra.Command{Use: "show NAME", Short: "Show one gateway, without its secrets", Args: cobra.ExactArgs(1), RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
		g, err := c.Gateway(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		return a.printGateways(cmd, g, g)
	})}
	return group("gateway", "Manage gateways", a.gatewayAdd(), list, show, a.prices())
}

func (a *app) gatewayAdd() *cobra.Command {
	var n client.NewGateway
	var secrets []string
	cmd := &cobra.Command{
		Use:   "add DIALECT ADDRESS",
		Short: "Add a gateway: a dialect, an address, secrets",
		Long: "Adds a gateway that speaks DIALECT (a file, or the name of one that ships) at\n" +
			"ADDRESS. A secret is given as NAME=VALUE, as NAME=@FILE or as NAME=env:VARIABLE;\n" +
			"the last two keep it out of your shell's history.",
		Example: "  pigeon gateway add harbourline http://127.0.0.1:8026/harbourline \\\n      --secret api_key=env:HARBOURLINE_KEY --secret receipt_secret=@receipt-secret.txt",
		Args:    cobra.ExactArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			n.Address = args[1]
			source, err := os.ReadFile(args[0])
			switch {
			case err == nil:
				n.Source = string(source)
			case errors.Is(err, fs.ErrNotExist) && !strings.ContainsAny(args[0], "/."):
				n.Dialect = args[0]
			default:
				return usagef("dialect: %v", err)
			}
			n.Secrets = map[string]string{}
			for _, given := range secrets {
				name, value, ok := strings.Cut(given, "=")
				if !ok {
					return usagef("--secret: accepted is NAME=VALUE, NAME=@FILE or NAME=env:VARIABLE")
				}
				if n.Secrets[name], err = secretValue(value); err != nil {
					return usagef("--secret %s: %v", name, err)
				}
			}
			g, err := c.AddGateway(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.printGateways(cmd, g, g)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&n.Name, "name", "", "what it is called here; the dialect's name if not given")
	f.StringArrayVar(&secrets, "secret", nil, "a secret that the dialect names; may be given several times")
	f.IntVar(&n.PerSecond, "per-second", 0, "messages a second at most; the dialect's own if not given")
	f.IntVar(&n.InFlight, "in-flight", 0, "requests at the same time at most; the dialect's own if not given")
	f.StringVar(&n.AskAfter, "ask-after", "", "silence before a status query, such as 30s")
	f.StringVar(&n.GiveUpAfter, "give-up-after", "", "silence after which a message is unknown, such as 48h")
	f.StringVar(&n.Timeout, "request-timeout", "", "how long a request may take, such as 10s")
	return cmd
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

func (a *app) printGateways(cmd *cobra.Command, value any, all ...client.Gateway) error {
	var rows [][]string
	for _, g := range all {
		rows = append(rows, []string{g.Name, g.Dialect, g.Address, fmt.Sprint(g.PerSecond), fmt.Sprint(g.InFlight), g.AskAfter, g.GiveUpAfter, g.About})
	}
	return a.print(cmd, value, []string{"name", "dialect", "address", "per second", "in flight", "ask after", "give up after", "about"}, rows)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

func (a *app) keys() *cobra.Command {
	var cure string
	create := &cobra.Command{Use: "new NAME", Short: "Make an API key; it is shown once", Args: cobra.ExactArgs(1), RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
		k, err := c.NewKey(cmd.Context(), client.NewKey{Name: args[0], Cure: cure})
		if err != nil {
			return err
		}
		if a.config.GetString("output") == "table" {
			fmt.Fprintln(cmd.ErrOrStderr(), "Keep it now: it is stored as a hash and cannot be shown again.")
		}
		return a.print(cmd, k, []string{"name", "key"}, [][]string{{k.Name, k.Key}})
	})}
	create.Flags().StringVar(&cure, "cure", "", "how far characters may be replaced in what it sends: off, safe or strong")
	list := &cobra.Command{Use: "list", Short: "List API keys", Args: cobra.NoArgs, RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
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
			rows = append(rows, []string{k.ID, k.Name, "pigeon_" + k.Handle + "_…", when(&k.CreatedAt), when(k.LastUsedAt), when(k.RevokedAt)})
		}
		return a.print(cmd, all, []string{"id", "name", "key", "made", "last used", "revoked"}, rows)
	})}
	revoke := &cobra.Command{Use: "revoke ID", Short: "End a key's use, for good", Args: cobra.ExactArgs(1), RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
		if err := c.RevokeKey(cmd.Context(), args[0]); err != nil {
			return err
		}
		fmt.Fprintln(cmd.ErrOrStderr(), "Revoked.")
		return nil
	})}
	return group("key", "Manage API keys", create, list, revoke)
}
