package demo

import (
	"context"
	"embed"

	"calmpigeon.example/client"
)

// files are the templates of Lanternholm Ferries, the price list of its gateway
// and a list of passengers, as users keep theirs.
//
//go:embed data
var files embed.FS

var templates = []string{"boarding-code", "crossing-moved", "storm"}

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
	prices, err := c.Prices(ctx, "harbourline")
	if err == nil && len(prices.Prices) == 0 {
		_, err = c.PutPrices(ctx, "harbourline", client.PricesFile{Source: read("harbourline.csv")}, false)
	}
	return err
}

func read(name string) string {
	data, err := files.ReadFile("data/" + name)
	if err != nil {
		panic(err) // it is in the binary; a test reads all
	}
	return string(data)
}
