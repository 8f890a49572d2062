package demo

import (
	"bytes"
	"context"
	"embed"
	"encoding/csv"
	"fmt"

	"calmpigeon.example/client"
)

// files are the templates of Lanternholm Ferries, the price list of its gateway
// and a list of passengers, as users keep theirs.
//
//go:embed data
var files embed.FS

var templates = []string{"boarding-code", "crossing-moved", "storm", "storm-cancels", "berth-registered", "boarding-call"}

// charges is what a segment costs through the gateways that charge the same
// everywhere, in euros.
var charges = map[string]string{
	"sandbank":         "0.0350",
	"longshore":        "0.0300",
	"stillwater":       "0.0450",
	"oldpier":          "0.0280",
	"commonquay":       "0.0500",
	"stamphouse":       "0.0200",
	"stamphouse-voice": "0.0200",
	"waxseal":          "0.0330",
}

// seasonTickets is a list of passengers with season tickets, and the groups that they are in.
func seasonTickets() []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Write([]string{"Name", "Mobile", "Language", "Home port", "Groups"})
	homes := []string{"Skerrow", "Port Amity", "Lanternholm"}
	groups := []string{"islanders", "commuters", "islanders, commuters", "crew"}
	for i := range 4 * len(ports) {
		p := ports[i%len(ports)]
		w.Write(
			[]string{p.names[i/len(ports)%len(p.names)], fmt.Sprintf(p.numbers, 10+i/len(ports)), p.language, homes[i%3], groups[i*7%11%4]},
		)
	}
	w.Flush()
	return b.Bytes()
}

// loadFiles puts in what is missing of templates and prices.
func loadFiles(ctx context.Context, c *client.Client) error {
	there, err := c.Templates(ctx)
	if err != nil {
		return err
	}
	have := map[string]bool{}
	for _, t := range there {
		have[t.Name] = true
	}
	for _, name := range templates {
		if have[name] {
			continue
		}
		if _, err := c.AddTemplate(ctx, client.TemplateFile{Source: read(name + ".yaml")}); err != nil {
			return err
		}
	}
	kept, err := c.RecipientLists(ctx)
	if err == nil && len(kept) == 0 {
		_, err = c.SaveRecipients(ctx, "season tickets", bytes.NewReader(seasonTickets()), client.SaveHint{})
	}
	if err != nil {
		return err
	}
	lists := map[string]string{"harbourline": read("harbourline.csv")}
	for gateway, charge := range charges {
		lists[gateway] = "country,price,currency\n*," + charge + ",EUR\n"
	}
	for gateway, list := range lists {
		prices, err := c.Prices(ctx, gateway)
		if err == nil && len(prices.Prices) == 0 {
			_, err = c.PutPrices(ctx, gateway, client.PricesFile{Source: list}, false)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func read(name string) string {
	data, err := files.ReadFile("data/" + name)
	if err != nil {
		panic(err) // it is in the binary; a test reads all
	}
	return string(data)
}
