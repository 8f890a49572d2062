// Package cli is the command line. Commands speak to the service through the
// client package alone, as anybody else would.
package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/spf13/viper"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/document"
	"calmpigeon.example/internal/core/span"
)

// Exit codes.
const (
	exitWell     = 0
	exitFailed   = 1 // something went wrong here or on the way
	exitUsage    = 2 // the command line was wrong
	exitRefused  = 3 // the service refused what was asked
	exitNotThere = 4 // a message ended otherwise than delivered
	exitUnknown  = 5 // it is not known what became of a message
	exitTimeout  = 6 // waiting took too long
	exitNotRight = 7 // a code is not the right one
)

const exitHelp = `Exit codes:
  0  done; with --wait: delivered
  1  something went wrong here or on the way
  2  the command line was wrong
  3  the service refused what was asked
  4  the message ended otherwise than delivered
  5  it is not known what became of the message
  6  waiting took too long
  7  the code of a passcode is not the right one`

// exit ends with a code after everything has been said.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit %d", int(e)) }

// usage is a mistake on the command line.
type usage struct{ error }

func (u usage) Unwrap() error { return u.error }

func usagef(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// Main runs the command line and returns the exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := untilAsked(os.Interrupt, syscall.SIGTERM)
	defer stop()
	out, errOut = shown(out), shown(errOut)
	root := newRoot()
	root.SetArgs(args)
	root.SetIn(&interruptible{ctx, in})
	root.SetOut(out)
	root.SetErr(errOut)
	cmd, err := root.ExecuteContextC(ctx)
	return code(cmd, err, errOut)
}

// untilAsked is a context that ends with the first of some signals. The second ends the process,
// as it would have without us: whoever asks twice does not want to wait.
func untilAsked(signals ...os.Signal) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(context.Background())
	asked := make(chan os.Signal, 2) // however soon the second comes
	signal.Notify(asked, signals...)
	go func() {
		<-asked
		cancel()
		again := <-asked
		signal.Reset(signals...)
		if self, err := os.FindProcess(os.Getpid()); err == nil {
			self.Signal(again)
		}
	}()
	return ctx, func() {
		signal.Stop(asked)
		cancel()
	}
}

// interruptible is standard input that nobody waits for once the command is to end.
type interruptible struct {
	ctx context.Context
	in  io.Reader
}

// Read reads, until the command is to end.
func (r *interruptible) Read(p []byte) (int, error) {
	type result struct {
		n   int
		err error
	}
	read := make(chan result, 1)
	buffer := make([]byte, len(p)) // of its own: what is read late goes nowhere
	go func() {
		n, err := r.in.Read(buffer)
		read <- result{n, err}
	}()
	select {
	case <-r.ctx.Done():
		return 0, errStopped
	case got := <-read:
		return copy(p, buffer[:got.n]), got.err
	}
}

var errStopped = errors.New("stopped")

// plainUsage says in plain words what is wrong with a command line.
func plainUsage(cmd *cobra.Command, err error) (error, bool) {
	said := err.Error()
	use := strings.TrimPrefix(cmd.UseLine(), "pigeon ")
	use = "pigeon " + strings.TrimSuffix(use, " [flags]")
	switch {
	case strings.HasPrefix(said, "accepts "), strings.HasPrefix(said, "requires at least"), strings.HasPrefix(said, "requires at most"):
		return fmt.Errorf("expected: %s", use), true
	case strings.HasPrefix(said, "required flag(s) "):
		return fmt.Errorf(
			"%s: --%s is needed",
			use,
			strings.Trim(strings.TrimSuffix(strings.TrimPrefix(said, "required flag(s) "), " not set"), `"`),
		), true
	case strings.HasPrefix(said, "unknown command"):
		return err, true
	}
	return err, false
}

// wrongFlag says in plain words what is wrong with the value of a flag.
func wrongFlag(cmd *cobra.Command, err error) error {
	var invalid *pflag.InvalidValueError
	if !errors.As(err, &invalid) {
		return usage{err}
	}
	expected := map[string]string{"int": "a whole number", "uint64": "a whole number", "span": span.Accepted,
		"bool": "true or false", "stringToString": "NAME=VALUE"}[invalid.GetFlag().Value.Type()]
	if expected == "" {
		return usage{err}
	}
	return usagef("--%s %q: expected %s", invalid.GetFlag().Name, invalid.GetValue(), expected)
}

func code(cmd *cobra.Command, err error, errOut io.Writer) int {
	var how exit
	var problem *client.Problem
	var wrong usage
	if err == nil {
		return exitWell
	}
	switch said := plainFile(err); {
	case errors.As(err, &how):
		return int(how)
	case errors.As(err, &problem):
		fmt.Fprintln(errOut, problem)
		if problem.Status < 500 {
			return exitRefused
		}
		return exitFailed
	case errors.As(err, &wrong):
		fmt.Fprintf(errOut, "%s\nHelp: %s --help\n", said, cmd.CommandPath())
		return exitUsage
	case errors.Is(err, errStopped):
		fmt.Fprintln(errOut, "Stopped.")
		return exitFailed
	}
	if plain, ok := plainUsage(cmd, err); ok {
		fmt.Fprintf(errOut, "%v\nHelp: %s --help\n", plain, cmd.CommandPath())
		return exitUsage
	}
	fmt.Fprintln(errOut, plainFile(err))
	return exitFailed
}

// plainFile says in plain words what is wrong with a file.
func plainFile(err error) string {
	var file *fs.PathError
	if !errors.As(err, &file) {
		return err.Error()
	}
	plain := fmt.Sprintf("%s: %v", file.Path, file.Err)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		plain = "there is no file " + file.Path
	case errors.Is(err, fs.ErrPermission):
		plain = file.Path + " may not be read"
	}
	return strings.Replace(err.Error(), file.Error(), plain, 1)
}

// app is what commands share: the configuration.
type app struct {
	config  *viper.Viper
	columns []string // of tables and CSV; nil: the usual ones
}

func newRoot() *cobra.Command {
	a := &app{config: viper.New()}
	a.config.SetEnvPrefix("PIGEON")
	a.config.SetEnvKeyReplacer(strings.NewReplacer("-", "_"))
	a.config.AutomaticEnv()
	var file string
	root := &cobra.Command{
		Use:   "pigeon",
		Short: "Send texts through SMS gateways, and know what became of every one",
		Long: "Calm Pigeon sends texts through SMS gateways and can say of every message what\n" +
			"became of it and how it knows.\n\n" +
			"The options of serve and demo, and --url, --key and --output, can also be set in\n" +
			"the environment (PIGEON_URL for --url) or in a YAML file given with --config.\n\n" + exitHelp,
		SilenceUsage:  true,
		SilenceErrors: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if err := a.config.BindPFlags(cmd.Flags()); err != nil {
				return err
			}
			if file != "" {
				if err := a.readConfig(cmd.Root(), file); err != nil {
					return err
				}
			}
			if o := a.config.GetString("output"); o != "table" && o != "json" && o != "csv" {
				return usagef("--output %q: accepted are table, json and csv", o)
			}
			if a.columns != nil && a.config.GetString("output") == "json" {
				return usagef("--columns is for tables and CSV; JSON has everything")
			}
			return nil
		},
	}
	root.SetFlagErrorFunc(wrongFlag)
	flags := root.PersistentFlags()
	flags.StringVar(&file, "config", "", "a YAML file with options")
	flags.String("url", "http://127.0.0.1:7410", "where the service is")
	flags.String("key", "", "API key; better set as PIGEON_KEY, where other users cannot see it")
	flags.StringP("output", "o", "table", "table, json or csv")
	flags.StringSliceVar(&a.columns, "columns", nil, "only these columns of a table or CSV, with commas between, in this order")
	root.AddCommand(
		a.send(),
		a.weigh(),
		a.number(),
		a.message(),
		a.tally(),
		a.attention(),
		a.arrivals(),
		a.money(),
		a.passcode(),
		a.gateway(),
		a.route(),
		a.sender(),
		a.template(),
		a.optOuts(),
		a.strays(),
		a.event(),
		a.conversation(),
		a.export(),
		a.statements(),
		a.recipients(),
		a.batch(),
		a.dialect(),
		a.keys(),
		a.changes(),
		a.setup(),
		a.recover(),
		a.migrate(),
		a.serve(),
		a.fleet(),
		a.demo(),
		version(),
	)
	return root
}

// readConfig takes options from a file. One that no command has is a mistake.
func (a *app) readConfig(root *cobra.Command, file string) error {
	source, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return usagef("--config %s: there is no such file", file)
	}
	if err != nil {
		return usagef("--config: %v", err)
	}
	var options map[string]any
	if err := document.Decode(source, &options); err != nil {
		return usagef("--config %s: %v", file, err)
	}
	known := map[string]bool{}
	note := func(f *pflag.Flag) { known[f.Name] = true }
	root.PersistentFlags().VisitAll(note)
	for _, cmd := range root.Commands() {
		cmd.Flags().VisitAll(note)
	}
	for _, name := range slices.Sorted(maps.Keys(options)) {
		if !known[strings.ReplaceAll(name, "_", "-")] {
			return usagef("--config %s: there is no option %q", file, name)
		}
	}
	a.config.SetConfigType("yaml")
	if err := a.config.ReadConfig(bytes.NewReader(source)); err != nil {
		return usagef("--config %s: %v", file, err)
	}
	return nil
}

// speaking is the body of a command that speaks to the service.
func (a *app) speaking(run func(cmd *cobra.Command, c *client.Client, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		key := a.config.GetString("key")
		if key == "" {
			return usagef("no API key: set PIGEON_KEY, or give --key. The first key is shown when the service starts for the first time")
		}
		address := a.config.GetString("url")
		if !strings.Contains(address, "://") {
			return usagef("--url %q has no scheme: expected an address such as http://%s", address, address)
		}
		return run(cmd, client.New(address, key).Careful(), args)
	}
}

// group is a command that only holds others.
func group(use, short string, commands ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			meant := ""
			cmd.SuggestionsMinimumDistance = 2
			for _, other := range cmd.SuggestionsFor(args[0]) {
				meant += "\n\t" + other
			}
			if meant != "" {
				meant = "\n\nDid you mean this?" + meant + "\n"
			}
			return usagef("unknown command %q for %q%s", args[0], cmd.CommandPath(), meant)
		}
		return cmd.Help()
	}}
	c.AddCommand(commands...)
	return c
}
