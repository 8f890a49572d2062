package phone

import (
	_ "embed"
	"slices"
	"strings"
	"sync"
)

//go:embed zones.tsv
var zonesFile string

// zoneTable says which time zones (IANA names) a country has, and which countries have
// a time zone.
type zoneTable struct{ of, in map[string][]string }

var zoneTables = sync.OnceValue(func() zoneTable {
	t := zoneTable{map[string][]string{}, map[string][]string{}}
	for line := range strings.Lines(zonesFile) {
		if country, zone, ok := strings.Cut(strings.TrimSpace(line), "\t"); ok {
			t.of[country] = append(t.of[country], zone)
			t.in[zone] = append(t.in[zone], country)
		}
	}
	return t
})

// athome leaves out of the zones that a number's plan gives those that are only other
// countries': a plan may know no finer than a country code that several share, or
// no better. Where none is left, they are those of the country.
func athome(zones []string, country string) []string {
	t := zoneTables()
	own := slices.DeleteFunc(slices.Clone(zones), func(zone string) bool {
		in := t.in[zone]
		return len(in) > 0 && !slices.Contains(in, country)
	})
	if len(own) == 0 && len(t.of[country]) > 0 {
		return slices.Clone(t.of[country])
	}
	return own
}
