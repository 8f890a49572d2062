package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) statements() *cobra.Command {
	return group(
		"statement",
		"Gateways' own lists and bills, held against every message",
		a.statementTake(),
		a.statementFetch(),
		a.statementList(),
		a.statementShow(),
		a.statementLines(),
		a.statementWithdraw(),
	)
}

func (a *app) statementTake() *cobra.Command {
	var h client.StatementHint
	var columns map[string]string
	var m client.StatementMapping
	var from, until string
	cmd := &cobra.Command{
		Use:   "take FILE",
		Short: "Take a gateway's list or bill in, and match it",
		Long: "Reads CSV, XLSX or JSON Lines; - is standard input. Which column is for what is recognised,\n" +
			"and said: --dry-run says only that. --column puts it right, such as --column id=MsgID\n" +
			"--column charge=Betrag; a column can be for id, reference, number, sender, at, status,\n" +
			"segments, charge and currency. How a file was read is remembered for the next one with the\n" +
			"same columns. Lines are matched by the gateway's id, else by our reference, else by number,\n" +
			"sender and time; what differs in its state becomes evidence. The same file again changes\n" +
			"nothing, and pigeon statement withdraw takes all of it back.",
		Example: "  pigeon statement take november.csv --gateway waxseal --dry-run\n" +
			"  pigeon statement take bill.xlsx --gateway sandbank --column charge=Betrag --comma --zone Europe/Berlin",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			for given, to := range map[string]*time.Time{from: &h.From, until: &h.Until} {
				if given == "" {
					continue
				}
				var err error
				if *to, err = moment(given, time.Now()); err != nil {
					return usagef("%q: %s", given, momentAccepted)
				}
			}
			if columns != nil {
				m.Columns = columns
				h.Mapping = &m
			} else if m.Zone != "" || m.Comma || m.MonthFirst || m.Currency != "" {
				return usagef("--zone, --comma, --month-first and --currency go with --column: say what all columns are for")
			}
			var file io.Reader = cmd.InOrStdin()
			h.File = "standard input"
			if args[0] != "-" {
				opened, err := os.Open(args[0])
				if err != nil {
					return usagef("%w", err)
				}
				defer opened.Close()
				if about, err := opened.Stat(); err == nil && about.IsDir() {
					return usagef("%s is a folder; a file is expected", args[0])
				}
				file, h.File = opened, filepath.Base(args[0])
			}
			t, err := c.TakeStatement(cmd.Context(), file, h)
			if err != nil {
				return err
			}
			switch {
			case !h.DryRun:
				return a.showMatched(cmd, c, t)
			case a.config.GetString("output") == "table":
				writeReading(cmd.ErrOrStderr(), t)
				return nil
			}
			return a.print(cmd, t, []string{"for", "column"}, mappingRows(t.Statement.Mapping))
		}),
	}
	f := cmd.Flags()
	f.StringVar(&h.Gateway, "gateway", "", "the gateway whose list it is")
	f.StringToStringVar(
		&columns,
		"column",
		nil,
		"what a column is for, as ROLE=NAME; may be given several times, and then all that count are",
	)
	f.StringVar(&m.Zone, "zone", "", "where times without a zone are, such as Europe/Athens; UTC if not given")
	f.BoolVar(&m.Comma, "comma", false, "a comma stands before the fraction of numbers")
	f.BoolVar(&m.MonthFirst, "month-first", false, "dates are month, day, year")
	f.StringVar(&m.Currency, "currency", "", "of charges without one, such as EUR")
	f.StringVar(&from, "from", "", "the span of time that it is about; from its first line if not given")
	f.StringVar(&until, "until", "", "and until its last")
	readingVar(f, &h.Encoding, &h.Delimiter, &h.Sheet, &h.Locale, &h.HeadRow)
	f.BoolVar(&h.DryRun, "dry-run", false, "say how it would be read, and take nothing in")
	cmd.MarkFlagRequired("gateway")
	return cmd
}

// matchedStatement waits until a statement is matched.
func matchedStatement(ctx context.Context, c *client.Client, id string) (client.Statement, error) {
	for {
		s, err := c.Statement(ctx, id)
		if err != nil || s.State == "done" || s.State == "withdrawn" {
			return s, err
		}
		select {
		case <-ctx.Done():
			return s, ctx.Err()
		case <-time.After(200 * time.Millisecond):
		}
	}
}

var roleOrder = []string{"id", "reference", "number", "sender", "at", "status", "segments", "charge", "currency"}

func mappingRows(m client.StatementMapping) [][]string {
	var rows [][]string
	for _, role := range roleOrder {
		if name, ok := m.Columns[role]; ok {
			rows = append(rows, []string{role, name})
		}
	}
	return rows
}

// writeReading says how a file is read.
func writeReading(w io.Writer, t client.StatementTaken) {
	m := t.Statement.Mapping
	fmt.Fprintf(w, "%s: %s\n", t.Statement.Name, t.Statement.Recognised)
	switch {
	case t.Again:
		fmt.Fprintln(w, "This file was taken in before. Nothing was changed.")
	case m.Dialect:
		fmt.Fprintln(w, "Read as the dialect of the gateway says.")
	default:
		for _, row := range mappingRows(m) {
			fmt.Fprintf(w, "  %-10s %s\n", row[0], row[1])
		}
		var unused []string
		for _, name := range t.Statement.Columns {
			used := false
			for _, row := range mappingRows(m) {
				used = used || row[1] == name
			}
			if !used {
				unused = append(unused, name)
			}
		}
		if unused != nil {
			fmt.Fprintf(w, "  %-10s %s\n", "not read", strings.Join(unused, ", "))
		}
	}
	for _, l := range t.First[:min(len(t.First), 3)] {
		said := []string{l.GatewayRef, l.Reference, l.Number, l.Sender}
		if l.At != nil {
			said = append(said, l.At.UTC().Format(time.RFC3339))
		}
		if l.State != "" {
			said = append(said, shape(l.State)+" "+l.State)
		}
		if l.Segments > 0 {
			said = append(said, segments(l.Segments))
		}
		if l.Charge != nil {
			said = append(said, l.Charge.String())
		}
		if l.Wrong != "" {
			said = append(said, "cannot be read: "+l.Wrong)
		}
		fmt.Fprintf(w, "  line %d: %s\n", l.N, strings.Join(slices.DeleteFunc(said, func(s string) bool { return s == "" }), "  "))
	}
	fmt.Fprintln(w)
}

// writeHeaps writes how a statement falls apart.
func writeHeaps(w io.Writer, s client.Statement) {
	h := s.Heaps
	if h == nil {
		fmt.Fprintf(w, "%s is %s.\n", s.Name, s.State)
		return
	}
	lines, rest, _ := strings.Cut(h.Equation, "; ")
	fmt.Fprintf(w, "%s\n%s\n\n", lines, rest)
	show := func(n int64, what, command string) {
		if n > 0 {
			fmt.Fprintf(w, "  %9s  %-34s %s\n", thousands(n), what, command)
		}
	}
	at := "pigeon statement lines " + s.ID
	show(h.Agrees, "agree", "")
	show(h.State, "state differs, and is evidence now", at+" --heap state")
	show(h.Money, "segments or charge differ", at+" --heap money")
	show(h.Theirs, "only theirs", at+" --heap theirs")
	show(h.Tied, "  of these could be several", at+" --how tied")
	show(h.Unreadable, "  of these cannot be read", at+" --how unreadable")
	show(h.Ours, "only ours", at+" --heap ours")
	show(h.Weak, "matched by number and time alone", at+" --how number")
	fmt.Fprintln(w)
	if h.TheirSegments > 0 {
		fmt.Fprintf(w, "Segments: %s by us, %s by the gateway.\n", thousands(h.OurSegments), thousands(h.TheirSegments))
	}
	fmt.Fprintf(w, "Money: %s estimated, %s billed", moneys(h.Estimated), moneys(h.Billed))
	if len(h.Unmatched) > 0 {
		fmt.Fprintf(w, ", and %s billed for lines of no message", moneys(h.Unmatched))
	}
	fmt.Fprintln(w, ".")
	if s.State == "withdrawn" || s.State == "withdrawing" {
		fmt.Fprintf(w, "Withdrawn by %s. %s\n", s.WithdrawnBy, s.WithdrawnWhy)
	}
}

func moneys(all []client.Money) string {
	var said []string
	for _, m := range all {
		said = append(said, m.String())
	}
	if said == nil {
		return "nothing"
	}
	return strings.Join(said, " and ")
}

var heapHead = []string{
	"id",
	"gateway",
	"name",
	"state",
	"lines",
	"agree",
	"state differs",
	"money differs",
	"only theirs",
	"only ours",
	"billed",
}

func heapRow(s client.Statement) []string {
	row := []string{s.ID, s.Gateway, s.Name, s.State, fmt.Sprint(s.Lines)}
	if s.Heaps == nil {
		return append(row, "", "", "", "", "", "")
	}
	for _, n := range []int64{s.Heaps.Agrees, s.Heaps.State, s.Heaps.Money, s.Heaps.Theirs, s.Heaps.Ours} {
		row = append(row, fmt.Sprint(n))
	}
	return append(row, moneys(s.Heaps.Billed))
}

func (a *app) statementFetch() *cobra.Command {
	var f filterFlags
	cmd := &cobra.Command{
		Use:   "fetch GATEWAY",
		Short: "Fetch a gateway's statement, as its dialect says, and match it",
		Long: "Asks the gateway for its list of a span of time, and takes it in as pigeon statement take does\n" +
			"with a file. By itself it is fetched for each day, or how often you like:\n" +
			"pigeon gateway set GATEWAY --statement-every 24h.",
		Example: "  pigeon statement fetch waxseal\n" +
			"  pigeon statement fetch waxseal --since 2026-11-01T00:00:00Z --until 2026-12-01T00:00:00Z",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			now := time.Now()
			of, err := f.filter(now)
			if err != nil {
				return err
			}
			if of.Until.IsZero() {
				of.Until = now
			}
			t, err := c.FetchStatement(cmd.Context(), args[0], of.Since, of.Until)
			if err != nil {
				return err
			}
			return a.showMatched(cmd, c, t)
		}),
	}
	cmd.Flags().StringVar(&f.since, "since", "24h", "from a time (2026-11-15T00:00:00Z) or a span back from now")
	cmd.Flags().StringVar(&f.until, "until", "", "until a time or a span back from now; now if not given")
	return cmd
}

// showMatched waits until a statement that was read is matched, and shows it.
func (a *app) showMatched(cmd *cobra.Command, c *client.Client, t client.StatementTaken) error {
	table := a.config.GetString("output") == "table"
	if table {
		writeReading(cmd.ErrOrStderr(), t)
	}
	s, err := matchedStatement(cmd.Context(), c, t.Statement.ID)
	if err != nil {
		return err
	}
	if table {
		writeHeaps(cmd.OutOrStdout(), s)
		return nil
	}
	return a.print(cmd, s, heapHead, [][]string{heapRow(s)})
}

// writeSchedules says how far statements were fetched that are fetched by themselves.
func writeSchedules(out io.Writer, all []client.StatementSchedule) {
	const clock = "2 Jan 15:04"
	for _, s := range all {
		said := "not fetched yet"
		if s.Through != nil {
			said = "fetched until " + s.Through.Local().Format(clock) + ", next at " + s.DueAt.Local().Format(clock)
		}
		fmt.Fprintf(out, "%s, every %s: %s\n", s.Gateway, spanWords(s.Every), said)
		if s.FailedAt != nil {
			fmt.Fprintf(out, "  It fails since %s: %s\n", s.FailedAt.Local().Format(clock), s.Failure)
		}
	}
}

func (a *app) statementList() *cobra.Command {
	var gateway string
	cmd := &cobra.Command{Use: "list", Short: "List statements, the newest first", Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			l, err := c.Statements(cmd.Context(), gateway, "", 100)
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				schedules, err := c.StatementSchedules(cmd.Context())
				if err != nil {
					return err
				}
				defer writeSchedules(cmd.ErrOrStderr(), schedules.Items)
			}
			if len(l.Items) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "No statement was taken in yet: pigeon statement take FILE --gateway NAME")
				return nil
			}
			rows := make([][]string, len(l.Items))
			for i, s := range l.Items {
				rows[i] = heapRow(s)
			}
			return a.print(cmd, l, heapHead, rows)
		})}
	cmd.Flags().StringVar(&gateway, "gateway", "", "only of this gateway")
	return cmd
}

func (a *app) statementShow() *cobra.Command {
	return &cobra.Command{Use: "show ID", Short: "Show the heaps into which a statement falls", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			s, err := c.Statement(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				writeHeaps(cmd.OutOrStdout(), s)
				return nil
			}
			return a.print(cmd, s, heapHead, [][]string{heapRow(s)})
		})}
}

func (a *app) statementLines() *cobra.Command {
	var heap, how string
	var all bool
	cmd := &cobra.Command{
		Use:   "lines ID",
		Short: "List lines of a statement, of a heap; of ours the messages without a line",
		Long: "Lists the first hundred, or with --all every one, page by page. A heap is agrees, state,\n" +
			"money, theirs or ours; --how chooses by how lines were matched: id, reference, number,\n" +
			"none, tied or unreadable.",
		Example: "  pigeon statement lines 019abd5e-… --heap money --all --output csv > differs.csv",
		Args:    cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if heap == "ours" {
				return a.statementOurs(cmd, c, args[0], all)
			}
			goesOn := false
			for cursor := ""; ; {
				l, err := c.StatementLines(cmd.Context(), args[0], heap, how, cursor, 100)
				if err != nil {
					return err
				}
				rows := make([][]string, len(l.Items))
				for i, x := range l.Items {
					rows[i] = lineRow(a, x)
				}
				if err := a.printGrid(cmd, l, grid{head: lineHead, rows: rows, goesOn: goesOn}); err != nil {
					return err
				}
				goesOn = true
				if cursor = l.Next; cursor == "" || !all {
					if cursor != "" {
						fmt.Fprintln(cmd.ErrOrStderr(), "There are more: --all")
					}
					return nil
				}
			}
		}),
	}
	cmd.Flags().StringVar(&heap, "heap", "", "agrees, state, money, theirs or ours; all lines if not given")
	cmd.Flags().StringVar(&how, "how", "", "id, reference, number, none, tied or unreadable")
	cmd.Flags().BoolVar(&all, "all", false, "every one, and not the first hundred")
	return cmd
}

// statedWords says what a line of a statement says of its message.
func statedWords(l client.StatementLine) string {
	said := []string{fmt.Sprintf("Line %d of the statement %s", l.N, l.Statement)}
	if l.State != "" {
		said = append(said, shape(l.State)+" "+l.State)
	}
	if l.Segments > 0 {
		said = append(said, segments(l.Segments))
	}
	if l.Charge != nil {
		said = append(said, "charged "+l.Charge.String())
	}
	if l.How == "number" {
		said = append(said, "by number and time")
	}
	return strings.Join(said, "  ")
}

var lineHead = []string{
	"line",
	"heap",
	"matched by",
	"gateway_ref",
	"number",
	"at",
	"says",
	"ours",
	"segments",
	"our segments",
	"charge",
	"our price",
	"message",
	"note",
}

func lineRow(a *app, l client.StatementLine) []string {
	at, charge, price, says, ours, counted := "", "", "", "", "", ""
	if l.Message != "" {
		counted = fmt.Sprint(l.OursSegments)
	}
	if l.At != nil {
		at = a.at(*l.At)
	}
	if l.Charge != nil {
		charge = l.Charge.String()
	}
	if l.OursPrice != nil {
		price = l.OursPrice.String()
	}
	if l.State != "" {
		says = shape(l.State) + " " + l.State
	}
	if l.OursState != "" {
		ours = shape(l.OursState) + " " + l.OursState
	}
	return []string{
		fmt.Sprint(l.N),
		l.Heap,
		l.How,
		l.GatewayRef,
		l.Number,
		at,
		says,
		ours,
		fmt.Sprint(l.Segments), counted,
		charge,
		price,
		l.Message,
		l.Wrong,
	}
}

func (a *app) statementOurs(cmd *cobra.Command, c *client.Client, id string, all bool) error {
	for cursor := ""; ; {
		l, err := c.StatementOurs(cmd.Context(), id, cursor, 100)
		if err != nil {
			return err
		}
		if err := a.printMessages(cmd, l, l.Items); err != nil {
			return err
		}
		if cursor = l.Next; cursor == "" || !all {
			return nil
		}
	}
}

func (a *app) statementWithdraw() *cobra.Command {
	var why string
	cmd := &cobra.Command{Use: "withdraw ID", Short: "Take all back that a statement said", Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if _, err := c.WithdrawStatement(cmd.Context(), args[0], why); err != nil {
				return err
			}
			s, err := matchedStatement(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if a.config.GetString("output") == "table" {
				fmt.Fprintf(cmd.OutOrStdout(), "%s is withdrawn. Its file may be taken in again.\n", s.Name)
				return nil
			}
			return a.print(cmd, s, heapHead, [][]string{heapRow(s)})
		})}
	cmd.Flags().StringVar(&why, "why", "", "why, for whoever asks later")
	return cmd
}
