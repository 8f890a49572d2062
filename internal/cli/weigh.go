package cli

import (
	"cmp"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/charset"
	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/pace"
	"calmpigeon.example/internal/core/phone"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/explain"
)

func (a *app) weigh() *cobra.Command {
	var encoding, prices, country, kind, cure, as string
	var tables, to []string
	var bits int
	var lines bool
	cmd := &cobra.Command{
		Use:   "weigh TEXT",
		Short: "Show what a text costs, who is to blame, and what can be done",
		Long: "Shows encoding, units and segments of a text, where it is cut, which characters\n" +
			"make it cost more, and what could stand in their place. It needs no service.\n\n" +
			"With --to, it also shows the price for each number or country: by --prices, a\n" +
			"price list in CSV, or else as the service at --url knows it.\n\n" +
			"Under the text, ^ marks what forces UCS-2 and ~ what costs two units.\n\n" +
			"--jsonl reads a JSON string a line, or an object with text, and writes an\n" +
			"object a line with encoding, units, segments and cuts (byte offsets).",
		Example: "  pigeon weigh \"Don’t miss it: the 07:40 leaves from berth 3 [gate B]\"\n" +
			"  pigeon weigh \"Berth 3\" --to GB,+33639980012 --prices harbourline.csv\n" +
			"  pigeon weigh --jsonl < texts.jsonl",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			options := smstext.Options{Encoding: smstext.Encoding(encoding), WideReference: bits == 16}
			written := ""
			if charset.Known(encoding) { // what it is written in, and not how it is to be sent
				options.Encoding, written = "", encoding
			}
			if options.Encoding != "" && options.Encoding != smstext.GSM7 && options.Encoding != smstext.UCS2 {
				return usagef("--encoding %q: accepted are gsm7 and ucs2, or what a text from standard input is written in: %s",
					encoding, strings.Join(charset.Names, ", "))
			}
			if bits != 8 && bits != 16 {
				return usagef("--reference-bits %d: accepted are 8 and 16", bits)
			}
			for _, tag := range tables {
				language, err := smstext.ParseLanguage(tag)
				if err != nil {
					return usagef("--tables: %v", err)
				}
				options.Languages = append(options.Languages, language)
			}
			level, err := smstext.ParseLevel(cure)
			if err != nil {
				return usagef("--cure: %v", err)
			}
			if lines {
				if len(args) > 0 {
					return usagef("--jsonl reads standard input, and takes no text beside it")
				}
				return jsonl(cmd, func(q question) any { return weighLine(q.Text, options, level) })
			}
			if len(args) == 0 {
				return usagef("requires a text, or - to read one from standard input")
			}
			asked, err := given(cmd, args[0], written)
			if err != nil {
				return err
			}
			cured, replaced := options.Cure(asked, level)
			w := explain.Text(cured, options)
			w.Replaced = explain.Replaced(replaced)
			if len(to) > 0 {
				if err := a.cost(cmd, &w, to, country, kind, prices); err != nil {
					return err
				}
			}
			if as != "" {
				written, err := smstext.EncodeHex(smstext.Form(as), cured)
				if err != nil {
					return usagef("--as %s: %v; accepted are %s", as, err, fault.Words(smstext.Forms))
				}
				_, err = fmt.Fprintln(cmd.OutOrStdout(), written)
				return err
			}
			if a.config.GetString("output") != "table" {
				if len(w.Recipients) > 0 {
					if err := a.printCosts(cmd, w, prices); err != nil {
						return err
					}
					return sendable(w)
				}
				var rows [][]string
				for i, p := range w.Parts {
					rows = append(
						rows,
						[]string{fmt.Sprint(i + 1), fmt.Sprint(p.From), fmt.Sprint(p.To), fmt.Sprint(p.Units), w.Encoding, p.Text},
					)
				}
				if err := a.print(cmd, w, []string{"segment", "from", "to", "units", "encoding", "text"}, rows); err != nil {
					return err
				}
				return sendable(w)
			}
			writeWeighing(cmd.OutOrStdout(), w)
			if why := unchanged(w, level); why != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "\nNothing was replaced: %s.\n", why)
			}
			if len(w.Recipients) > 0 {
				fmt.Fprintln(cmd.OutOrStdout())
				if err := a.printCosts(cmd, w, prices); err != nil {
					return err
				}
				if len(w.Recipients) > 1 {
					fmt.Fprintf(cmd.OutOrStdout(), "\nOne to each: %s\n", estimateOf(w.Recipients))
				}
			}
			return sendable(w)
		},
	}
	f := cmd.Flags()
	f.StringSliceVar(&to, "to", nil, "numbers or countries to price it for, with commas between")
	f.StringVar(&prices, "prices", "", "a price list in CSV; without it the service is asked")
	f.StringVar(&country, "country", "", "where numbers without a country code are dialled, such as GB")
	f.StringVar(&kind, "kind", "transactional", "otp, transactional or bulk, for the price")
	f.StringVar(&cure, "cure", "", "replace characters first: off, safe or strong")
	f.StringVar(&encoding, "encoding", "", "force gsm7 or ucs2; or what a text from standard input is written in, such as windows-1252")
	f.StringVar(&as, "as", "", "only write it as a gateway may want it, in hexadecimal: utf-8, latin-1, utf-16be or packed septets")
	f.IntVar(&bits, "reference-bits", 8, "of the number that joins segments: 8 or 16")
	f.StringSliceVar(&tables, "tables", nil, "national language tables the gateway accepts: tr, es, pt")
	f.BoolVar(&lines, "jsonl", false, "read JSON Lines from standard input")
	return cmd
}

// sendable ends with another code where a text cannot be sent.
func sendable(w client.Weighing) error {
	if w.Problem != "" {
		return exit(exitRefused)
	}
	return nil
}

// weighLine is the answer to one line.
func weighLine(text string, options smstext.Options, level smstext.Level) any {
	text, replaced := options.Cure(text, level)
	w, err := options.Weigh(text)
	line := struct {
		Encoding smstext.Encoding      `json:"encoding"`
		Units    int                   `json:"units"`
		Segments int                   `json:"segments"`
		Cuts     []int                 `json:"cuts"`
		Replaced []smstext.Replacement `json:"replaced,omitempty"`
		Problem  string                `json:"problem,omitempty"`
	}{w.Encoding, w.Units, w.Segments, []int{}, replaced, ""}
	if w.Segments > 0 {
		line.Cuts = w.Cuts(text)
	}
	if err != nil {
		line.Problem = err.Error()
	}
	return line
}

// cost prices the text for each recipient: by a list, or by the service.
func (a *app) cost(cmd *cobra.Command, w *client.Weighing, to []string, country, kind, file string) error {
	parsed, err := pace.ParseKind(kind)
	if err != nil {
		return usagef("--kind: %v", err)
	}
	if file == "" {
		key := a.config.GetString("key")
		if key == "" {
			return usagef("--to needs prices: give --prices FILE, or set PIGEON_KEY to ask the service")
		}
		said, err := client.New(a.config.GetString("url"), key).
			Weigh(cmd.Context(), client.WeighRequest{Text: w.Text, To: to, Country: country, Kind: kind})
		if err != nil {
			return err
		}
		w.Recipients, w.Cures = said.Recipients, said.Cures
		return nil
	}
	list, err := readPrices(file)
	if err != nil {
		return err
	}
	for i, one := range to {
		r := client.Recipient{
			Given:    one,
			Segments: w.Segments,
			Kind:     kind,
			Encoding: w.Encoding,
			Text:     w.Text,
			Errors:   []client.FieldError{},
			Warnings: []client.Warning{},
		}
		var number phone.Number
		if code := strings.ToUpper(one); phone.IsCountry(code) {
			r.Country, r.Name = code, phone.CountryName(code)
		} else {
			n := explain.Number(one, country)
			r.Number, r.Country, r.Name = &n, n.Country, n.Name
			if n.E164 == "" {
				r.Errors = append(r.Errors, client.FieldError{Field: "to", Wrong: n.Reason, Accepted: phone.Accepted})
			}
			number, _ = phone.Parse(n.E164)
		}
		if rate, ok := list.Find(number, r.Country, parsed, time.Now()); ok && r.Country != "" {
			wire := explain.Price(rate)
			r.Rate = &wire
			r.Price = explain.Money(rate.Cost(w.Segments))
			if i == 0 {
				explain.Savings(w, rate)
			}
		}
		w.Recipients = append(w.Recipients, r)
	}
	return nil
}

// unchanged says why a cure that was asked for replaced nothing; empty if it did, or
// none was asked for.
func unchanged(w client.Weighing, level smstext.Level) string {
	switch {
	case len(w.Replaced) > 0, level != smstext.Safe && level != smstext.Strong, w.Problem != "" && len(w.Culprits) == 0:
		return ""
	case len(w.Culprits) == 0:
		return "every character takes one unit as it is"
	case len(w.Cures) > 0:
		return fmt.Sprintf("what %s replaces saves no segment; --cure %s would save %d", level, w.Cures[0].Level, w.Cures[0].Saves)
	case !slices.ContainsFunc(w.Culprits, func(c client.Culprit) bool { return c.Level != string(smstext.Off) }):
		return "nothing can stand for what makes it dear"
	}
	return "what can be replaced saves no segment"
}

// printCosts prints what a text costs for each to whom it may go. list is the file of
// the prices, if it is one.
func (a *app) printCosts(cmd *cobra.Command, w client.Weighing, list string) error {
	if list != "" {
		list = filepath.Base(list)
	}
	if a.config.GetString("output") == "table" {
		return a.print(cmd, w, []string{"to", "country", "segments", "price", "by the prices of", "note"}, costRows(w.Recipients, list))
	}
	var rows [][]string
	for i, cells := range costRows(w.Recipients, list) {
		r, amount, currency := w.Recipients[i], "", ""
		if r.Price != nil {
			amount, currency = r.Price.Amount, r.Price.Currency
		}
		rows = append(rows, []string{cells[0], r.Country, r.Encoding, fmt.Sprint(r.Segments), amount, currency, r.Gateway, cells[5]})
	}
	return a.print(cmd, w, []string{"to", "country", "encoding", "segments", "price", "currency", "gateway", "note"}, rows)
}

func costRows(all []client.Recipient, list string) [][]string {
	var rows [][]string
	for _, r := range all {
		to, cost := r.Given, "unknown"
		if r.Number != nil && r.Number.E164 != "" {
			to = r.Number.E164
		}
		if r.Price != nil {
			cost = r.Price.String()
		}
		var notes []string
		for _, e := range r.Errors {
			notes = append(notes, e.Field+": "+e.Wrong)
		}
		for _, w := range r.Warnings {
			notes = append(notes, w.Say)
		}
		rows = append(rows, []string{to, r.Name, fmt.Sprint(r.Segments), cost, cmp.Or(r.Gateway, list), strings.Join(notes, "; ")})
	}
	return rows
}

// estimateOf adds up what a message to each recipient costs.
func estimateOf(all []client.Recipient) *price.Estimate {
	var e price.Estimate
	for _, r := range all {
		if r.Price == nil {
			e.Add(price.Money{}, false)
			continue
		}
		m, err := price.ParseMoney(r.Price.Amount, r.Price.Currency)
		e.Add(m, err == nil)
	}
	return &e
}

var encodingNames = map[string]string{"gsm7": "GSM 7-bit", "ucs2": "UCS-2"}

// paperWidth is how many columns a line of the text takes at most.
const paperWidth = 67

// writeWeighing draws the text as its segments and tells what to do.
func writeWeighing(out io.Writer, w client.Weighing) {
	head := fmt.Sprintf("%s, %s", segments(w.Segments), encodingNames[w.Encoding])
	if w.Alphabet != "" && w.Alphabet != "default alphabet" {
		head += " with the " + w.Alphabet
	}
	switch {
	case w.Segments == 1:
		head += fmt.Sprintf(": %d of %d units, %d free", w.Units, w.Room, w.Room-w.Units)
	case w.Segments > 1 && len(w.Parts) > 0:
		head += fmt.Sprintf(": %d units, %d a segment, %d free in the last", w.Units, w.Room, w.Room-w.Parts[len(w.Parts)-1].Units)
	}
	fmt.Fprintln(out, head)
	if w.Problem != "" {
		fmt.Fprintf(out, "It cannot be sent: %s.\n", w.Problem)
	}
	marks := map[int]rune{}
	for _, c := range w.Culprits {
		mark := '^'
		if c.Why == "costs_two" {
			mark = '~'
		}
		for _, at := range c.At {
			marks[at] = mark
		}
	}
	const most = 10 // segments drawn
	for i, p := range w.Parts {
		if i == most && len(w.Parts) > most+1 {
			fmt.Fprintf(out, "\n  … and %d more\n", len(w.Parts)-most)
			break
		}
		fmt.Fprintf(out, "\n  %s\n", rule(i+1, p.Units, w.Room))
		writePart(out, p, marks)
	}
	if len(w.Replaced) > 0 {
		fmt.Fprintln(out, "\nReplaced already: "+replacements(w.Replaced))
	}
	if len(w.Culprits) > 0 {
		fmt.Fprintln(out, "\nTo blame")
		writeCulprits(out, w.Culprits)
	}
	for _, cure := range w.Cures {
		saved := ""
		if cure.Saved != nil {
			saved = fmt.Sprintf(", saves %s for %s", cure.Saved, w.Recipients[0].Given)
		}
		fmt.Fprintf(
			out,
			"\nWith --cure %s: %s of %s, %d fewer%s\n",
			cure.Level,
			segments(cure.Segments),
			encodingNames[cure.Encoding],
			cure.Saves,
			saved,
		)
		for line := range strings.SplitSeq(text.WrapSoft(oneLine(cure.Text, 400), paperWidth), "\n") {
			fmt.Fprintf(out, "  │ %s\n", strings.TrimRight(line, " "))
		}
	}
	for _, t := range w.Tables {
		fmt.Fprintf(out, "\nWith --tables %s, where the gateway accepts them: %s\n", t.Language, segments(t.Segments))
	}
}

// rule is the line above a segment: its number, how full it is, and a bar.
func rule(n, units, room int) string {
	const bar = 40
	full := min(bar, (units*bar+room-1)/max(room, 1))
	return fmt.Sprintf("%d %s%s %d of %d", n, strings.Repeat("━", full), strings.Repeat("─", bar-full), units, room)
}

// writePart writes a segment, and under each line the marks of its culprits.
func writePart(out io.Writer, p client.Part, marks map[int]rune) {
	var line, under strings.Builder
	width, marked := 0, false
	flush := func() {
		fmt.Fprintf(out, "  │ %s\n", strings.TrimRight(line.String(), " "))
		if marked {
			fmt.Fprintf(out, "    %s\n", strings.TrimRight(under.String(), " "))
		}
		line.Reset()
		under.Reset()
		width, marked = 0, false
	}
	for i, r := range p.Text {
		shown := string(r)
		if runewidth.RuneWidth(r) == 0 || r < ' ' {
			shown = map[rune]string{'\n': "⏎", '\t': "⇥", '\r': "␍"}[r]
			if shown == "" {
				shown = "¦" // what nobody sees
			}
		}
		w := runewidth.StringWidth(shown)
		if width+w > paperWidth {
			flush()
		}
		line.WriteString(shown)
		mark, ok := marks[p.From+i]
		if !ok {
			mark = ' '
		}
		marked = marked || ok
		under.WriteRune(mark)
		under.WriteString(strings.Repeat(" ", max(w-1, 0)))
		if width += w; r == '\n' {
			flush()
		}
	}
	if line.Len() > 0 {
		flush()
	}
}

func replacements(all []client.Replacement) string {
	said := make([]string, len(all))
	for i, r := range all {
		said[i] = fmt.Sprintf("%s by %s ×%d", quoted(r.From), quoted(r.To), r.Count)
	}
	return strings.Join(said, ", ")
}

// quoted shows a character that may have no shape.
func quoted(s string) string {
	if s == "" {
		return "nothing"
	}
	if strings.TrimSpace(s) == "" || runewidth.StringWidth(s) == 0 {
		r, _ := utf8.DecodeRuneInString(s)
		return fmt.Sprintf("U+%04X", r)
	}
	return s
}

var keeps = map[string]string{"sign": "nothing stands for it", "link": "in a link: keep it"}

// writeCulprits lists who is to blame. Letters of words are one line: none of
// them can be helped.
func writeCulprits(out io.Writer, all []client.Culprit) {
	const most = 12
	var letters []string
	count := 0
	others := slices.DeleteFunc(slices.Clone(all), func(c client.Culprit) bool {
		if c.Keep != "letter" {
			return false
		}
		letters = append(letters, c.Text)
		count += c.Count
		return true
	})
	name := func(c client.Culprit) string { return oneLine(c.Name, 44) }
	widest := 0
	for _, c := range others[:min(most, len(others))] {
		widest = max(widest, runewidth.StringWidth(name(c)))
	}
	for _, c := range others[:min(most, len(others))] {
		why := "forces UCS-2"
		if c.Why == "costs_two" {
			why = "costs two   "
		}
		do := keeps[c.Keep]
		if c.Level != "off" {
			do = fmt.Sprintf("could be %s (%s)", quoted(c.Cure), c.Level)
			if c.Cure == "" {
				do = fmt.Sprintf("could go (%s)", c.Level)
			}
		}
		char := c.Text
		if strings.TrimSpace(char) == "" || runewidth.StringWidth(char) == 0 {
			char = "¦"
		}
		fmt.Fprintf(out, "  %s %s  %3d×  %s  %s\n", runewidth.FillRight(char, 2), runewidth.FillRight(name(c), widest), c.Count, why, do)
	}
	if len(others) > most {
		fmt.Fprintf(out, "  … and %d more characters\n", len(others)-most)
	}
	if len(letters) > 0 {
		fmt.Fprintf(out, "  %d letters of words, which are kept: %s\n", count, oneLine(strings.Join(letters, ""), 60))
	}
}
