// Command audit looks for weaknesses in the code with gosec, as a library: its own
// command brings along the clients of half a dozen services, which take minutes to
// build and are of no use here. It ends with 1 if it finds any.
package main

import (
	"fmt"
	"io"
	"log"
	"maps"
	"os"
	"os/exec"
	"slices"
	"strings"

	"github.com/securego/gosec/v2"
	"github.com/securego/gosec/v2/analyzers"
	"github.com/securego/gosec/v2/rules"
)

// excepted are rules that are not looked at, and why. Single places are excepted
// where they stand, with their reason.
var excepted = map[string]string{
	"G104": "what Close and the like return: staticcheck looks at it where it matters",
	"G115": "conversions of numbers, which are bounded before; the tests of bounds hold that",
	"G304": "files that whoever runs a command names on their own machine",
}

func main() {
	log.SetFlags(0)
	listed, err := exec.Command("go", "list", "-f", "{{.Dir}}", "./...").Output()
	if err != nil {
		log.Fatalf("listing packages: %v", err)
	}
	folders := slices.DeleteFunc(strings.Fields(string(listed)), func(folder string) bool {
		return strings.HasSuffix(folder, "/e2e") || strings.HasSuffix(folder, "/bench") ||
			strings.HasSuffix(folder, "/audit") // nobody runs them
	})
	quiet := log.New(io.Discard, "", 0)
	config := gosec.NewConfig()
	analyzer := gosec.NewAnalyzer(config, false, true, false, 2, quiet)
	names := slices.Sorted(maps.Keys(excepted))
	found := rules.Generate(false, rules.NewRuleFilter(true, names...))
	analyzer.LoadRules(found.RulesInfo())
	more := analyzers.Generate(false, analyzers.NewAnalyzerFilter(true, names...))
	analyzer.LoadAnalyzers(more.AnalyzersInfo())
	if err := analyzer.Process(nil, folders...); err != nil {
		log.Fatal(err)
	}
	issues, seen, failed := analyzer.Report()
	for file, all := range failed {
		for _, one := range all {
			log.Printf("%s:%d: %s", file, one.Line, one.Err)
		}
	}
	bad := len(failed)
	for _, one := range issues {
		if len(one.Suppressions) > 0 || one.NoSec {
			continue
		}
		bad++
		fmt.Printf("%s:%s: %s: %s\n", one.File, one.Line, one.RuleID, one.What)
	}
	if seen.NumFiles < 100 {
		log.Fatalf("only %d files were looked at", seen.NumFiles)
	}
	if bad > 0 {
		os.Exit(1)
	}
}
