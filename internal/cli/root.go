// Package cli is the command line. Commands speak to the service through the
// client package alone, as anybody else would.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/viper"

	"calmpigeon.example/client"
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
)

const exitHelp = `Exit codes:
  0  done; with --wait: delivered
  1  something went wrong here or on the way
  2  the command line was wrong
  3  the service refused what was asked
  4  the message ended otherwise than delivered
  5  it is not known what became of the message
  6  waiting took too long`

// exit ends with a code after everything has been said.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit %d", int(e)) }

// usage is a mistake on the command line.
type usage struct{ error }

func usagef(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// Main runs the command line and returns the exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // whoever asks a second time does not want to wait
	out, errOut = shown(out), shown(errOut)
	root := newRoot()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	return code(root.ExecuteContext(ctx), errOut)
}

func code(err error, errOut io.Writer) int {
	var how exit
	var problem *client.Problem
	var wrong usage
	switch {
	case err == nil:
		return exitWell
	case errors.As(err, &how):
		return int(how)
	case errors.As(err, &problem):
		fmt.Fprintln(errOut, problem)
		if problem.Status < 500 {
			return exitRefused
		}
		return exitFailed
	case errors.As(err, &wrong) || strings.HasPrefix(err.Error(), "unknown command") || strings.HasPrefix(err.Error(), "accepts ") || strings.HasPrefix(err.Error(), "requires "):
		fmt.Fprintf(errOut, "%v\nHelp: pigeon --help\n", err)
		return exitUsage
	}
	fmt.Fprintln(errOut, err)
	return exitFailed
}

// app is what commands share: the configuration.
type app struct{ config *viper.Viper }

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
				a.config.SetConfigFile(file)
				if err := a.config.ReadInConfig(); err != nil {
					return usagef("--config: %v", err)
				}
			}
			if o := a.config.GetString("output"); o != "table" && o != "json" && o != "csv" {
				return usagef("--output %q: accepted are table, json and csv", o)
			}
			return nil
		},
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usage{err} })
	flags := root.PersistentFlags()
	flags.StringVar(&file, "config", "", "a YAML file with options")
	flags.String("url", "http://127.0.0.1:7410", "where the service is")
	flags.String("key", "", "API key; better set as PIGEON_KEY, where other users cannot see it")
	flags.StringP("output", "o", "table", "table, json or csv")
	root.AddCommand(
		a.send(),
		a.weigh(),
		a.number(),
		a.message(),
		a.tally(),
		a.gateway(),
		a.route(),
		a.sender(),
		a.template(),
		a.dialect(),
		a.keys(),
		a.changes(),
		a.setup(),
		a.serve(),
		a.fleet(),
		a.demo(),
	)
	return root
}

// speaking is the body of a command that speaks to the service.
func (a *app) speaking(run func(cmd *cobra.Command, c *client.Client, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		key := a.config.GetString("key")
		if key == "" {
			return usagef("no API key: set PIGEON_KEY, or give --key. The first key is shown when the service starts for the first time")
		}
		return run(cmd, client.New(a.config.GetString("url"), key).Careful(), args)
	}
}

// group is a command that only holds others.
func group(use, short string, commands ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return usagef("unknown command %q for %q", args[0], cmd.CommandPath())
		}
		return cmd.Help()
	}}
	c.AddCommand(commands...)
	return c
}
