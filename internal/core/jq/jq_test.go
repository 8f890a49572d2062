package jq

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/itchyny/gojq"

	"calmpigeon.example/internal/core/vary"
)

func meter(t testing.TB) *Meter {
	m := NewMeter(context.Background(), Usual)
	t.Cleanup(m.Close)
	return m
}

func decode(t *testing.T, s string) any {
	t.Helper()
	var v any
	if err := json.Unmarshal([]byte(s), &v); err != nil {
		t.Fatal(err)
	}
	return v
}

// input is what expressions are tried on.
const input = `{"a":[3,1,2,{"b":"x, y"}],"s":"one two  three","n":7,"f":2.5,"o":{"k":"v","l":[1]},"e":[],"z":null,
		"rows":[{"id":2,"t":"b"},{"id":1,"t":"a"},{"id":2,"t":"c"}],"j":"{\"q\":[1,2]}","when":"2026-11-26T08:00:00Z"}`

var expressions = []string{
	`.`, `.a[]`, `.a | length`, `.n + 1`, `.s + "!"`, `.a + [4]`, `.o + {m: 1}`, `.n - 1`, `.a - [1]`, `.n * 2.5`, `.s * 2`,
	`.o * {k: {d: 1}}`,
	`.n / 2`, `.s / " "`, `.n % 4`, `-.n`, `-(.n)`, `.z + .n`, `(.n, .f) + (1, 2)`, `(1, 2) as $x | $x * (.n, .f)`,
	`"\(.n) of \(.o)"`, `@base64 "x\(.s)"`,
	`.o | @json`, `.s | @uri`, `[.s, .n] | @csv`, `.o | tojson`, `.j | fromjson`, `.n | tostring`, `"12" | tonumber`,
	`.s | split(" ")`, `.s | split(" +"; null)`,
	`.s | [splits("t")]`, `[.s | splits("")]`, `.s | sub("o"; "0")`, `.s | gsub("(?<x>[aeiou])"; "<\(.x)>")`,
	`.s | gsub("x*"; "-")`, `.s | test("two")`, `.s | test("TWO"; "i")`,
	`.s | [match("t(.)"; "g") | .captures[0].string]`, `.s | capture("(?<first>[a-z]+) (?<second>[a-z]+)")`,
	`.s | [scan("[a-z]+")]`, `.s | [scan("(t)(.)")]`,
	`.rows | map(.id)`, `.rows | sort_by(.id)`, `.rows | group_by(.id)`, `.rows | unique_by(.id)`,
	`.rows | min_by(.t), max_by(.t)`, `.rows | map(select(.id == 2) | .t) | join("-")`,
	`.o | to_entries`, `.o | with_entries(.key as $k | {key: ($k + "!"), value: .value})`, `.o | map_values(tojson)`,
	`.a | map_values(1)`,
	`[{name: "a", value: 1}, {key: "b", value: null}] | from_entries`, `.o | keys`, `.o | del(.k)`, `del(.a[0], .o.k) | .a, .o`,
	`[paths]`, `path(.a[0])`, `getpath(["o", "k"])`, `.a | flatten`,
	`[[1, [2]], 3] | flatten(1)`, `[[1, 2], [3]] | transpose`, `.a | add(.[] | numbers)`, `[.rows[].id] | add`, `.e | add`,
	`.a | first, last`, `[limit(2; .a[])]`, `[range(5)]`,
	`[range(0; 10; 3)]`, `reduce .rows[] as {$id} (0; . + $id)`, `[foreach .rows[] as $r (0; . + $r.id; [$r.t, .])]`,
	`label $out | .a[] | if . == 1 then ., break $out else . end`,
	`try error("no") catch .`, `.s.x?`, `.missing // "none"`, `if .n > 3 then "more" elif .f then "f" else "less" end`,
	`def twice(f): f | f; .n | twice(. + 1)`,
	`def add2($a; $b): $a + $b; add2(.n; .f)`, `def f: 1; f + 2`, `. as {o: {$k}, $n} | [$k, $n]`, `.a as [$x, $y] | $x - $y`,
	`[.[] | scalars]`, `[..] | length`, `any(.rows[]; .id == 1), all(.a[]; . == 1)`,
	`.s | ltrimstr("one"), rtrimstr("three"), ascii_upcase, ascii_downcase, length, utf8bytelength, startswith("one"), endswith("x")`,
	`.s | explode | implode`, `.s | index("t"), rindex("t")`, `.s | indices("t")`,
	`.a | contains([1])`, `[1] | inside([1, 2])`, `.when | fromdate`, `0 | todate`,
	`.when | strptime("%Y-%m-%dT%H:%M:%SZ") | mktime | strftime("%d.%m.%Y")`, `.n | type, not, floor, tostring`,
	`{a: 1, "b": .n, (.o.k): 3, "x\(.n)": 4, n}`, `{"a": {b: [.rows[].t]}}.a.b[1:]`,
	`.rows | map(has("id")) | all`, `IN(.a[]; 1, 2)`, `.n as $n | [.a[] | numbers | . * $n]`, `.["o"]["k"], .o."k"`,
	`.a[1:3], .s[0:3], .a[-1]`, `isempty(empty)`, `[.a[]?]`, `.n | abs, sqrt, round`,
}

// What is counted gives what it gives when nothing is counted.
func TestCountingChangesNothing(t *testing.T) {
	t.Parallel()
	for _, source := range expressions {
		plain, err := gojq.Parse(source)
		if err != nil {
			t.Fatalf("%s: %v", source, err)
		}
		var want []any
		for run := plain.Run(decode(t, input)); ; {
			v, more := run.Next()
			if !more {
				break
			}
			if err, ok := v.(error); ok {
				t.Fatalf("%s: %v", source, err)
			}
			want = append(want, v)
		}
		p, err := Compile(source)
		if err != nil {
			t.Errorf("%s: %v", source, err)
			continue
		}
		if got, err := p.All(meter(t), decode(t, input)); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s\ngot  %v, %v\nwant %v", source, got, err, want)
		}
	}
}

// What cannot be counted does not compile.
func TestWhatCannotBeCountedIsRefused(t *testing.T) {
	t.Parallel()
	for source, want := range map[string]string{
		`def f: f; f`:                           "calls itself",
		`def f: 1 + f; f`:                       "calls itself",
		`def f: def g: f; g; f`:                 "calls itself",
		`def f(g): f(g | g); f(.)`:              "calls itself",
		`[repeat(1)]`:                           "no function repeat/1",
		`until(false; .)`:                       "no function until/2",
		`[recurse(. + 1)]`:                      "no function recurse/1",
		`.a = 1`:                                "assignment",
		`.a |= . + 1`:                           "assignment",
		`.[100000000] += 1`:                     "assignment",
		`setpath([100000000]; 1)`:               "no function setpath/2",
		`env.HOME`:                              "sees nothing but its input",
		`$ENV.HOME`:                             "not available",
		`input`:                                 "sees nothing but its input",
		`now`:                                   "sees nothing but its input",
		`debug`:                                 "sees nothing but its input",
		`halt`:                                  "sees nothing but its input",
		`$__meter`:                              "not available",
		`1 as $__meter | .`:                     "not available",
		`{$__meter}`:                            "not available",
		`def f($__meter): 1; f(1)`:              "not available",
		`def _keep(m): .; [1]`:                  "not available",
		`_match("a"; "g"; false)`:               "no function _match/3",
		`_sort_by([1])`:                         "no function _sort_by/1",
		`import "a" as a; .`:                    "modules",
		`strftime("%1000000000Y")`:              "without widths",
		`strftime(.format)`:                     "without widths",
		`1` + strings.Repeat("0", 200):          "digits",
		strings.Repeat("[", 400):                "nested",
		strings.Repeat("-", 5000) + "1":         "more than",
		`.sendr | sendr`:                        "no function sendr/0",
		`"` + strings.Repeat("x", 20_000) + `"`: "octets",
		strings.Repeat("if . then ", 1000) + "1" + strings.Repeat(" end", 1000): "more than",
	} {
		if _, err := Compile(source); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60s: got %v, want %q", source, err, want)
		}
	}
}

// Whatever an expression tries, it ends soon and in little memory. It looks at
// the memory of the whole process, and so runs alone.
func TestNothingIsWithoutBounds(t *testing.T) {
	limits := Usual
	limits.Time = 500 * time.Millisecond
	long := strings.Repeat("a", 1<<20)
	for _, source := range []string{
		`[range(3) | "x" * 900000000]`, `"x" * 1e300`, `[range(1e12)]`, `reduce range(60) as $i ("x"; . + .)`,
		`reduce range(60) as $i ([1]; . + .)`,
		`reduce range(100) as $i (1; [., .]) | tojson`, `reduce range(100) as $i (1; [., .]) == 1`,
		`reduce range(100) as $i (1; {a: ., b: .})`,
		`reduce range(1000000) as $i (0; [.])`, `reduce range(1000) as $i (10; . * .)`, `reduce range(60) as $i ("x"; "\(.)\(.)")`,
		`reduce range(60) as $i ("<"; @html + @html)`,
		`reduce range(60) as $i ("x"; [., .] | add)`, `reduce range(60) as $i ("x"; [., .] | join("-"))`,
		`[range(1000)] | join("x" * 1000000)`,
		`[range(100000)] - [range(100000)]`, `[range(100000)] | contains([range(100000)])`, `[.long | match(""; "g")]`,
		`.long | gsub("a"; "bbb")`, `.long | explode | map([., .])`,
		`.long | [splits("")]`, `.long / ""`,
		`.long | test("(a|aa|aaa|aaaa|aaaaa|aaaaaa|aaaaaaa)*b(a|aa|aaa|aaaa|aaaaa|aaaaaa)*c{100}")`, `"1" * 4000000 | tonumber`,
		`"[" * 1000000 | fromjson`, `"9" * 1000000 | fromjson`,
		`[range(2000) | [range(2000)]] | transpose`, `[range(1e9) | try ("x" * 1e9) catch 0]`, `range(1e12) | select(false)`,
		`[limit(1e9; range(1e12))]`, `any(range(1e12); false)`,
		`[[range(300000)], [range(300000)]] | group_by(.[0]) | sort | unique | flatten | map([.])`,
		`[range(200000)] | sort_by(-.) | reverse | tojson | tojson | tojson | tojson | tojson`,
		`def two(f): f, f; [` + strings.Repeat("two(", 25) + `1` + strings.Repeat(")", 25) + `]`,
	} {
		p, err := Compile(source)
		if err != nil {
			t.Errorf("%s: %v", source, err)
			continue
		}
		runtime.GC()
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		began := time.Now()
		m := NewMeter(t.Context(), limits)
		_, err = p.All(m, map[string]any{"long": long})
		m.Close()
		took := time.Since(began)
		runtime.ReadMemStats(&after)
		if said := fmt.Sprint(err); !errors.Is(err, ErrTooMuch) && !strings.Contains(said, "digits") && !strings.Contains(said, "deep") {
			t.Errorf("%s: got %v", source, err)
		}
		if grown := (after.HeapSys - min(before.HeapSys, after.HeapSys)) >> 20; grown > 400 {
			t.Errorf("%s: %d MiB more", source, grown)
		}
		t.Logf(
			"%-60.60s %8v %5d MiB  %.80v",
			source,
			took.Round(time.Millisecond),
			(after.HeapSys-min(before.HeapSys, after.HeapSys))>>20,
			err,
		)
		if took > 20*time.Second {
			t.Errorf("%s: %v", source, took)
		}
	}
}

// Whatever an expression is, it is refused or ends within its limits; and if it ends
// well, it gives what it gives when nothing is counted.
func FuzzExpressions(f *testing.F) {
	for _, source := range expressions {
		f.Add(source)
	}
	vary.Of(f, 3000, expressions, func(s string) { f.Add(s) })
	f.Fuzz(func(t *testing.T, source string) {
		p, err := Compile(source)
		if err != nil {
			return
		}
		p.Unknown(&Shape{})
		p.Keys()
		m := NewMeter(t.Context(), Limits{Time: time.Second, Memory: 1 << 20, Steps: 200_000})
		defer m.Close()
		got, err := p.All(m, decode(t, input))
		if err != nil {
			return
		}
		plain, err := gojq.Parse(source)
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		var want []any
		for run := plain.RunWithContext(ctx, decode(t, input)); ; {
			v, more := run.Next()
			if !more {
				break
			}
			if err, failed := v.(error); failed {
				t.Fatalf("%s gives %v, and uncounted fails: %v", source, got, err)
			}
			want = append(want, v)
		}
		if fmt.Sprint(got) != fmt.Sprint(want) { // as text: NaN is not itself
			t.Fatalf("%s\ngot  %v\nwant %v", source, got, want)
		}
	})
}
