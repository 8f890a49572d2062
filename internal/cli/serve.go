package cli

import (
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"slices"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/demo"
	"calmpigeon.example/internal/fleet"
	"calmpigeon.example/internal/fleet/arrival"
	"calmpigeon.example/internal/service"
)

func (a *app) serve() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: "Runs the service: API, receipts and console. Without a database URL it starts a\n" +
			"PostgreSQL of its own on loopback, with its data in the data folder. The first\n" +
			"start makes an API key and shows it once. It logs JSON to standard error.",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := a.logger(cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			o, err := a.serviceOptions(cmd.Flags(), log)
			if err != nil {
				return err
			}
			o.ShowFirstKey = func(key string) error {
				_, err := fmt.Fprintf(cmd.OutOrStdout(), "There was no API key yet. This one is shown now and never again:\n  %s\n", key)
				return err
			}
			return service.Run(cmd.Context(), o, func(url string) {
				fmt.Fprintf(cmd.OutOrStdout(), "Calm Pigeon answers at %s\n", url)
			})
		},
	}
	a.serviceFlags(cmd)
	cmd.Flags().String("phone-url", "", "where the practice phone is, for the console to link to")
	cmd.Flags().String("profile-at", "", "host and port at which Go's profiles are answered; keep it to yourself")
	return cmd
}

func (a *app) serviceFlags(cmd *cobra.Command) {
	f := cmd.Flags()
	spanFlag := func(name string, usual time.Duration, help string, none bool) {
		f.Var(spanValue{&usual, none}, name, help)
	}
	f.String("listen", "127.0.0.1:7410", "host and port; port 0 takes a free one")
	f.String("database-url", "", "PostgreSQL to use; without it one of our own is started")
	f.String("data", "", "data folder (default "+service.DefaultData()+")")
	f.String("public-url", "", "where gateways reach this service; where it listens if not given")
	f.String("seal-key", "", "32 bytes in base64 that seal the secrets of gateways; kept in the data folder if not given")
	spanFlag("lease", 5*time.Second, "how long an instance that died holds up its gateways", false)
	spanFlag("keep-raw", 30*24*time.Hour, "how long raw exchanges are kept", false)
	spanFlag("keep-messages", 0, "how long messages are kept, in whole months; for ever if not given", true)
	spanFlag("stop-within", 20*time.Second, "how long stopping may take; what is in flight then becomes doubtful at the next start", true)
	spanFlag("balance-every", 5*time.Minute, "how often gateways are asked what is left on their accounts", false)
	spanFlag("statement-after", time.Hour, "how long after the end of a day a gateway's statement of it is fetched", false)
	spanFlag("stray-quiet", time.Minute, "how long nothing may have been heard before strays are judged", false)
	f.Bool(
		"no-private-addresses",
		false,
		"reach no gateway at a loopback, private or link-local address; for a service that others may set up",
	)
	f.String("migrate", "auto", "auto: bring the schema of the database up to date; check: refuse to start if it is not")
	f.Bool("quarantine", false, "send nothing until pigeon recover has led through it; for a database that was restored or cloned")
	f.String("fixed-lines", "warn", "what becomes of messages to fixed lines: allow, warn or refuse")
	f.String("special-rate", "refuse", "what becomes of messages to freephone, premium and company numbers")
	f.Int("approve-rows", 0, "a batch of more messages than so many needs a second person; 0: none does")
	f.String("approve-cost", "", "so does one that costs more, such as 200 EUR, or 200 EUR, 200 USD")
	f.String("budget-day", "", "what all batches together may spend a day, such as 500 EUR")
	f.String("unassigned", "warn", "what becomes of messages to numbers of no range in use")
	f.String("log-level", "info", "debug, info, warn or error")
}

func (a *app) serviceOptions(flags *pflag.FlagSet, log *slog.Logger) (service.Options, error) {
	c := a.config
	for _, flag := range []string{"fixed-lines", "special-rate", "unassigned"} {
		if p := c.GetString(flag); p != "allow" && p != "warn" && p != "refuse" {
			return service.Options{}, usagef("--%s %q: accepted are allow, warn and refuse", flag, p)
		}
	}
	data := c.GetString("data")
	if data == "" {
		data = service.DefaultData()
	}
	o := service.Options{Listen: c.GetString("listen"), DatabaseURL: c.GetString("database-url"), Data: data,
		PublicURL: c.GetString("public-url"), PhoneURL: c.GetString("phone-url"), SealKey: c.GetString("seal-key"),
		ProfileAt: c.GetString("profile-at"), OnlyPublic: c.GetBool("no-private-addresses"), Quarantine: c.GetBool("quarantine"), Log: log,
		FixedLines: c.GetString("fixed-lines"), SpecialRate: c.GetString("special-rate"), Unassigned: c.GetString("unassigned")}
	switch how := c.GetString("migrate"); how {
	case "auto":
	case "check":
		o.CheckSchema = true
	default:
		return o, usagef("--migrate %q: accepted are auto and check", how)
	}
	if o.Batches.ApproveRows = c.GetInt("approve-rows"); o.Batches.ApproveRows < 0 {
		return o, usagef("--approve-rows %d: expected a number of messages, or 0", o.Batches.ApproveRows)
	}
	for name, to := range map[string]*batch.Sums{"approve-cost": &o.Batches.ApproveCost, "budget-day": &o.Batches.BudgetDay} {
		if given := c.GetString(name); given != "" {
			var err error
			if *to, err = batch.ParseBudget(given); err != nil {
				return o, usagef("--%s: %s; accepted are %s", name, fault.Of(err)[0].Wrong, batch.BudgetAccepted)
			}
		}
	}
	for name, to := range map[string]*time.Duration{"lease": &o.Lease, "keep-raw": &o.KeepRaw, "keep-messages": &o.KeepMessages,
		"stop-within": &o.StopWithin, "balance-every": &o.Balance, "stray-quiet": &o.StrayQuiet, "statement-after": &o.Statements} {
		var err error
		if *to, err = a.configured(flags, name); err != nil {
			return o, err
		}
	}
	return o, nil
}

func (a *app) logger(w io.Writer) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(a.config.GetString("log-level"))); err != nil {
		return nil, usagef("--log-level %q: accepted are debug, info, warn and error", a.config.GetString("log-level"))
	}
	return slog.New(slog.NewJSONHandler(w, &slog.HandlerOptions{Level: level})), nil
}

func (a *app) fleet() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "fleet",
		Short: "Run the practice fleet: simulated gateways and phones",
		Long: "Runs simulated gateways and a practice phone on loopback. How a gateway behaves\n" +
			"towards a number is decided by its last two digits; the page /endings lists them.",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := a.logger(cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			listener, err := net.Listen("tcp", a.config.GetString("fleet-listen"))
			if err != nil {
				return fmt.Errorf("starting the practice fleet: %w", err)
			}
			url := "http://" + listener.Addr().String()
			fmt.Fprintf(
				cmd.OutOrStdout(),
				"Practice phone: %s/phone\nWhat the last two digits do: %s/endings\n\nAdd its gateways with:\n\n",
				url,
				url,
			)
			for _, berth := range fleet.Berths() {
				fmt.Fprintf(cmd.OutOrStdout(), "pigeon gateway add %s %s%s", berth.Dialect, url, berth.Path)
				for _, name := range slices.Sorted(maps.Keys(berth.Secrets)) {
					fmt.Fprintf(cmd.OutOrStdout(), " --secret '%s=%s'", name, berth.Secrets[name])
				}
				for _, sender := range berth.Senders {
					fmt.Fprintf(cmd.OutOrStdout(), " --leased-sender '%s'", sender)
				}
				fmt.Fprintln(cmd.OutOrStdout())
			}
			f := fleet.New(cmd.Context(), a.config.GetUint64("seed"), log)
			if script := a.config.GetString("script"); script != "" {
				source, err := os.ReadFile(script)
				if err == nil {
					err = f.Script(source)
				}
				if err != nil {
					return usagef("--script: %w", err)
				}
			}
			server := &http.Server{
				Handler:           f.Handler(),
				ReadHeaderTimeout: 10 * time.Second,
				ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelDebug),
				ConnContext:       arrival.Context,
			}
			go func() {
				<-cmd.Context().Done()
				server.Close()
			}()
			if err := server.Serve(arrival.Listener(listener)); err != http.ErrServerClosed {
				return err
			}
			return nil
		},
	}
	cmd.Flags().String("fleet-listen", "127.0.0.1:7411", "host and port; port 0 takes a free one")
	cmd.Flags().Uint64("seed", 1, "what chances are drawn under")
	cmd.Flags().String("script", "", "a JSON file of misbehaviour, as POST /misbehave takes it")
	cmd.Flags().String("log-level", "warn", "debug, info, warn or error")
	return cmd
}

func (a *app) demo() *cobra.Command {
	var example bool
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run service, practice fleet and demo data, to try everything on",
		Long: "Starts the service, the practice fleet and, without a database URL, a PostgreSQL\n" +
			"of its own, loads the demo data of Lanternholm Ferries, and stays up until Ctrl-C.\n" +
			"With --example it plays the whole scenario in a fresh place instead, says what\n" +
			"happened, and fails unless everything adds up.",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			log, err := a.logger(cmd.ErrOrStderr())
			if err != nil {
				return err
			}
			options, err := a.serviceOptions(cmd.Flags(), log)
			if err != nil {
				return err
			}
			o := demo.Options{
				Service:     options,
				FleetListen: a.config.GetString("fleet-listen"),
				Seed:        a.config.GetUint64("seed"),
				Out:         cmd.OutOrStdout(),
			}
			if example {
				return demo.Example(cmd.Context(), o)
			}
			if a.config.GetString("data") == "" {
				o.Service.Data += "-demo"
			}
			return demo.Run(cmd.Context(), o)
		},
	}
	a.serviceFlags(cmd)
	f := cmd.Flags()
	// It plays faults on purpose; what the service thinks of them would only
	// stand between its own lines.
	f.Lookup("log-level").DefValue = "error"
	f.Set("log-level", "error")
	f.Lookup("log-level").Changed = false
	f.String("fleet-listen", "127.0.0.1:7411", "where the practice fleet listens")
	f.Uint64("seed", 1, "what the practice fleet's chances are drawn under")
	f.BoolVar(&example, "example", false, "play the scenario once and check it")
	return cmd
}
