package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/span"
)

func (a *app) batchForecast() *cobra.Command {
	var l launchFlags
	cmd := &cobra.Command{
		Use:   "forecast BATCH",
		Short: "Say when a batch starts and ends, and what holds it back",
		Long: "Works out how a batch is going to go beside all that waits now: under the limits of gateways,\n" +
			"senders and the batch itself, in quiet hours and the times of rows. A rehearsed batch goes as is\n" +
			"given here, one that was launched as it was. What comes in later is not in it. Nothing is sent.",
		Example: "  pigeon batch forecast 01a3 --pace 50/s --starts 18:00\n  pigeon batch forecast 01a3 --output csv",
		Args:    cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := l.read(time.Now()); err != nil {
				return err
			}
			f, err := c.ForecastBatch(cmd.Context(), args[0], l.Launch)
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				a.writeForecast(cmd.OutOrStdout(), f)
				return nil
			}
			var rows [][]string
			for _, p := range f.Curve {
				rows = append(rows, []string{p.At.UTC().Format(time.RFC3339Nano), fmt.Sprint(p.Gone)})
			}
			return a.print(cmd, f, []string{"at", "gone"}, rows)
		}),
	}
	l.add(cmd.Flags())
	return cmd
}

// foretell says in a line or two how a batch would go. That it cannot be told is no reason to
// stop.
func (a *app) foretell(cmd *cobra.Command, c *client.Client, one client.Batch, l client.Launch) {
	if a.config.GetString("output") != "table" {
		return
	}
	if f, err := c.ForecastBatch(cmd.Context(), one.ID, l); err == nil {
		fmt.Fprintf(cmd.OutOrStdout(), "\n%s\n", strings.Join(a.forecastWords(f), "\n"))
	}
}

// forecastWords says what a forecast says.
func (a *app) forecastWords(f client.BatchForecast) []string {
	var words []string
	if f.StartsAt == nil {
		words = append(words, "None of it goes as things stand.")
	} else {
		took := f.EndsAt.Sub(*f.StartsAt)
		line := fmt.Sprintf("%s in %s: from %s to %s", counted(f.Goes, "message"), lasting(took), a.at(*f.StartsAt), a.at(*f.EndsAt))
		if f.First != nil {
			line += fmt.Sprintf("; at its launch the end was forecast for %s", a.at(*f.First))
		}
		words = append(words, line)
	}
	var bounds []string
	for _, b := range f.Bounds {
		if b.Share >= 0.01 {
			bounds = append(bounds, fmt.Sprintf("%s (%.0f%%)", boundWord(b), 100*b.Share))
		}
	}
	if len(bounds) > 0 {
		words = append(words, "held back by "+strings.Join(bounds, ", "))
	}
	if f.Left > 0 {
		words = append(words, fmt.Sprintf("%s would not go: the time is over before, or no gateway takes them", counted(f.Left, "message")))
	}
	if f.Waiting > 0 {
		words = append(
			words,
			fmt.Sprintf("%s wait for the scouts until they are released; this is as if that were at once", counted(f.Waiting, "row")),
		)
	}
	if f.Why != "" {
		words = append(words, "it does not go now ("+f.Why+"); this is as if it did")
	}
	return words
}

// lasting writes how long something takes.
func lasting(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return span.Format(d.Round(time.Second))
}

func boundWord(b client.ForecastBound) string {
	switch b.Kind {
	case "pace":
		return "its own pace"
	case "service":
		return "what this service carries"
	}
	return b.Kind + " " + b.Name
}

// The size of a chart, in characters.
const (
	chartWide = 64
	chartHigh = 10
)

// writeForecast shows a forecast, and its curve.
func (a *app) writeForecast(out io.Writer, f client.BatchForecast) {
	for _, line := range a.forecastWords(f) {
		fmt.Fprintln(out, line)
	}
	if f.StartsAt == nil || len(f.Curve) < 2 {
		return
	}
	// Nothing happens until it starts, however long that is.
	for len(f.Curve) > 2 && !f.Curve[1].At.After(*f.StartsAt) {
		f.Curve = f.Curve[1:]
	}
	first, last := f.Curve[0], f.Curve[len(f.Curve)-1]
	span := last.At.Sub(first.At)
	if span <= 0 {
		return
	}
	heights := make([]float64, chartWide)
	at := 0
	for i := range heights {
		moment := first.At.Add(span * time.Duration(i+1) / chartWide)
		for at < len(f.Curve)-2 && f.Curve[at+1].At.Before(moment) {
			at++
		}
		p, q := f.Curve[at], f.Curve[at+1]
		share := float64(moment.Sub(p.At)) / float64(max(q.At.Sub(p.At), 1))
		heights[i] = float64(p.Gone) + min(share, 1)*float64(q.Gone-p.Gone)
	}
	fmt.Fprintln(out)
	for _, line := range chart(heights, float64(last.Gone), chartHigh, thousands(last.Gone)) {
		fmt.Fprintln(out, line)
	}
	from, to := a.at(first.At), a.at(last.At)
	indent := max(len(thousands(last.Gone)), len("0")) + 4
	fmt.Fprintf(out, "%*s%s%*s\n", indent, "", from, chartWide-len(from), to)
}

// chart draws values as columns, the highest line first; top is what the highest stands for,
// written beside it.
func chart(values []float64, most float64, high int, top string) []string {
	const eighths = " ▁▂▃▄▅▆▇█"
	steps := []rune(eighths)
	lines := make([]string, high)
	for row := range high {
		var b strings.Builder
		switch {
		case top == "":
		case row == 0:
			fmt.Fprintf(&b, "  %*s ", len(top), top)
		case row == high-1:
			fmt.Fprintf(&b, "  %*s ", len(top), "0")
		default:
			fmt.Fprintf(&b, "  %*s ", len(top), "")
		}
		for _, v := range values {
			filled := int(v/max(most, 1)*float64(high*8)+0.5) - (high-1-row)*8
			b.WriteRune(steps[min(max(filled, 0), 8)])
		}
		lines[row] = strings.TrimRight(b.String(), " ")
	}
	return lines
}
