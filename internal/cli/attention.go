package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) attention() *cobra.Command {
	return &cobra.Command{
		Use:   "attention",
		Short: "What wants a person: why, what it costs to wait, and what to do",
		Long: "Lists gateways that rest, are silent or have little left, batches that are held, and\n" +
			"messages and receipts about which somebody has to decide, the most pressing first.\n" +
			"It ends with 0 whether there is anything or not; --output json is for watching.",
		Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			l, err := c.Attention(cmd.Context())
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				writeNeeds(cmd.OutOrStdout(), l.Items, time.Now())
				return nil
			}
			var rows [][]string
			for _, n := range l.Items {
				since := ""
				if n.Since != nil {
					since = n.Since.UTC().Format(time.RFC3339)
				}
				rows = append(
					rows,
					[]string{n.What, fmt.Sprint(n.Count), n.Gateway, n.Batch, since, n.Title, n.Why, n.Cost, n.Do, n.Command},
				)
			}
			return a.print(cmd, l, []string{"what", "count", "gateway", "batch", "since", "title", "why", "cost", "do", "command"}, rows)
		}),
	}
}

// roughly is how long something has been so, for people.
func roughly(d time.Duration) string {
	switch {
	case d < time.Minute:
		return counted(max(int(d.Seconds()), 1), "second")
	case d < 2*time.Hour:
		return counted(int(d.Minutes()), "minute")
	case d < 48*time.Hour:
		return counted(int(d.Hours()), "hour")
	}
	return counted(int(d.Hours()/24), "day")
}

// writeNeeds writes what wants a person, for people.
func writeNeeds(w io.Writer, needs []client.Need, now time.Time) {
	switch len(needs) {
	case 0:
		fmt.Fprintln(w, "Nothing wants anybody.")
		return
	case 1:
		fmt.Fprintln(w, "One thing wants somebody:")
	default:
		fmt.Fprintf(w, "%d things want somebody:\n", len(needs))
	}
	for _, n := range needs {
		mark := "▸"
		if n.Wrong {
			mark = "⊗"
		}
		since := ""
		if n.Since != nil {
			since = ", for " + roughly(now.Sub(*n.Since))
		}
		fmt.Fprintf(w, "\n%s %s%s\n", mark, n.Title, since)
		for _, line := range []string{n.Why + " " + n.Cost, n.Do} {
			fmt.Fprintf(w, "  %s\n", strings.ReplaceAll(wrapped(line, widthOf(w)-2), "\n", "\n  "))
		}
		fmt.Fprintf(w, "  $ %s\n", n.Command)
	}
}
