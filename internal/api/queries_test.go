package api

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
)

// The parameters that operations take are those of the description.
func TestQueriesAreThoseOfTheDescription(t *testing.T) {
	t.Parallel()
	type parameter struct {
		Name string
		In   string
		Ref  string `yaml:"$ref"`
	}
	var document struct {
		Paths      map[string]map[string]any
		Components struct{ Parameters map[string]parameter }
	}
	if err := yaml.Unmarshal(Description, &document); err != nil {
		t.Fatal(err)
	}
	list := func(of any) (all []parameter) {
		encoded, err := yaml.Marshal(of)
		if err == nil {
			err = yaml.Unmarshal(encoded, &all)
		}
		if err != nil {
			t.Fatal(err)
		}
		for i, p := range all {
			if p.Ref != "" {
				all[i] = document.Components.Parameters[p.Ref[strings.LastIndex(p.Ref, "/")+1:]]
			}
		}
		return all
	}
	want := map[string][]string{}
	for path, item := range document.Paths {
		for method, operation := range item {
			fields, ok := operation.(map[string]any)
			if !ok || strings.HasPrefix(path, "/v1/exports/") {
				continue
			}
			for _, p := range append(list(item["parameters"]), list(fields["parameters"])...) {
				if p.In == "query" {
					key := strings.ToUpper(method) + " " + strings.NewReplacer("{", ":", "}", "").Replace(path)
					want[key] = append(want[key], p.Name)
				}
			}
		}
	}
	for key := range want {
		slices.Sort(want[key])
	}
	if !maps.EqualFunc(queries, want, slices.Equal) {
		for key, names := range want {
			if !slices.Equal(queries[key], names) {
				t.Errorf("%q: {%q} are described, and here are %q", key, names, queries[key])
			}
		}
		for key := range queries {
			if want[key] == nil {
				t.Errorf("%s has no parameters in the description", key)
			}
		}
	}
}
