package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

// printTrial writes what came of a trial: the exact request and the exact
// answer, what was read, how long each part took, and what it looks like.
func (a *app) printTrial(cmd *cobra.Command, t client.Trial) error {
	switch a.config.GetString("output") {
	case "table":
		writeTrial(cmd.OutOrStdout(), t)
	default:
		var rows [][]string
		for _, s := range t.Steps {
			status := ""
			if s.Exchange != nil && s.Exchange.Status > 0 {
				status = fmt.Sprint(s.Exchange.Status)
			}
			rows = append(
				rows,
				[]string{s.What, status, compact(s.Read), s.Note, fmt.Sprint(s.BuildMs), fmt.Sprint(s.AnswerMs), fmt.Sprint(s.ReadMs)},
			)
		}
		if err := a.print(cmd, t, []string{"what", "status", "read", "note", "build_ms", "answer_ms", "read_ms"}, rows); err != nil {
			return err
		}
	}
	if !t.Passed {
		return exit(exitRefused)
	}
	return nil
}

func writeTrial(w io.Writer, t client.Trial) {
	for _, s := range t.Steps {
		fmt.Fprintln(w, s.What)
		if s.Exchange != nil {
			writeExchange(w, *s.Exchange)
		}
		if s.Read != nil {
			fmt.Fprintf(w, "  read      %s\n", compact(s.Read))
		}
		if s.Note != "" {
			fmt.Fprintf(w, "  note      %s\n", s.Note)
		}
		if s.AnswerMs > 0 {
			fmt.Fprintf(
				w,
				"  took      %.2f ms to build, %.2f ms until the answer was complete, %.2f ms to read\n",
				s.BuildMs,
				s.AnswerMs,
				s.ReadMs,
			)
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintln(w, t.Say)
	for _, m := range t.Mistakes {
		fmt.Fprintf(w, "- %s\n", m)
	}
}

func (a *app) dialectTry() *cobra.Command {
	var r client.TryRequest
	var secrets, fields []string
	cmd := &cobra.Command{
		Use:   "try DIALECT ADDRESS",
		Short: "Make one real request in a dialect, and show it and the answer",
		Long: "Makes one request in a dialect (a file, or the name of one that ships) to ADDRESS,\n" +
			"from where the service runs, and shows the exact request and the exact answer with\n" +
			"secrets masked, what was read from it, and how long each part took. The text is\n" +
			"really sent, and nothing of it is kept. --dry-run builds the request and sends\n" +
			"nothing. It ends with 3 if the answer is not what one would wish for.",
		Example: "  pigeon dialect try my-gateway.yaml https://sms.example.net/api --secret api_key=env:KEY \\\n      --to +447700900123 --sender Lanternholm --text \"Berth 3\"\n" +
			"  pigeon dialect try my-gateway.yaml https://sms.example.net/api --secret api_key=env:KEY --call balance",
		Args: cobra.ExactArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			var err error
			if r.Dialect, r.Source, err = dialectGiven(args[0]); err != nil {
				return err
			}
			r.Address = args[1]
			if r.Secrets, err = secretFlags(secrets); err != nil {
				return err
			}
			for _, field := range fields {
				name, value, ok := strings.Cut(field, "=")
				if !ok {
					return usagef("--field: accepted is NAME=VALUE")
				}
				if r.Fields == nil {
					r.Fields = map[string]any{}
				}
				r.Fields[name] = value
			}
			t, err := c.TryDialect(cmd.Context(), r)
			if err != nil {
				return err
			}
			return a.printTrial(cmd, t)
		}),
	}
	f := cmd.Flags()
	f.StringArrayVar(&secrets, "secret", nil, secretHelp)
	f.StringVar(&r.Call, "call", "submit", "what to try: submit, query, balance or token")
	f.StringVar(&r.To, "to", "", "the number to send to: your own")
	f.StringVar(&r.Text, "text", "", "the text to send")
	f.StringVar(&r.Sender, "sender", "", "who it comes from")
	f.StringVar(&r.Kind, "kind", "", "otp, transactional or bulk")
	f.StringVar(&r.GatewayRef, "gateway-ref", "", "the gateway's id of the message that a query asks about")
	f.StringVar(&r.Registration, "registration", "", "the id of a registered template")
	f.StringArrayVar(&fields, "field", nil, "a field of a registered template as NAME=VALUE; may be given several times")
	f.StringVar(&r.ReceiptURL, "receipt-url", "", "where the gateway is to report")
	f.BoolVar(&r.DryRun, "dry-run", false, "build the request and send nothing")
	return cmd
}
