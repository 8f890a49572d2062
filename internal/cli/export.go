package cli

import (
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) export() *cobra.Command {
	e := client.Export{Filters: url.Values{}}
	var where []string
	var since, until, file string
	cmd := &cobra.Command{
		Use:   "export LIST",
		Short: "Write a list as a whole, as CSV, XLSX or JSON Lines",
		Long: "Writes all pages of a list, at any size, as they come. Lists are called as in the API: messages,\n" +
			"events, strays, statements, statements/ID/lines, statements/ID/ours, batches, batches/ID/rows,\n" +
			"opt-outs, inbound, conversations, conversations/NUMBER, changes, recipient-lists,\n" +
			"recipient-lists/NAME/recipients, receivers, gateways, senders,\n" +
			"templates, rules, keys, attention. --where takes the filters of the list.\n" +
			"--columns are its fields; what stands within one has a dot: price.amount, labels.shop. The\n" +
			"format is that of --file, or --format. A file is written beside its place and put there whole.",
		Example: "  pigeon export messages --since 24h --where state=delivered --file yesterday.xlsx\n" +
			"  pigeon export messages --since 24h --columns id,to,state,cause,price.amount,price.currency > all.csv\n" +
			"  pigeon export statements/019abd5d-…/lines --where heap=money --format xlsx > differs.xlsx",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			e.List, e.Columns = args[0], a.columns
			for _, w := range where {
				name, value, ok := strings.Cut(w, "=")
				if !ok {
					return usagef("--where %q: accepted is a filter of the list as NAME=VALUE", w)
				}
				e.Filters.Add(name, value)
			}
			spans := filterFlags{since: since, until: until}
			times, err := spans.filter(time.Now())
			if err != nil {
				return err
			}
			for name, at := range map[string]time.Time{"since": times.Since, "until": times.Until} {
				if !at.IsZero() {
					e.Filters.Set(name, at.UTC().Format(time.RFC3339Nano))
				}
			}
			if file == "" {
				if e.Format == "xlsx" && onTerminal(os.Stdout) {
					return usagef("--format xlsx: a workbook cannot be read on a terminal; give --file, or send it into one")
				}
				return c.Export(cmd.Context(), e, cmd.OutOrStdout())
			}
			if e.Format == "" {
				e.Format = strings.TrimPrefix(strings.ToLower(filepath.Ext(file)), ".")
			}
			n, err := whole(file, func(out io.Writer) error { return c.Export(cmd.Context(), e, a.watched(cmd, out)) })
			if err == nil {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s has %s.\n", file, octetWords(n))
			}
			return err
		}),
	}
	flags := cmd.Flags()
	flags.StringArrayVar(&where, "where", nil, "a filter of the list, as NAME=VALUE; may be given several times")
	flags.StringVar(&since, "since", "", "from a time (2026-11-15T07:40:00Z) or a span back from now (90m), where the list knows times")
	flags.StringVar(&until, "until", "", "until a time or a span back from now")
	flags.StringVar(&e.Format, "format", "", "csv, xlsx or jsonl; csv if neither it nor the name of a file says it")
	flags.StringVar(&file, "file", "", "write into this file, once it is whole")
	return cmd
}

// whole writes a file beside its place, and puts it there when all of it is written: whoever takes it at night takes no
// half of one.
func whole(file string, write func(io.Writer) error) (size int64, err error) {
	half, err := os.CreateTemp(filepath.Dir(file), "."+filepath.Base(file)+".*")
	if err != nil {
		return 0, err
	}
	defer func() {
		if err != nil {
			half.Close()
			os.Remove(half.Name())
		}
	}()
	if err = write(half); err != nil {
		return 0, err
	}
	info, err := half.Stat()
	if err != nil {
		return 0, err
	}
	if err = half.Chmod(0o644); err != nil { // #nosec G302 -- as what one writes oneself
		return 0, err
	}
	if err = half.Close(); err != nil {
		return 0, err
	}
	return info.Size(), os.Rename(half.Name(), file)
}

// watched says on a terminal how much was written.
func (a *app) watched(cmd *cobra.Command, out io.Writer) io.Writer {
	if !onTerminal(os.Stderr) {
		return out
	}
	return &counting{out: out, say: func(n int64) { fmt.Fprintf(cmd.ErrOrStderr(), "\r%s …\x1b[K", octetWords(n)) }}
}

// counting counts what is written, and says it now and then.
type counting struct {
	out io.Writer
	say func(int64)
	n   int64
	at  time.Time
}

func (c *counting) Write(p []byte) (int, error) {
	n, err := c.out.Write(p)
	c.n += int64(n)
	if now := time.Now(); now.Sub(c.at) > 200*time.Millisecond {
		c.at = now
		c.say(c.n)
	}
	return n, err
}

// octetWords is a size in words.
func octetWords(n int64) string {
	switch {
	case n >= 10_000_000:
		return fmt.Sprintf("%d MB", n/1_000_000)
	case n >= 10_000:
		return fmt.Sprintf("%d kB", n/1000)
	}
	return counted(n, "octet")
}
