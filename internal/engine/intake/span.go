package intake

import (
	"context"
	"fmt"
	"io"
	"strings"

	"calmpigeon.example/internal/core/fault"
	"calmpigeon.example/internal/core/price"
	"calmpigeon.example/internal/core/sheet"
	"calmpigeon.example/internal/core/smstext"
	"calmpigeon.example/internal/core/template"
)

// Span weighs a template over a list, as texts are weighed for a gateway,
// and estimates what it costs by the gateway's price list; nil if it has none.
// What is wrong comes as [fault.Faults].
func (in *Intake) Span(
	ctx context.Context,
	t *template.Template,
	data io.Reader,
	lang, gateway string,
) (template.Span, *price.Estimate, error) {
	all := in.Roster.All()
	g := in.Roster.ByName(gateway)
	if g == nil && gateway != "" {
		return template.Span{}, nil, fault.New(
			"gateway",
			fmt.Sprintf("%q is not a gateway here", gateway),
			"one of "+strings.Join(names(all), ", "),
		)
	}
	if g == nil && len(all) > 0 {
		g = all[0]
	}
	options := smstext.Options{}
	var estimate *price.Estimate
	var each func(template.Row, template.Sample)
	if g != nil {
		options = g.Dialect.Segments.Options()
		if prices := in.Roster.Book().Prices(g.ID); len(prices.Entries) > 0 {
			estimate = &price.Estimate{}
			now := in.Now()
			each = func(row template.Row, s template.Sample) {
				estimate.Add(row.Estimate(prices.List, t.Kind, s.Weight.Segments, now))
			}
		}
	}
	list, broken := in.Sheets.Open(ctx, data, sheet.Hint{})
	if broken != nil {
		return template.Span{}, nil, fault.New("data", fault.Why(broken), "a sheet in CSV whose head names the fields, or JSON Lines")
	}
	defer list.Close()
	span := t.Weigh(t.Rows(list, list.Columns(""), lang, &broken), options, each)
	if broken != nil {
		return span, nil, fault.New("data", fault.Why(broken), "a sheet in CSV whose head names the fields, or JSON Lines")
	}
	return span, estimate, nil
}
