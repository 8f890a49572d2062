package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
	"calmpigeon.example/internal/core/price"
)

func readPrices(file string) (*price.List, error) {
	source, err := os.Open(file)
	if err != nil {
		return nil, usagef("--prices: %w", err)
	}
	defer source.Close()
	entries, err := price.ReadCSV(source)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return price.NewList(entries), nil
}

func (a *app) prices() *cobra.Command {
	show := &cobra.Command{
		Use:   "show GATEWAY",
		Short: "Show the price list of a gateway",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			l, err := c.Prices(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printPrices(cmd, l)
		}),
	}
	export := &cobra.Command{
		Use:     "export GATEWAY",
		Short:   "Write the price list of a gateway as CSV",
		Args:    cobra.ExactArgs(1),
		Example: "  pigeon gateway prices export harbourline > harbourline.csv",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			l, err := c.Prices(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			_, err = fmt.Fprint(cmd.OutOrStdout(), l.Source)
			return err
		}),
	}
	var dryRun bool
	load := &cobra.Command{
		Use:   "import GATEWAY FILE",
		Short: "Put a price list in CSV in the place of the gateway's last one",
		Args:  cobra.ExactArgs(2),
		Long: "Takes a price list in, all of it or nothing. Its head names the columns:\n\n" +
			"  country,prefix,kind,per,price,currency,from\n  GB,,,segment,0.0391,EUR,2026-01-01\n  *,,,segment,0.1200,EUR,\n\n" +
			"country (* for all others), price and currency must be there. prefix is how the\n" +
			"numbers of a network begin, kind otp, transactional or bulk, per segment or\n" +
			"message, and from the day from which the price holds.",
		Example: "  pigeon gateway prices import harbourline harbourline.csv --dry-run",
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			source, err := readFile(cmd, args[1])
			if err != nil {
				return err
			}
			l, err := c.PutPrices(cmd.Context(), args[0], client.PricesFile{Source: source}, dryRun)
			if err != nil {
				return err
			}
			if dryRun {
				fmt.Fprintf(cmd.ErrOrStderr(), "Nothing was changed. The list has %d prices:\n", len(l.Prices))
			}
			return a.printPrices(cmd, l)
		}),
	}
	load.Flags().BoolVar(&dryRun, "dry-run", false, "check the file and change nothing")
	return group("prices", "What a gateway charges", show, export, load)
}

func (a *app) printPrices(cmd *cobra.Command, l client.PriceList) error {
	var rows [][]string
	for _, p := range l.Prices {
		from := ""
		if p.From != nil {
			from = strings.TrimSuffix(*p.From, "T00:00:00Z")
		}
		rows = append(rows, []string{p.Country, p.Prefix, p.Kind, p.Per, p.Amount, p.Currency, from})
	}
	if len(rows) == 0 && a.config.GetString("output") == "table" {
		fmt.Fprintf(
			cmd.ErrOrStderr(),
			"%s has no price list: what it charges is unknown. Add one with: pigeon gateway prices import %s FILE\n",
			l.Gateway,
			l.Gateway,
		)
		return nil
	}
	return a.print(cmd, l, []string{"country", "prefix", "kind", "per", "price", "currency", "from"}, rows)
}
