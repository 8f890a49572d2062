package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/latency"
)

func (a *app) arrivals() *cobra.Command {
	var f filterFlags
	var by, step string
	cmd := &cobra.Command{
		Use:   "arrivals",
		Short: "How long messages take and how many arrive, side by side",
		Long: "Tells from the beginning of a submission until the message was known to have arrived, by\n" +
			"the service's own clock, kept as histograms: what is read from them is within 9 %. Spans\n" +
			"are widened to whole hours, beyond eight days to whole days of UTC.",
		Example: "  pigeon arrivals --since 24h\n  pigeon arrivals --by country --gateway harbourline --since 168h",
		Args:    cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			filter, err := f.filter(time.Now())
			if err != nil {
				return err
			}
			r, err := c.Arrivals(cmd.Context(), filter, by, step)
			if err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				head, rows := arrivalRows(r)
				return a.print(cmd, r, head, rows)
			}
			return a.writeArrivals(cmd, r)
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&f.Gateway, "gateway", "", "only through this gateway")
	flags.StringVar(&f.Country, "country", "", "only to numbers of this country (ISO 3166-1)")
	flags.StringVar(&f.Kind, "kind", "", "only otp, transactional or bulk")
	flags.StringVar(&f.since, "since", "24h", "from a time (2026-11-15T07:40:00Z) or a span back from now (90m)")
	flags.StringVar(&f.until, "until", "", "until a time or a span back from now")
	flags.StringVar(&by, "by", "gateway", "what is held side by side: gateway, country or kind")
	flags.StringVar(&step, "step", "", "what is told one by one: hour or day; what fits if it is not given")
	return cmd
}

// arrivalRows are all hours or days of all groups, for programs.
func arrivalRows(r client.Arrivals) (head []string, rows [][]string) {
	head = []string{r.By, "at", "messages", "delivered", "failed", "delivery_rate", "arrived", "p50_ms", "p90_ms", "p99_ms"}
	maybe := func(v *int64) string {
		if v == nil {
			return ""
		}
		return fmt.Sprint(*v)
	}
	for _, g := range r.Groups {
		for _, f := range g.Course {
			rate := ""
			if f.DeliveryRate != nil {
				rate = fmt.Sprintf("%.4f", *f.DeliveryRate)
			}
			rows = append(
				rows,
				[]string{g.Gateway + g.Country + g.Kind, f.At.Format(time.RFC3339), fmt.Sprint(f.Messages), fmt.Sprint(f.Delivered),
					fmt.Sprint(f.Failed), rate, fmt.Sprint(f.Arrived), maybe(f.P50Ms), maybe(f.P90Ms), maybe(f.P99Ms)},
			)
		}
	}
	return head, rows
}

func (a *app) writeArrivals(cmd *cobra.Command, r client.Arrivals) error {
	out := cmd.OutOrStdout()
	const clock = "2 Jan 15:04"
	fmt.Fprintf(out, "From %s to %s\n\n", r.Since.Local().Format(clock), r.Until.Local().Format(clock))
	if r.All.Messages+r.All.Arrived == 0 {
		fmt.Fprintln(out, "Nothing was sent, and nothing arrived.")
		return nil
	}
	var rows [][]string
	row := func(name string, g client.ArrivalGroup) []string {
		return []string{
			name,
			thousands(g.Messages),
			rateWords(g.DeliveryRate),
			tookWords(g.P50Ms),
			tookWords(g.P90Ms),
			tookWords(g.P99Ms),
			slowness(r, g.Course),
		}
	}
	for _, g := range r.Groups {
		rows = append(rows, row(g.Gateway+g.Country+g.Kind, g))
	}
	if len(r.Groups) > 1 {
		rows = append(rows, row("together", r.All))
	}
	head := []string{r.By, "messages", "delivered", "half within", "9 in 10", "99 in 100", "half within, over time"}
	if err := a.print(cmd, r, head, rows); err != nil {
		return err
	}
	if r.All.Arrived > 0 {
		fmt.Fprintf(out, "\nHow long %s took that arrived:\n\n", counted(int(r.All.Arrived), "message"))
		writeHistogram(out, r.All.Histogram)
	}
	return nil
}

func rateWords(rate *float64) string {
	if rate == nil {
		return ""
	}
	return fmt.Sprintf("%.1f %%", 100**rate)
}

func tookWords(ms *int64) string {
	if ms == nil {
		return ""
	}
	return latency.Words(time.Duration(*ms) * time.Millisecond)
}

// courseWidth is how many places a course has in a table.
const courseWidth = 24

// slowness draws how long half of the messages took at most, over time, the longest of its own as the top.
func slowness(r client.Arrivals, course []client.Faring) string {
	step := time.Hour
	if r.Step == "day" {
		step = 24 * time.Hour
	}
	steps := int(r.Until.Sub(r.Since) / step)
	width := min(steps, courseWidth)
	values := make([]float64, width)
	top := 0.0
	for _, f := range course {
		if f.P50Ms == nil {
			continue
		}
		at := int(f.At.Sub(r.Since)/step) * width / steps
		values[at] = max(values[at], float64(*f.P50Ms))
		top = max(top, values[at])
	}
	var drawn strings.Builder
	heights := []rune("▁▂▃▄▅▆▇█")
	for _, v := range values {
		if v == 0 {
			drawn.WriteRune('·')
			continue
		}
		drawn.WriteRune(heights[min(int(v/top*float64(len(heights))), len(heights)-1)])
	}
	return drawn.String()
}

// writeHistogram draws a bar for each piece.
func writeHistogram(w io.Writer, bars []client.ArrivalBar) {
	var most int64
	for _, b := range bars {
		most = max(most, b.N)
	}
	room := max(min(widthOf(w)-40, 60), 10)
	for _, b := range bars {
		name := tookWords(&b.FromMs) + " or more"
		switch {
		case b.FromMs == 0:
			name = "below " + tookWords(b.ToMs)
		case b.ToMs != nil:
			name = tookWords(&b.FromMs) + " to " + tookWords(b.ToMs)
		}
		length := int(b.N * int64(room) / most)
		bar := strings.Repeat("█", length)
		if length == 0 && b.N > 0 {
			bar = "▏"
		}
		fmt.Fprintf(w, "  %18s  %s %s\n", name, bar, thousands(b.N))
	}
}
