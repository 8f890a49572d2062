package cli

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"calmpigeon.example/client"
)

func (a *app) route() *cobra.Command {
	list := &cobra.Command{
		Use:   "list",
		Short: "List the routes in the order in which they are tried",
		Args:  cobra.NoArgs,
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, _ []string) error {
			r, err := c.Routes(cmd.Context())
			if err != nil {
				return err
			}
			return a.printRoutes(cmd, r)
		}),
	}
	remove := &cobra.Command{
		Use:   "remove NAME",
		Short: "Remove a route",
		Args:  cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			r, err := c.Routes(cmd.Context())
			if err != nil {
				return err
			}
			at := slices.IndexFunc(r.Items, func(r client.Route) bool { return r.Name == args[0] })
			if at < 0 {
				return noRoute(r, args[0])
			}
			if r, err = c.PutRoutes(cmd.Context(), slices.Delete(r.Items, at, at+1)); err != nil {
				return err
			}
			return a.printRoutes(cmd, r)
		}),
	}
	return group("route", "Say which messages go through which gateways", a.routeSet(), list, remove)
}

// noRoute says that there is no such route, as the service says it of other things.
func noRoute(r client.Routes, name string) error {
	detail := "There is none yet."
	if len(r.Items) > 0 {
		detail = "Known are " + strings.Join(routeNames(r), ", ") + "."
	}
	return &client.Problem{Status: http.StatusNotFound, Title: "There is no route " + name, Detail: detail}
}

func routeNames(r client.Routes) []string {
	names := make([]string, len(r.Items))
	for i, one := range r.Items {
		names[i] = one.Name
	}
	return names
}

func (a *app) routeSet() *cobra.Command {
	var n client.Route
	var gateways []string
	var before string
	cmd := &cobra.Command{
		Use:   "set NAME",
		Short: "Add a route, or change the one of that name; what is not given stays",
		Long: "A message takes the first route that fits it. Its gateways are tried in the order\n" +
			"given; with weights, as in --gateway longshore=3, each takes its share. What is\n" +
			"known not to have been taken goes through the next one; what may have been taken\n" +
			"never does. A new route comes last, unless --before says otherwise. To take a\n" +
			"restriction away, give it empty: --kind \"\".",
		Example: "  pigeon route set codes --kind otp --gateway commonquay --gateway harbourline\n  pigeon route set uk --country GB " +
			"--gateway longshore=3 --gateway harbourline=1",
		Args: cobra.ExactArgs(1),
		RunE: a.speaking(func(cmd *cobra.Command, c *client.Client, args []string) error {
			asked := n
			asked.Name = args[0]
			for _, g := range gateways {
				name, weight, weighted := strings.Cut(g, "=")
				leg := client.Leg{Gateway: name}
				if weighted {
					var err error
					if leg.Weight, err = strconv.Atoi(weight); err != nil || leg.Weight < 1 {
						return usagef("--gateway %s: accepted is NAME or NAME=WEIGHT with a weight from 1 to 1000", g)
					}
				}
				asked.Gateways = append(asked.Gateways, leg)
			}
			all, err := c.Routes(cmd.Context())
			if err != nil {
				return err
			}
			at := slices.IndexFunc(all.Items, func(r client.Route) bool { return r.Name == asked.Name })
			if at >= 0 {
				kept(cmd, &asked, all.Items[at])
			} else if len(asked.Gateways) == 0 {
				return usagef("route %s is new: --gateway is needed", asked.Name)
			}
			if before == "" && at >= 0 {
				all.Items[at] = asked
			} else {
				if at >= 0 {
					all.Items = slices.Delete(all.Items, at, at+1)
				}
				place := len(all.Items)
				if before != "" {
					if place = slices.IndexFunc(all.Items, func(r client.Route) bool { return r.Name == before }); place < 0 {
						return usagef("--before: there is no route %q", before)
					}
				}
				all.Items = slices.Insert(all.Items, place, asked)
			}
			r, err := c.PutRoutes(cmd.Context(), all.Items)
			if err != nil {
				return err
			}
			return a.printRoutes(cmd, r)
		}),
	}
	f := cmd.Flags()
	f.StringArrayVar(&gateways, "gateway", nil, "a gateway as NAME or NAME=WEIGHT; may be given several times, the first is tried first")
	f.StringSliceVar(&n.Countries, "country", nil, "only numbers of these countries, such as GB,IE")
	f.StringSliceVar(&n.Prefixes, "prefix", nil, "only numbers that begin so, such as +4477")
	f.StringSliceVar(&n.Kinds, "kind", nil, "only these kinds: otp, transactional, bulk")
	f.StringArrayVar(&n.Senders, "sender", nil, "only this sender; may be given several times")
	f.StringVar(&n.Prefer, "prefer", "", "conversion: passcodes go, country by country, through the gateway whose codes get used")
	f.StringVar(&before, "before", "", "the route to stand before")
	return cmd
}

// kept takes over from a route as it is what the command line does not name.
func kept(cmd *cobra.Command, asked *client.Route, now client.Route) {
	set := cmd.Flags().Changed
	for name, of := range map[string]struct{ to, from *[]string }{
		"country": {&asked.Countries, &now.Countries}, "prefix": {&asked.Prefixes, &now.Prefixes},
		"kind": {&asked.Kinds, &now.Kinds}, "sender": {&asked.Senders, &now.Senders}} {
		if !set(name) {
			*of.to = *of.from
		}
		*of.to = slices.DeleteFunc(slices.Clone(*of.to), func(s string) bool { return s == "" })
	}
	if !set("gateway") {
		asked.Gateways = now.Gateways
	}
	if !set("prefer") {
		asked.Prefer = now.Prefer
	}
}

func (a *app) printRoutes(cmd *cobra.Command, r client.Routes) error {
	all := func(words []string) string {
		if len(words) == 0 {
			return "all"
		}
		return strings.Join(words, ", ")
	}
	var rows [][]string
	for i, one := range r.Items {
		legs := make([]string, len(one.Gateways))
		by := ", then "
		for j, leg := range one.Gateways {
			if legs[j] = leg.Gateway; leg.Weight > 0 {
				legs[j], by = fmt.Sprintf("%s (%d)", leg.Gateway, leg.Weight), " or "
			}
		}
		through := strings.Join(legs, by)
		if one.Prefer != "" {
			through = "by codes that are used: " + strings.Join(legs, " or ")
		}
		rows = append(
			rows,
			[]string{
				fmt.Sprint(i + 1),
				one.Name,
				all(append(slices.Clone(one.Countries), one.Prefixes...)),
				all(one.Kinds),
				all(one.Senders),
				through,
			},
		)
	}
	if err := a.print(cmd, r, []string{"", "route", "numbers", "kinds", "senders", "goes through"}, rows); err != nil {
		return err
	}
	if len(rows) == 0 && a.config.GetString("output") == "table" {
		fmt.Fprintln(
			cmd.ErrOrStderr(),
			"There are no routes: every message goes through the oldest gateway that takes it. Add one with: pigeon route set",
		)
	}
	return nil
}
