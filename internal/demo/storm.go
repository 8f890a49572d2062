package demo

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"calmpigeon.example/client"
)

// port is a country that passengers come from: their numbers, from ranges for fiction
// where there are any, their language and their names.
type port struct {
	country, language, numbers string
	many                       int // different numbers
	names                      []string
}

var ports = []port{
	{"GB", "en", "+447700900%03d", 1000, []string{"Ann", "Joe", "Ivy", "Seán O’Dee"}},
	{"IE", "en", "+3532091%05d", 900, []string{"Niamh", "Conor"}},
	{"US", "en", "+120255501%02d", 100, []string{"Sam", "Kim"}},
	{"CA", "fr", "+151455501%02d", 100, []string{"Chloé", "Noah"}},
	{"FR", "fr", "+3363998%04d", 400, []string{"Zoé", "Luc", "François"}},
	{"SE", "sv", "+467017406%02d", 95, []string{"Åsa", "Björn"}},
	{"DE", "de", "+4917139200%02d", 100, []string{"Jörg", "Käthe"}},
	{"NO", "nb", "+4740000%03d", 200, []string{"Øyvind", "Ingrid"}},
	{"GR", "el", "+306900000%03d", 400, []string{"Ελένη", "Νίκος"}},
	{"PL", "pl", "+48500000%03d", 300, []string{"Łucja", "Jan"}},
	{"TR", "tr", "+905010000%03d", 200, []string{"Çiğdem", "Ömer"}},
	{"IN", "hi", "+917000000%03d", 200, []string{"आशा", "राज"}},
}

// mistakes are rows such as sheets have them: a name, a number and a language.
var mistakes = [][3]string{
	{"Nobody", "", "en"},
	{"Lost", "4.47701E+11", "en"},
	{"Typed", "07700 9OO123", "en"},
	{"Short", "+4477009", "en"},
	{"Desk", "+442079460123", "en"},
	{"Premium", "+449098790001", "en"},
	{"No country", "555 0123", "en"},
	{"Twice", "+447700900001", "en"},
	{"Twice more", "0044 7700 900 001", "en"},
	{"Two numbers", "+447700900002 / +447700900003", "en"},
	{"Not yet", "#N/A", "en"},
	{"Mail", "ann@lanternholm.example", "en"},
	{"Extension", "+447700900004 x12", "en"},
}

// stormRows is how many rows the list of the storm has.
const stormRows = 2000

// StormList is the list of passengers of the Sunday on which a storm cancels all crossings, as
// the office keeps it: numbers as people wrote them, and every mistake that a sheet can have.
func StormList() []byte {
	var b bytes.Buffer
	b.WriteString("\ufeff")
	w := csv.NewWriter(&b)
	w.Comma = ';'
	w.Write([]string{"Booking", "Passenger", "Mobile", "Language", "Fare"})
	written := []func(n string) string{
		func(n string) string { return n },
		func(n string) string { return "00" + n[1:] },
		func(n string) string { return n[:3] + " (0) " + n[3:] },
		func(n string) string { return "'" + n },
		func(n string) string { return n + ".0" },
		func(n string) string { return n[:5] + " " + n[5:8] + "-" + n[8:] },
		func(n string) string { return "tel:" + n },
	}
	for i := range stormRows - len(mistakes) {
		p, n := ports[i%2], i/2 // most are from here
		if i%3 == 0 {
			p, n = ports[i/3%len(ports)], 900+i/3/len(ports)
		}
		// Numbers that end in 84 and more misbehave on the way, and not only for themselves.
		const good = 84
		n %= p.many * good / 100
		number := fmt.Sprintf(p.numbers, n/good*100+n%good)
		how := written[0]
		if i%11 == 0 && p.country == "GB" {
			how = written[i/11%len(written)]
		}
		w.Write([]string{fmt.Sprintf("LF-%04d", i+1), p.names[i%len(p.names)], how(number), p.language, fmt.Sprintf("%d.50 EUR", 20+i%60)})
	}
	for i, m := range mistakes {
		w.Write([]string{fmt.Sprintf("LF-%04d", stormRows-len(mistakes)+i+1), m[0], m[1], m[2], "48.50 EUR"})
	}
	w.Flush()
	return b.Bytes()
}

// stormFile is what the list is called beside the demo's data.
const stormFile = "storm-passengers.csv"

// writeStorm puts the list where one can try it.
func writeStorm(o Options) (string, error) {
	file := filepath.Join(o.Service.Data, stormFile)
	return file, os.WriteFile(file, StormList(), 0o600)
}

// storm plays a batch from its list to its result: rehearsed, scouts first, the rest after
// them by itself.
func storm(ctx context.Context, c *client.Client, o Options) (client.Batch, error) {
	one, err := c.NewBatch(ctx, client.BatchWants{Name: "Sunday's storm", Template: "storm-cancels", AtAnyHour: true})
	if err != nil {
		return one, err
	}
	if _, err := c.AppendRows(ctx, one.ID, bytes.NewReader(StormList()), client.ListHint{File: stormFile, At: -1}); err != nil {
		return one, err
	}
	if one, err = c.RehearseBatch(ctx, one.ID); err != nil {
		return one, err
	}
	if one, err = batchWhen(ctx, c, one, func(b client.Batch) bool { return b.State != "checking" }); err != nil {
		return one, err
	}
	left := make([]string, len(one.Totals.Left))
	for i, part := range one.Totals.Left {
		left[i] = fmt.Sprintf("%d %s", part.Rows, part.Name)
	}
	fmt.Fprintf(o.Out, "\nA storm cancels all Sunday crossings: %d rows = %d to send + %d left out (%s); 40 scouts go first.\n", one.Rows, one.Totals.Goes,
		one.Rows-one.Totals.Goes, strings.Join(left, ", "))
	if _, err = c.LaunchBatch(ctx, one.ID, client.Launch{Scouts: "40", Seed: 11, ScoutsAfter: "3s", ScoutsLeast: 0.7}); err != nil {
		return one, err
	}
	return batchWhen(ctx, c, one, func(b client.Batch) bool { return b.FinishedAt != nil || b.State == "held" })
}

func batchWhen(ctx context.Context, c *client.Client, one client.Batch, holds func(client.Batch) bool) (client.Batch, error) {
	for !holds(one) {
		select {
		case <-ctx.Done():
			return one, fmt.Errorf("the batch is %s (%s), %s: %w", one.State, one.Why, equation(one), ctx.Err())
		case <-time.After(200 * time.Millisecond):
		}
		var err error
		if one, err = c.Batch(ctx, one.ID); err != nil {
			return one, err
		}
	}
	return one, nil
}

// stormAccount looks at the result sheet and says what is not as it should be.
func stormAccount(ctx context.Context, c *client.Client, o Options, one client.Batch) (wrong int, err error) {
	say := func(format string, args ...any) {
		wrong++
		fmt.Fprintf(o.Out, "WRONG: "+format+"\n", args...)
	}
	fmt.Fprintln(o.Out, one.Tally.Equation)
	if one.State != "finished" || one.Tally.Total != int64(one.Totals.Goes) {
		say("the batch is %s (%s), %d of %d rows were accepted", one.State, one.Why, one.Tally.Total, one.Totals.Goes)
	}
	var sheet bytes.Buffer
	if err := c.BatchResult(ctx, one.ID, "csv", false, &sheet); err != nil {
		return wrong, err
	}
	lines := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(sheet.Bytes(), []byte("\ufeff"))))
	lines.Comma = ';'
	rows, err := lines.ReadAll()
	if err != nil {
		return wrong, err
	}
	state, reason := slices.Index(rows[0], "pigeon state"), slices.Index(rows[0], "pigeon left out")
	states := map[string]int64{}
	left := 0
	for _, row := range rows[1:] {
		if row[reason] != "" {
			left++
			continue
		}
		states[row[state]]++
	}
	if len(rows) != one.Rows+1 || left != one.Rows-one.Totals.Goes {
		say("the result sheet has %d rows, %d of them left out", len(rows)-1, left)
	}
	for word, n := range one.Tally.States {
		if states[word] != n {
			say("%d rows of the result sheet are %s, the tally says %d", states[word], word, n)
		}
	}
	fmt.Fprintf(o.Out, "The result sheet has a row for each of %d, and says the same of every one.\n", len(rows)-1)
	return wrong, nil
}

func equation(b client.Batch) string {
	if b.Tally == nil {
		return fmt.Sprintf("%d rows", b.Rows)
	}
	return b.Tally.Equation
}
