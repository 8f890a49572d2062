package demo

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"calmpigeon.example/client"
)

// billed is the gateway whose bill the demo holds against its messages.
const billed = "harbourline"

// entry is a text as a practice gateway keeps it in its ledger.
type entry struct {
	ID      string    `json:"id"`
	From    string    `json:"from"`
	To      string    `json:"to"`
	Billed  int       `json:"billed"`
	Charge  string    `json:"charge"`
	TakenAt time.Time `json:"taken_at"`
	Status  string    `json:"status"`
}

// ledger is what a practice gateway carried.
func ledger(ctx context.Context, at places, gateway string) ([]entry, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, at.fleet+"/"+gateway+"/ledger", nil)
	if err != nil {
		return nil, err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return nil, fmt.Errorf("speaking to the practice fleet: %w", err)
	}
	defer response.Body.Close()
	var l struct{ Entries []entry }
	return l.Entries, json.NewDecoder(response.Body).Decode(&l)
}

// bill writes a gateway's bill as such bills are: with German words and decimal commas, right for the most part, and wrong
// in every way once.
func bill(entries []entry) string {
	var out strings.Builder
	w := csv.NewWriter(&out)
	w.Comma = ';'
	w.Write([]string{"Nachrichten-ID", "Rufnummer", "Absender", "Datum", "Teile", "Zustand", "Betrag EUR"})
	write := func(id string, e entry, state, charge string) {
		w.Write(
			[]string{
				id,
				strings.TrimPrefix(e.To, "+"),
				e.From,
				e.TakenAt.UTC().Format("02.01.2006 15:04:05"),
				strconv.Itoa(e.Billed),
				state,
				strings.ReplaceAll(charge, ".", ","),
			},
		)
	}
	words := map[string]string{"on the handset": "delivered", "switched off": "undelivered"}
	for i, e := range entries {
		state := words[e.Status]
		if state == "" {
			state = "sent"
		}
		switch i {
		case 1: // it says that one failed which arrived
			write(e.ID, e, "undelivered", e.Charge)
		case 2: // and counts a segment more
			e.Billed++
			write(e.ID, e, state, e.Charge)
		case 3: // and takes more money
			write(e.ID, e, state, "0.0910")
		case 4: // one is told by number and time alone
			write("", e, state, e.Charge)
		case 5: // one is billed twice
			write(e.ID, e, state, e.Charge)
			write(e.ID, e, state, e.Charge)
		case 6: // one is not billed
		case 7: // one that is nobody's
			write(e.ID, e, state, e.Charge)
			e.To = elsewhereTo
			write("hl-0000000000", e, state, e.Charge)
		default:
			write(e.ID, e, state, e.Charge)
		}
	}
	w.Flush()
	return out.String()
}

// elsewhereTo is a number to which nothing was sent.
const elsewhereTo = "+447700900991"

// billFile is where the demo leaves the bill.
func billFile(o Options) string { return filepath.Join(o.Service.Data, billed+"-bill.csv") }

// holdBill writes the bill once the scenario has gone, and holds it against the messages.
func holdBill(ctx context.Context, c *client.Client, o Options, at places) error {
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	for {
		t, err := c.Tally(ctx, client.Filter{Gateway: billed})
		if err != nil {
			return err
		}
		moving := t.States["queued"] + t.States["sending"] + t.States["accepted"] + t.States["doubtful"]
		if moving == 0 && t.Total > 20 {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
	entries, err := ledger(ctx, at, billed)
	if err != nil {
		return err
	}
	for i := range entries { // at the prices that were agreed
		page, err := c.Find(ctx, client.Filter{GatewayRef: entries[i].ID}, "", 1)
		if err != nil {
			return err
		}
		if len(page.Items) == 1 && page.Items[0].Price != nil {
			entries[i].Charge = page.Items[0].Price.Amount
		}
	}
	file := bill(entries)
	if err := os.WriteFile(billFile(o), []byte(file), 0o600); err != nil {
		return err
	}
	_, err = c.TakeStatement(ctx, strings.NewReader(file), client.StatementHint{Gateway: billed, File: filepath.Base(billFile(o))})
	if p := (*client.Problem)(nil); errors.As(err, &p) {
		return fmt.Errorf("taking the bill in: %s, %v", p.Title, p.Errors)
	}
	return err
}
