// Package dialects holds the dialect files that ship with Calm Pigeon: those
// of the practice fleet, as examples to copy from.
package dialects

import (
	"embed"
	"strings"
)

// Schema is the JSON Schema of dialect files, for editors.
//
//go:embed schema.json
var Schema []byte

// Files are the dialect files, named after their dialect.
//
//go:embed *.yaml
var Files embed.FS

// Source returns the file of the named dialect.
func Source(name string) ([]byte, error) { return Files.ReadFile(name + ".yaml") }

// Names lists the dialects that ship.
func Names() []string {
	entries, _ := Files.ReadDir(".")
	names := make([]string, 0, len(entries))
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	return names
}
