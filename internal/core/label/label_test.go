package label

import (
	"strings"
	"testing"

	"calmpigeon.example/internal/core/fault"
)

func TestLabels(t *testing.T) {
	t.Parallel()
	long := strings.Repeat("é", valueMost)
	for _, tt := range []struct {
		given map[string]string
		want  Set
		wrong string // the field
	}{
		{nil, "", ""},
		{map[string]string{"shop": "eu", "app": " desk "}, "app=desk,shop=eu", ""},
		{map[string]string{"a": "b=c"}, "a=b=c", ""},
		{map[string]string{"a": long}, Set("a=" + long), ""},
		{map[string]string{"a": long + "x"}, "", "labels.a"},
		{map[string]string{"a": ""}, "", "labels.a"},
		{map[string]string{"a": "x,y"}, "", "labels.a"},
		{map[string]string{"a": "x\ny"}, "", "labels.a"},
		{map[string]string{"a": "\xff"}, "", "labels.a"},
		{map[string]string{"Shop": "eu"}, "", "labels"},
		{map[string]string{"": "eu"}, "", "labels"},
		{map[string]string{"a": "1", "b": "1", "c": "1", "d": "1", "e": "1", "f": "1"}, "", "labels"},
	} {
		got, err := New(tt.given)
		field := ""
		if faults := fault.Of(err); len(faults) > 0 {
			field = faults[0].Field
		}
		if got != tt.want || field != tt.wrong {
			t.Errorf("%v: %q, %v; want %q, and %q wrong", tt.given, got, err, tt.want, tt.wrong)
		}
		if again, err := New(got.Map()); again != got || err != nil {
			t.Errorf("%q read again is %q, %v", got, again, err)
		}
	}
	set, err := Set("app=desk,shop=eu").With(map[string]string{"shop": "us", "x": "1"})
	if err != nil || set != "app=desk,shop=us,x=1" {
		t.Errorf("%q, %v", set, err)
	}
	for wanted, want := range map[string]bool{"shop": true, "shop=us": true, "shop=eu": false, "sho": false, "x=": false, "": false} {
		if set.Has(wanted) != want {
			t.Errorf("%q in %q: want %v", wanted, set, want)
		}
	}
}
