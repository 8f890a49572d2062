package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/batch"
	"calmpigeon.example/internal/core/fault"
)

func (a *app) batch() *cobra.Command {
	return group(
		"batch",
		"Send one text to many: rehearse, launch, watch, and get the list back",
		a.batchRehearse(),
		a.batchForecast(),
		a.batchLaunch(),
		a.batchList(),
		a.batchShow(),
		a.batchRows(),
		a.batchTry(),
		a.batchWatch(),
		a.batchResult(),
		a.batchChange("pause", "Hold a batch back: what is not on its way to a gateway stays", (*client.Client).PauseBatch),
		a.batchChange("resume", "Let a batch go on that was held back", (*client.Client).ResumeBatch),
		a.batchChange("release", "Let the rest go after the scouts", (*client.Client).ReleaseBatch),
		a.batchChange("cancel", "Withdraw what of a batch is not on its way", (*client.Client).CancelBatch),
		a.batchChange("approve", "Let a batch go that a second person has to look at, with another key than it was launched with",
			(*client.Client).ApproveBatch),
		a.batchCorrect(),
		a.batchPace(),
		a.batchBudget(),
		a.batchCompare(),
		a.batchRetry(),
		a.batchRemove(),
	)
}

// batchFlags are what a batch sends and how its list is read.
type batchFlags struct {
	wants   client.BatchWants
	hint    client.ListHint
	columns map[string]string
	into    string // a batch that is open
	from    client.Invitation
}

func (b *batchFlags) add(f *pflag.FlagSet) {
	w := &b.wants
	f.StringVar(&w.Name, "name", "", "what it is called (default: the file's name)")
	f.StringVar(&w.Text, "text", "", "the text, with fields in braces: {name}, or {name|there} where a cell may be empty")
	f.StringVar(&w.Template, "template", "", "a template in the place of a text")
	f.StringVar(&w.Sender, "sender", "", "who it comes from; the default sender if not given")
	f.StringVar(&w.Kind, "kind", "", "bulk or transactional (default bulk)")
	f.StringVar(&w.Gateway, "gateway", "", "the gateway to use; by the routes if not given")
	f.Var(wireSpan{&w.ValidFor}, "valid-for", "how long the text is of use, such as 6h (default: by kind)")
	f.StringVar(&w.Country, "country", "", "where numbers without a country code are dialled, such as GB")
	f.StringVar(&w.Language, "language", "", "of rows that name none")
	f.StringVar(&w.Cure, "cure", "", "how far characters may be replaced to save segments: off, safe or strong")
	labelVar(f, &w.Labels)
	f.BoolVar(&w.Flash, "flash", false, "show it at once and do not keep it, where the gateway can")
	f.BoolVar(&w.Long, "long", false, "send texts though they have ten segments or more")
	f.StringVar(&w.SendAt, "send-at", "", "when each goes: 2026-11-29T09:00 by the clock of whom it is for, or with a zone")
	f.BoolVar(&w.OwnTimes, "own-times", false, "each goes at the time in its row's column for times")
	f.BoolVar(&w.AtAnyHour, "at-any-hour", false, "send in quiet hours, too")
	f.BoolVar(&w.FixedLines, "fixed-lines", false, "send to fixed lines, too")
	f.BoolVar(&w.Repeats, "repeats", false, "send to a number as often as it stands in the list")
	f.StringToStringVar(&b.columns, "column", nil, "what a column is for, as ROLE=NAME: to, country, language, name, reference, at or text")
	readingVar(f, &b.hint.Encoding, &b.hint.Delimiter, &b.hint.Sheet, &b.hint.Locale, &b.hint.HeadRow)
	f.StringVar(&b.from.List, "list", "", "a list that is kept, in the place of a file; see: pigeon recipients")
	f.StringArrayVar(&b.from.Groups, "group", nil, "of that list those in this group; may be given more than once")
	f.StringArrayVar(&b.from.Without, "without", nil, "of that list those who are not in this group")
	f.StringVar(&b.into, "into", "", "an open batch that the rows are for, in the place of a new one")
}

// readingVar are the flags that say how a list is read.
func readingVar(f *pflag.FlagSet, encoding, delimiter, sheet, locale *string, headRow *int) {
	f.StringVar(encoding, "encoding", "", "what the list is written in, where that is not recognised")
	f.StringVar(delimiter, "delimiter", "", "what stands between the cells of CSV, where that is not recognised")
	f.StringVar(sheet, "sheet", "", "the sheet of a workbook (default: the first)")
	f.StringVar(locale, "locale", "", "the language in whose conventions a workbook shows its cells, such as de or en-US (default: its own)")
	f.IntVar(headRow, "head-row", 0, "the row that names the columns, 1 first, where that is not recognised")
}

// given reports whether any of them was given.
func (b *batchFlags) given(f *pflag.FlagSet) (names []string) {
	var own pflag.FlagSet
	(&batchFlags{}).add(&own)
	f.Visit(func(one *pflag.Flag) {
		if own.Lookup(one.Name) != nil {
			names = append(names, "--"+one.Name)
		}
	})
	return names
}

func (a *app) batchRehearse() *cobra.Command {
	var b batchFlags
	cmd := &cobra.Command{
		Use:   "rehearse [FILE|BATCH]",
		Short: "Do everything but sending: which rows go, what they cost, which are left out and why",
		Long: "Reads a list (CSV, XLSX, JSON Lines, or numbers one a line), says what it is written\n" +
			"in and what its columns are for, checks every row as if it were sent, and adds up\n" +
			"what they come to. Nothing is sent. What it makes is a batch, to be launched by its id.\n" +
			"An upload that broke off is simply repeated with --into BATCH: rows that are there stay.\n\n" +
			"It ends with 3 if no row can go.",
		Example: `  pigeon batch rehearse passengers.csv --text "Dear {name|passenger}, all crossings on Sunday are cancelled."
  pigeon batch rehearse passengers.xlsx --template storm --column to=Handy --country DE
  pigeon batch rehearse --list passengers --group islanders --text "No ferries on Sunday."
  pigeon batch rows 01a3 --left-out any --output csv`,
		Args: cobra.MaximumNArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			one, _, err := a.rehearsed(cmd, c, args, &b)
			if err != nil {
				return err
			}
			if err := a.printBatch(cmd, one); err != nil {
				return err
			}
			if one.Totals == nil || one.Totals.Goes == 0 {
				return exit(exitRefused)
			}
			if one.LaunchedAt == nil {
				a.foretell(cmd, c, one, client.Launch{})
			}
			fmt.Fprintf(
				cmd.ErrOrStderr(),
				"\nNothing was sent. To see it on a phone: pigeon batch try %[1]s NUMBER\n"+
					"When it would end: pigeon batch forecast %[1]s. To send it: pigeon batch launch %[1]s\n", brief(one.ID))
			return nil
		}),
	}
	b.add(cmd.Flags())
	return cmd
}

// brief is enough of an id to tell it from others, most often: its end, as its beginning is
// the time.
func brief(id string) string {
	digits := strings.ReplaceAll(id, "-", "")
	return digits[max(0, len(digits)-8):]
}

// rehearsed makes a batch of a file or of a list that is kept, or takes one that is there, and
// has it rehearsed; fresh if nobody has looked at it before.
func (a *app) rehearsed(cmd *cobra.Command, c *client.Client, args []string, b *batchFlags) (one client.Batch, fresh bool, err error) {
	switch {
	case b.from.List == "" && len(b.from.Groups)+len(b.from.Without) > 0:
		return one, false, usagef("--group and --without are of a list that is kept: give --list, too")
	case b.from.List != "" && len(args) > 0:
		return one, false, usagef("%q and --list %q: one of the two", args[0], b.from.List)
	case b.from.List != "":
		one, err = a.invited(cmd, c, b)
		fresh = true
	case len(args) == 0:
		return one, false, usagef("expected a file, a batch, or --list with the name of a list that is kept")
	default:
		one, fresh, err = a.taken(cmd, c, args[0], b)
	}
	if err != nil {
		return one, fresh, err
	}
	if one.State != string(batch.Rehearsed) {
		if one, err = c.RehearseBatch(cmd.Context(), one.ID); err != nil {
			return one, fresh, err
		}
	}
	one, err = a.awaitRehearsal(cmd, c, one)
	return one, fresh, err
}

// taken makes a batch of a file, or takes one that is there.
func (a *app) taken(cmd *cobra.Command, c *client.Client, what string, b *batchFlags) (one client.Batch, fresh bool, err error) {
	file, err := a.listFile(cmd, what)
	switch {
	case err == nil:
		defer file.Close()
		if b.wants.Name == "" && what != "-" {
			b.wants.Name = strings.TrimSuffix(filepath.Base(what), filepath.Ext(what))
		}
		if one, err = a.begun(cmd, c, b); err != nil {
			return one, false, err
		}
		if b.hint.File = what; what == "-" {
			b.hint.File = ""
		}
		if one, err = a.upload(cmd, c, one, file, b.hint); err != nil {
			return one, false, fmt.Errorf("%w\nThe rows that came are kept. To go on: the same command with --into %s", err, brief(one.ID))
		}
		one, err = a.corrected(cmd, c, one, b)
		return one, true, err
	case !errors.Is(err, os.ErrNotExist) || strings.ContainsAny(what, "./\\"):
		return one, false, usagef("%w", err)
	}
	if one, err = c.Batch(cmd.Context(), what); err != nil {
		return one, false, fmt.Errorf("%q is no file, and as a batch: %w", what, err)
	}
	if given := b.given(cmd.Flags()); len(given) > 0 {
		return one, false, usagef("%s: of a batch that is there nothing is changed here", strings.Join(given, ", "))
	}
	return one, false, nil
}

// begun makes a batch, or takes the open one that is named.
func (a *app) begun(cmd *cobra.Command, c *client.Client, b *batchFlags) (client.Batch, error) {
	if b.into != "" {
		return c.Batch(cmd.Context(), b.into)
	}
	return c.NewBatch(cmd.Context(), b.wants)
}

// invited makes a batch of a list that is kept.
func (a *app) invited(cmd *cobra.Command, c *client.Client, b *batchFlags) (client.Batch, error) {
	if b.wants.Name == "" {
		b.wants.Name = strings.Join(append([]string{b.from.List}, b.from.Groups...), ", ")
	}
	one, err := a.begun(cmd, c, b)
	if err != nil {
		return one, err
	}
	done, err := c.Invite(cmd.Context(), one.ID, b.from)
	if err != nil {
		if b.into == "" && one.Rows == 0 { // nothing came of it
			err = errors.Join(err, c.RemoveBatch(context.WithoutCancel(cmd.Context()), one.ID))
		}
		return one, err
	}
	return a.corrected(cmd, c, done.Batch, b)
}

// corrected says what columns are for, as was given, and shows what was recognised.
func (a *app) corrected(cmd *cobra.Command, c *client.Client, one client.Batch, b *batchFlags) (_ client.Batch, err error) {
	if len(b.columns) > 0 {
		b.wants.Columns = b.columns
		if one, err = c.ChangeBatch(cmd.Context(), one.ID, b.wants); err != nil {
			return one, fmt.Errorf("%w\nThe rows are kept in batch %s", err, brief(one.ID))
		}
	}
	a.sayColumns(cmd, one)
	return one, nil
}

func (a *app) listFile(cmd *cobra.Command, what string) (io.ReadCloser, error) {
	if what == "-" {
		return io.NopCloser(cmd.InOrStdin()), nil
	}
	return os.Open(what)
}

// uploadTries is how often a list is handed over that breaks off on the way.
const uploadTries = 3

// upload hands a list over, and does so anew where it breaks off: rows that are there are
// passed over.
func (a *app) upload(cmd *cobra.Command, c *client.Client, one client.Batch, file io.Reader, hint client.ListHint) (client.Batch, error) {
	for try := 1; ; try++ {
		shown := &progress{in: file, status: statusOn(cmd.ErrOrStderr())}
		done, err := c.AppendRows(cmd.Context(), one.ID, shown, hint)
		var problem *client.Problem
		if err == nil {
			shown.status.clear()
			if done.Mended > 0 {
				fmt.Fprintf(
					cmd.ErrOrStderr(),
					"%d octets were no UTF-8 and were read as windows-1252; look at the names, or give --encoding.\n",
					done.Mended,
				)
			}
			return done.Batch, nil
		}
		shown.status.clear()
		again, ok := file.(io.Seeker)
		if errors.As(err, &problem) || !ok || try == uploadTries || cmd.Context().Err() != nil {
			return one, err
		}
		if _, wrong := again.Seek(0, io.SeekStart); wrong != nil {
			return one, err
		}
		time.Sleep(time.Duration(try) * time.Second)
	}
}

// progress shows how much was read.
type progress struct {
	in     io.Reader
	n      int64
	last   time.Time
	status *status
}

func (p *progress) Read(b []byte) (int, error) {
	n, err := p.in.Read(b)
	if p.n += int64(n); time.Since(p.last) > 200*time.Millisecond {
		p.last = time.Now()
		p.status.show(fmt.Sprintf("uploading: %.1f MB", float64(p.n)/1e6))
	}
	return n, err
}

// sayColumns says what was recognised of a list.
func (a *app) sayColumns(cmd *cobra.Command, one client.Batch) {
	out := cmd.ErrOrStderr()
	what := one.Recognised
	if one.File != "" {
		what = one.File + ": " + what
	}
	fmt.Fprintf(out, "%s; %s\n", what, counted(one.Rows, "row"))
	var fields []string
	for _, column := range one.Columns {
		if column.Role == "" {
			fields = append(fields, "{"+column.Field+"}")
			continue
		}
		fmt.Fprintf(out, "  %-10s in %q: %s\n", roleWord(column.Role), column.Head, column.Why)
	}
	if len(fields) > 0 {
		fmt.Fprintf(out, "  %-10s %s\n", "fields", strings.Join(fields, " "))
	}
}

func roleWord(role string) string {
	return map[string]string{"to": "numbers", "country": "countries", "language": "languages", "name": "names", "reference": "references",
		"at": "times", "text": "texts"}[role]
}

// awaitRehearsal waits until a batch was rehearsed.
func (a *app) awaitRehearsal(cmd *cobra.Command, c *client.Client, one client.Batch) (client.Batch, error) {
	shown := statusOn(cmd.ErrOrStderr())
	for pause := 20 * time.Millisecond; one.State == string(batch.Checking); pause = min(2*pause, 500*time.Millisecond) {
		shown.show(fmt.Sprintf("rehearsing: %s of %s rows", thousands(one.Checked), thousands(one.Rows)))
		select {
		case <-cmd.Context().Done():
			return one, cmd.Context().Err()
		case <-time.After(pause):
		}
		var err error
		if one, err = c.Batch(cmd.Context(), one.ID); err != nil {
			return one, err
		}
	}
	shown.clear()
	if one.Totals == nil {
		return one, fmt.Errorf("batch %s was not rehearsed: %s", brief(one.ID), cmp.Or(one.Why, "somebody changed it meanwhile"))
	}
	return one, nil
}

// launchFlags are how a batch is launched.
type launchFlags struct {
	client.Launch
	starts, until, evenly string
	noGuard               bool
}

func (l *launchFlags) add(f *pflag.FlagSet) {
	f.StringVar(&l.Pace, "pace", "", "how fast it goes at most, such as 500/s, 30/min or 2000/h")
	f.StringVar(&l.evenly, "evenly", "", "spread evenly until a time, such as 18:00, in the place of a pace")
	f.StringVar(&l.Scouts, "scouts", "", "how many rows go ahead, chosen at random: a number, or a share such as 2%")
	f.Var(wireSpan{&l.ScoutsAfter}, "scouts-after", "the rest follows by itself so long after the launch, if enough scouts were delivered")
	f.Float64Var(&l.ScoutsLeast, "scouts-least", 0, "the share of scouts that has to be delivered for that, such as 0.95")
	f.BoolVar(&l.noGuard, "no-guard", false, "do not stop by itself when many fail or are in doubt, or it costs more than it should")
	f.StringVar(&l.Budget, "budget", "", "what may be spent on it by estimate, such as 30 EUR; it is held when that is reached")
	f.Uint64Var(&l.Seed, "seed", 0, "by which scouts are chosen")
	f.StringVar(&l.starts, "starts", "", "when it starts: 18:00, 2026-11-29 18:00 or 2026-11-29T18:00:00Z")
	f.StringVar(&l.until, "until", "", "when what is left expires")
	f.BoolVar(&l.Again, "again", false, "also if most of these people got the same text within a day")
}

// read reads what was given as words.
func (l *launchFlags) read(now time.Time) error {
	for _, t := range []struct {
		flag, given string
		into        **time.Time
	}{{"starts", l.starts, &l.StartsAt}, {"until", l.until, &l.Until}, {"evenly", l.evenly, &l.Evenly}} {
		if t.given == "" {
			continue
		}
		at, err := moment(t.given, now)
		if err != nil {
			return usagef("--%s %q: %s", t.flag, t.given, momentAccepted)
		}
		*t.into = &at
	}
	if l.noGuard {
		l.Guard = &client.Guard{}
	}
	if l.Pace != "" {
		if _, err := batch.ParsePace(l.Pace); err != nil {
			return usagef("--pace: %s; accepted is %s", fault.Of(err)[0].Wrong, fault.Of(err)[0].Accepted)
		}
	}
	return nil
}

func (a *app) batchLaunch() *cobra.Command {
	var b batchFlags
	var l launchFlags
	var yes, wait bool
	var patience time.Duration
	cmd := &cobra.Command{
		Use:   "launch [FILE|BATCH]",
		Short: "Send to everyone on a list, as it was rehearsed",
		Long: "Launches a batch that was rehearsed, or rehearses a list and launches it. On a terminal\n" +
			"it asks before, unless --yes is given; elsewhere --yes is needed for a list that nobody has\n" +
			"looked at. If at least half of the people got the same text within a day, or will get it, the launch is\n" +
			"refused and says how many; --again sends it all the same.\n\n" +
			"With --scouts some rows, chosen at random, go first; the rest is held until: pigeon batch release\n\n" + exitHelp,
		Example: `  pigeon batch launch 01a3 --scouts 50
  pigeon batch launch 01a3 --pace 500/s --starts 18:00 --until 21:00
  pigeon batch launch 01a3 --evenly 18:00
  pigeon batch launch passengers.csv --template storm --yes --wait`,
		Args: cobra.MaximumNArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			if err := l.read(time.Now()); err != nil {
				return err
			}
			one, fresh, err := a.rehearsed(cmd, c, args, &b)
			if err != nil {
				return err
			}
			if !yes && (fresh || onTerminal(os.Stdin)) {
				if err := a.printBatch(cmd, one); err != nil {
					return err
				}
				a.foretell(cmd, c, one, l.Launch)
				if err := a.confirm(cmd, one, l.Launch); err != nil {
					return err
				}
			}
			if one, err = c.LaunchBatch(cmd.Context(), one.ID, l.Launch); err != nil {
				return err
			}
			if wait {
				return a.watchBatch(cmd, c, one, patience)
			}
			if err := a.printBatch(cmd, one); err != nil {
				return err
			}
			fmt.Fprintf(
				cmd.ErrOrStderr(),
				"\nWatch it: pigeon batch watch %s. Hold it back: pigeon batch pause %s\n",
				brief(one.ID),
				brief(one.ID),
			)
			return nil
		}),
	}
	f := cmd.Flags()
	b.add(f)
	l.add(f)
	f.BoolVarP(&yes, "yes", "y", false, "do not ask")
	f.BoolVarP(&wait, "wait", "w", false, "watch it until its end")
	spanVar(f, &patience, "timeout", 24*time.Hour, "how long to wait at most")
	return cmd
}

const momentAccepted = "accepted is a time such as 18:00, 2026-11-29 18:00 or 2026-11-29T18:00:00Z"

// moment reads a time: of today or, if that is over, of tomorrow; or with its date; in the
// zone of this machine unless it says another.
func moment(given string, now time.Time) (time.Time, error) {
	if at, err := time.Parse(time.RFC3339, given); err == nil {
		return at, nil
	}
	for _, form := range []string{"2006-01-02 15:04", "2006-01-02T15:04"} {
		if at, err := time.ParseInLocation(form, given, now.Location()); err == nil {
			return at, nil
		}
	}
	at, err := time.ParseInLocation("15:04", given, now.Location())
	if err != nil {
		return at, err
	}
	at = time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
	if at.Before(now) {
		at = at.AddDate(0, 0, 1)
	}
	return at, nil
}

// confirm asks whether a batch is to go.
func (a *app) confirm(cmd *cobra.Command, one client.Batch, l client.Launch) error {
	if !onTerminal(os.Stdin) {
		return usagef("nobody has looked at this list yet. Launch it with: pigeon batch launch %s, or give --yes", brief(one.ID))
	}
	first := ""
	if l.Scouts != "" {
		first = ", " + l.Scouts + " of them first"
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "\nSend %s%s? [y/N] ", counted(one.Totals.Goes, "message"), first)
	var answer string
	fmt.Fscanln(cmd.InOrStdin(), &answer)
	if !slices.Contains([]string{"y", "yes"}, strings.ToLower(answer)) {
		fmt.Fprintf(cmd.ErrOrStderr(), "Nothing was sent. It stays as batch %s.\n", brief(one.ID))
		return exit(exitRefused)
	}
	return nil
}

func (a *app) batchList() *cobra.Command {
	var state, cursor string
	var limit int
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List batches, the newest first",
		Args:  cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			l, err := c.Batches(cmd.Context(), state, cursor, limit)
			if err != nil {
				return err
			}
			if len(l.Items) == 0 && a.config.GetString("output") == "table" {
				fmt.Fprintln(cmd.ErrOrStderr(), "There are no batches. Begin one with: pigeon batch rehearse FILE --text TEXT")
				return nil
			}
			var rows [][]string
			for _, b := range l.Items {
				goes, left := "", ""
				if b.Totals != nil {
					goes, left = fmt.Sprint(b.Totals.Goes), fmt.Sprint(b.Rows-b.Totals.Goes)
				}
				delivered, failed := "", ""
				if b.Tally != nil {
					delivered = fmt.Sprint(b.Tally.States["delivered"])
					failed = fmt.Sprint(failedOf(b))
				}
				id := b.ID
				if a.config.GetString("output") == "table" {
					id = brief(b.ID)
				}
				rows = append(
					rows,
					[]string{id, b.Wants.Name, b.State, fmt.Sprint(b.Rows), goes, left, delivered, failed, a.at(b.CreatedAt), b.By},
				)
			}
			head := []string{"id", "name", "state", "rows", "go", "left out", "delivered", "failed", "created", "by"}
			if err := a.print(cmd, l, head, rows); err != nil {
				return err
			}
			if l.Next != "" {
				fmt.Fprintf(cmd.ErrOrStderr(), "There are more: --cursor %s\n", l.Next)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&state, "state", "", "only those in a state: open, rehearsed, running, paused, held, finished or cancelled")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many at most, up to 500")
	cmd.Flags().StringVar(&cursor, "cursor", "", "go on where the page before ended")
	return cmd
}

// failedOf is how many messages of a batch came to an end otherwise than delivered.
func failedOf(b client.Batch) (n int64) {
	for _, f := range b.Failures {
		n += f.N
	}
	return n
}

func (a *app) batchShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show BATCH",
		Short: "Show what a batch is, what was rehearsed, and what has become of it",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			one, err := c.Batch(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printBatch(cmd, one)
		}),
	}
}

func (a *app) batchChange(name, short string, do func(*client.Client, context.Context, string) (client.Batch, error)) *cobra.Command {
	return &cobra.Command{
		Use:   name + " BATCH",
		Short: short,
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			one, err := do(c, cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printStanding(cmd, one)
		}),
	}
}

func (a *app) batchPace() *cobra.Command {
	return a.batchSet(&cobra.Command{
		Use:   "pace BATCH PACE",
		Short: "Change how fast a batch goes at most: 500/s, 30/min, 2000/h, or none",
	}, (*client.Client).PaceBatch)
}

func (a *app) batchBudget() *cobra.Command {
	return a.batchSet(&cobra.Command{
		Use:   "budget BATCH AMOUNT",
		Short: "Change what may be spent on a batch: 30 EUR, or none",
		Long: "What a batch may cost by estimate, all in all. When it is reached the batch is held; to let it\n" +
			"go on, give it a larger one and: pigeon batch resume. What is in a currency that the budget does\n" +
			"not name may not be spent at all.",
		Example: "  pigeon batch budget 01a3 \"30 EUR\"\n  pigeon batch budget 01a3 none",
	}, (*client.Client).BudgetBatch)
}

// batchSet makes a command that sets something of a batch; none stands for no limit.
func (a *app) batchSet(cmd *cobra.Command, set func(*client.Client, context.Context, string, string) (client.Batch, error)) *cobra.Command {
	cmd.Args = cobra.ExactArgs(2)
	cmd.RunE = a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
		what := args[1]
		if what == "none" {
			what = ""
		}
		one, err := set(c, cmd.Context(), args[0], what)
		if err != nil {
			return err
		}
		return a.printStanding(cmd, one)
	})
	return cmd
}

func (a *app) batchCorrect() *cobra.Command {
	var hint client.ListHint
	cmd := &cobra.Command{
		Use:   "correct BATCH FILE",
		Short: "Put rows back that were left out, once they are corrected",
		Long: "Takes the sheet of rows that are left out, corrected, and rehearses the batch anew with them.\n" +
			"Each row finds back by its number in the column \"pigeon row\". All of them or none.",
		Example: "  pigeon batch result 01a3 --left-out --file to-correct.csv\n  pigeon batch correct 01a3 to-correct.csv",
		Args:    cobra.ExactArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			file, err := a.listFile(cmd, args[1])
			if err != nil {
				return usagef("%w", err)
			}
			defer file.Close()
			done, err := c.CorrectRows(cmd.Context(), args[0], file, hint)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s put back\n", counted(done.Rows, "row"))
			one, err := c.RehearseBatch(cmd.Context(), done.Batch.ID)
			if err == nil {
				one, err = a.awaitRehearsal(cmd, c, one)
			}
			if err != nil {
				return err
			}
			return a.printBatch(cmd, one)
		}),
	}
	readingVar(cmd.Flags(), &hint.Encoding, &hint.Delimiter, &hint.Sheet, &hint.Locale, &hint.HeadRow)
	return cmd
}

func (a *app) batchRetry() *cobra.Command {
	return &cobra.Command{
		Use:   "retry BATCH",
		Short: "Make a new batch of the rows that failed for a reason that may pass",
		Long: "Makes a batch of the rows of another that were undeliverable, expired or rejected for a\n" +
			"reason that may pass, such as a phone that was switched off, and rehearses it. What was\n" +
			"delivered, or may have been, is never among them. Nothing is sent until it is launched.",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			one, err := c.RetryBatch(cmd.Context(), args[0])
			if err == nil {
				one, err = c.RehearseBatch(cmd.Context(), one.ID)
			}
			if err == nil {
				one, err = a.awaitRehearsal(cmd, c, one)
			}
			if err != nil {
				return err
			}
			if err := a.printBatch(cmd, one); err != nil {
				return err
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "\nNothing was sent. To send it: pigeon batch launch %s\n", brief(one.ID))
			return nil
		}),
	}
}

func (a *app) batchRemove() *cobra.Command {
	return &cobra.Command{
		Use:   "remove BATCH",
		Short: "Forget a batch that was not launched, with its rows",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			return c.RemoveBatch(cmd.Context(), args[0])
		}),
	}
}

func (a *app) batchTry() *cobra.Command {
	var t client.BatchTry
	cmd := &cobra.Command{
		Use:     "try BATCH NUMBER",
		Short:   "Send one row of a batch to yourself: the longest text, or --row",
		Example: "  pigeon batch try 01a3 +447700900123 --row 17",
		Args:    cobra.ExactArgs(2),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			t.To = args[1]
			m, err := c.TryBatch(cmd.Context(), args[0], t)
			if err != nil {
				return err
			}
			return a.follow(cmd, c, m, time.Minute)
		}),
	}
	cmd.Flags().IntVar(&t.Row, "row", 0, "which row (default: the one with the longest text)")
	return cmd
}

func (a *app) batchRows() *cobra.Command {
	var leftOut, state, cursor string
	var limit int
	cmd := &cobra.Command{
		Use:   "rows BATCH",
		Short: "Look at rows: as they go, or why they are left out, and what became of them",
		Long: "Lists rows of a batch. --left-out any lists those that are left out, or --left-out REASON\n" +
			"those for a reason; --state those in a state. For all of them as a sheet: pigeon batch result",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			l, err := c.BatchRows(cmd.Context(), args[0], leftOut, state, cursor, limit)
			if err != nil {
				return err
			}
			var rows [][]string
			for _, r := range l.Items {
				what := r.State
				if r.LeftOut != "" {
					what = "left out: " + reasonWord(r.LeftOut)
				}
				price := ""
				if r.Price != nil {
					price = r.Price.String()
				}
				note := cmp.Or(r.Say, r.Advice)
				rows = append(rows, []string{fmt.Sprint(r.Row), r.To, what, r.Cause, note, r.Sender, r.Gateway, r.Encoding,
					fmt.Sprint(r.Segments), price, flat(r.Text)})
			}
			head := []string{"row", "to", "state", "cause", "note", "sender", "gateway", "encoding", "segments", "price", "text"}
			if err := a.print(cmd, l, head, rows); err != nil {
				return err
			}
			if l.Next != "" {
				fmt.Fprintf(cmd.ErrOrStderr(), "There are more: --cursor %s\n", l.Next)
			}
			return nil
		}),
	}
	cmd.Flags().StringVar(&leftOut, "left-out", "", "those that are left out: any, or a reason such as number or repeated")
	cmd.Flags().StringVar(&state, "state", "", "those in a state, such as undeliverable")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many at most, up to 500")
	cmd.Flags().StringVar(&cursor, "cursor", "", "go on where the page before ended")
	return cmd
}

func (a *app) batchResult() *cobra.Command {
	var format, file string
	var leftOut bool
	cmd := &cobra.Command{
		Use:   "result BATCH",
		Short: "Get your list back with what became of each row beside it",
		Long: "Writes the list as it came, its columns in their order, and beside each row: state, cause,\n" +
			"advice, when it was final, segments, cost, the message's id, and why it was left out if so. At any\n" +
			"time, as often as you like. --left-out gives the rows that are left out alone, to be corrected.",
		Example: "  pigeon batch result 01a3 > result.csv\n  pigeon batch result 01a3 --format xlsx --file result.xlsx\n" +
			"  pigeon batch result 01a3 --left-out --file to-correct.csv",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) (err error) {
			out := cmd.OutOrStdout()
			if file != "" {
				// It takes the place of what is there when it is whole, and not before.
				into, err := os.CreateTemp(filepath.Dir(file), ".result-*")
				if err != nil {
					return usagef("--file: %w", err)
				}
				defer os.Remove(into.Name())
				if err := c.BatchResult(cmd.Context(), args[0], format, leftOut, into); err != nil {
					return errors.Join(err, into.Close())
				}
				if err := errors.Join(into.Chmod(0o644), into.Close()); err != nil {
					return err
				}
				return os.Rename(into.Name(), file)
			}
			return c.BatchResult(cmd.Context(), args[0], format, leftOut, out)
		}),
	}
	cmd.Flags().StringVar(&format, "format", "", "csv, xlsx or jsonl (default: as the list came)")
	cmd.Flags().StringVar(&file, "file", "", "where to write it (default: standard output)")
	cmd.Flags().BoolVar(&leftOut, "left-out", false, "the rows that are left out alone")
	return cmd
}
