package cli

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) money() *cobra.Command {
	var f filterFlags
	var by []string
	var month string
	cmd := &cobra.Command{
		Use:   "money",
		Short: "What messages cost: estimated, told by gateways, and billed, side by side",
		Long: "Tells what messages cost that went to gateways, or may have: by your price lists, as gateways\n" +
			"told when they took them, and as the statements bill that were taken in. Messages count by the\n" +
			"day of UTC on which they were accepted. Beside a charge stands by how much it is above what was\n" +
			"estimated for the same messages.",
		Example: "  pigeon money\n  pigeon money --by month,gateway,country --since 2026-01-01T00:00:00Z\n" +
			"  pigeon money --month 2026-10 --by country --output csv",
		Args: cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			filter, err := f.filter(time.Now())
			if err != nil {
				return err
			}
			if month != "" {
				from, err := time.Parse("2006-01", month)
				if err != nil {
					return usagef("--month: %q is no month; accepted is one such as 2026-10", month)
				}
				filter.Since, filter.Until = from, from.AddDate(0, 1, 0)
			}
			r, err := c.Accounts(cmd.Context(), filter, by...)
			if err != nil {
				return err
			}
			if a.config.GetString("output") != "table" {
				head, rows := accountRows(r)
				return a.print(cmd, r, head, rows)
			}
			return a.writeAccounts(cmd, r)
		}),
	}
	flags := cmd.Flags()
	flags.StringVar(&f.Gateway, "gateway", "", "only through this gateway")
	flags.StringVar(&f.Country, "country", "", "only to numbers of this country (ISO 3166-1)")
	flags.StringVar(&f.Kind, "kind", "", "only otp, transactional or bulk; statements do not tell kinds apart")
	flags.StringVar(&f.since, "since", "", "from a time (2026-11-01T00:00:00Z) or a span back from now; this month if it is not given")
	flags.StringVar(&f.until, "until", "", "until a time or a span back from now")
	flags.StringVar(&month, "month", "", "a month of UTC, such as 2026-10")
	flags.StringSliceVar(&by, "by", []string{"gateway"}, "what is held side by side, with commas: month, day, gateway, country, kind")
	cmd.MarkFlagsMutuallyExclusive("month", "since")
	cmd.MarkFlagsMutuallyExclusive("month", "until")
	return cmd
}

// figures writes amounts of one report alike, so that they can stand below each other.
type figures struct {
	places   int
	currency string // of all of them; empty: they differ, and each is named
}

// figuresOf finds out how the amounts of a report are written: in cents, and where there are fractions of them, in
// hundredths of a cent, which a sum is rounded to.
func figuresOf(r client.Accounts) figures {
	f := figures{places: 2}
	var currencies []string
	for _, g := range append(slices.Clone(r.Groups), r.All) {
		all := slices.Concat(g.Estimated, g.Told.Charged, g.Told.Over, g.Foreign, g.Avoidable)
		if g.Billed != nil {
			all = slices.Concat(all, g.Billed.Charged, g.Billed.Over)
		}
		for _, m := range all {
			if _, part, _ := strings.Cut(m.Amount, "."); len(part) > 2 {
				f.places = 4
			}
			if !slices.Contains(currencies, m.Currency) {
				currencies = append(currencies, m.Currency)
			}
		}
	}
	if len(currencies) == 1 {
		f.currency = currencies[0]
	}
	return f
}

// one writes an amount.
func (f figures) one(m client.Money) string {
	amount, err := strconv.ParseFloat(m.Amount, 64)
	if err != nil {
		return m.String()
	}
	whole, part, _ := strings.Cut(strconv.FormatFloat(math.Abs(amount), 'f', f.places, 64), ".")
	n, _ := strconv.ParseInt(whole, 10, 64)
	said := thousands(n) + "." + part
	if amount < 0 {
		said = "-" + said
	}
	if f.currency == "" {
		said = strings.TrimSpace(said + " " + m.Currency)
	}
	return said
}

// all writes sums of several currencies, or the word for none.
func (f figures) all(sums []client.Money, none string) string {
	if len(sums) == 0 {
		return none
	}
	said := make([]string, len(sums))
	for i, m := range sums {
		said[i] = f.one(m)
	}
	return strings.Join(said, " + ")
}

// over says by how much charges are above the estimate, with a sign; - where they are what was estimated.
func (f figures) over(c client.Charged) string {
	said := make([]string, len(c.Over))
	for i, m := range c.Over {
		amount, _ := strconv.ParseFloat(m.Amount, 64)
		said[i] = f.one(m)
		switch {
		case amount > 0:
			said[i] = "+" + said[i]
		case amount == 0:
			said[i] = "0"
		}
	}
	return strings.Join(said, ", ")
}

// along names what an account is about.
func along(r client.Accounts, g client.Account) []string {
	cells := make([]string, 0, len(r.By))
	for _, by := range r.By {
		switch by {
		case "month":
			cells = append(cells, g.At.UTC().Format("2006-01"))
		case "day":
			cells = append(cells, g.At.UTC().Format(time.DateOnly))
		case "gateway":
			cells = append(cells, g.Gateway)
		case "country":
			cells = append(cells, g.Country)
		case "kind":
			cells = append(cells, g.Kind)
		}
	}
	return cells
}

// accountRows are the accounts for programs: a row for each currency.
func accountRows(r client.Accounts) (head []string, rows [][]string) {
	head = append(slices.Clone(r.By), "currency", "messages", "estimated", "unpriced", "told_messages", "told", "told_over",
		"billed_messages", "billed", "billed_over", "foreign_lines", "foreign", "avoidable_messages", "avoidable")
	groups := r.Groups
	if len(r.By) == 0 {
		groups = []client.Account{r.All}
	}
	for _, g := range groups {
		billed := client.Charged{}
		if g.Billed != nil {
			billed = *g.Billed
		}
		var currencies []string
		for _, sums := range [][]client.Money{g.Estimated, g.Told.Charged, billed.Charged, g.Foreign} {
			for _, m := range sums {
				if !slices.Contains(currencies, m.Currency) {
					currencies = append(currencies, m.Currency)
				}
			}
		}
		if currencies == nil {
			currencies = []string{""}
		}
		for _, currency := range currencies {
			in := func(all []client.Money) string {
				for _, m := range all {
					if m.Currency == currency {
						return m.Amount
					}
				}
				return ""
			}
			rows = append(rows, append(along(r, g), currency, fmt.Sprint(g.Messages), in(g.Estimated), fmt.Sprint(g.Unpriced),
				fmt.Sprint(g.Told.Messages), in(g.Told.Charged), in(g.Told.Over), fmt.Sprint(billed.Messages), in(billed.Charged),
				in(billed.Over), fmt.Sprint(g.ForeignLines), in(g.Foreign), fmt.Sprint(g.AvoidableMessages), in(g.Avoidable)))
		}
	}
	return head, rows
}

// figureHead are the columns of figures.
var figureHead = []string{"messages", "estimated", "told", "told above", "billed", "billed above"}

func (a *app) writeAccounts(cmd *cobra.Command, r client.Accounts) error {
	out, f := cmd.OutOrStdout(), figuresOf(r)
	in := ""
	if f.currency != "" {
		in = ", in " + f.currency
	}
	fmt.Fprintf(out, "Accepted from %s to %s (UTC)%s\n\n", r.Since.UTC().Format("2 Jan 2006"),
		r.Until.UTC().Add(-time.Second).Format("2 Jan 2006"), in)
	if r.All.Messages == 0 && r.All.ForeignLines == 0 && (r.All.Billed == nil || r.All.Billed.Messages == 0) {
		fmt.Fprintln(out, "Nothing went to a gateway.")
		return nil
	}
	row := func(names []string, g client.Account) []string {
		cells := append(names, thousands(g.Messages), f.all(g.Estimated, "no price"), f.all(g.Told.Charged, "not told"), f.over(g.Told))
		if g.Billed != nil {
			cells = append(cells, f.all(g.Billed.Charged, "no bill"), f.over(*g.Billed))
		}
		return cells
	}
	var rows [][]string
	for _, g := range r.Groups {
		rows = append(rows, row(along(r, g), g))
	}
	head := append(slices.Clone(r.By), figureHead...)
	if r.All.Billed == nil {
		head = head[:len(head)-2]
	}
	if len(r.Groups) != 1 {
		names := make([]string, len(r.By))
		if len(names) > 0 {
			names[0] = "together"
		}
		rows = append(rows, row(names, r.All))
	}
	if err := a.printGrid(cmd, r, grid{head: head, rows: rows, right: figureHead}); err != nil {
		return err
	}
	a.writeRemarks(cmd, r.All)
	return nil
}

// sums are amounts with their currencies, as they are.
func sums(all []client.Money) string {
	said := make([]string, len(all))
	for i, m := range all {
		said[i] = m.String()
	}
	return strings.Join(said, " + ")
}

// writeRemarks says what of an account is not in its sums, and what could be spared.
func (a *app) writeRemarks(cmd *cobra.Command, g client.Account) {
	out := cmd.OutOrStdout()
	fmt.Fprintln(out)
	if g.Unpriced > 0 {
		fmt.Fprintf(out, "%s without a price: pigeon gateway prices import GATEWAY FILE\n", counted(int(g.Unpriced), "message"))
	}
	if n := g.Told.Messages - g.Told.Compared; n > 0 {
		fmt.Fprintf(out, "%s with a charge have no estimate in its currency, and are not compared.\n", counted(int(n), "message"))
	}
	if g.ForeignLines > 0 {
		fmt.Fprintf(out, "%s of statements about no message bill %s: pigeon statement list\n", counted(int(g.ForeignLines), "line"),
			sums(g.Foreign))
	}
	if g.AvoidableMessages > 0 {
		fmt.Fprintf(out, "Characters such as curly quotes cost %s of the estimate, in %s: pigeon weigh shows them, and\n"+
			"--cure safe (on a key, a template, a batch or a message) replaces them.\n", sums(g.Avoidable),
			counted(int(g.AvoidableMessages), "message"))
	}
}
