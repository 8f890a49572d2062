package internal

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// floors lists the rooms of the house from the ground up. A package may import
// what stands in the same room or lower; the longest prefix decides.
var floors = []string{
	"client", "dialects", "console", "internal/buildinfo", "internal/core", "internal/explain", "internal/fleet", "internal/postgres",
	"internal/store",
	"internal/engine", "internal/api", "internal/service", "internal/demo", "internal/cli", "cmd", "bench", "audit", "pictures",
}

// strangers may not be imported by a room, though they stand lower.
var strangers = map[string][]string{
	"client": {"dialects", "console"},
	"internal/core": {
		"client",
		"dialects",
		"console",
		"net/http",
		"database/sql",
		"gorm.io",
		"github.com/jackc",
		"github.com/gin-gonic",
		"log/slog",
	},
	"internal/fleet":  {"client", "dialects", "console", "internal/core"}, // a mistake must not cancel itself out
	"internal/store":  {"client", "internal/fleet", "github.com/gin-gonic"},
	"internal/engine": {"client", "internal/fleet", "internal/postgres", "github.com/gin-gonic", "gorm.io"},
	"internal/api":    {"internal/fleet", "internal/postgres", "gorm.io"},
	"internal/cli":    {"internal/store", "internal/engine", "internal/api", "internal/postgres"},
}

func room(path string) (name string, floor int) {
	floor = -1
	for i, f := range floors {
		if (path == f || strings.HasPrefix(path, f+"/")) && len(f) > len(name) {
			name, floor = f, i
		}
	}
	return name, floor
}

// Imports run downwards.
func TestImportsRunDownwards(t *testing.T) {
	const module = "calmpigeon.example/"
	files := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == "dist" || d.Name() == ".git") {
			return fs.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		files++
		folder := filepath.ToSlash(filepath.Dir(strings.TrimPrefix(path, "../")))
		name, floor := room(folder)
		if floor < 0 {
			t.Errorf("%s stands in no room; add it to the floors", folder)
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, spec := range parsed.Imports {
			imported, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				return err
			}
			ours, own := strings.CutPrefix(imported, module)
			if own {
				if _, below := room(ours); below > floor {
					t.Errorf("%s imports %s, which stands above it", path, ours)
				}
			}
			for _, stranger := range strangers[name] {
				if strings.HasSuffix(folder, "test") {
					break // what sets tests up may know more
				}
				if ours == stranger || strings.HasPrefix(ours, stranger+"/") {
					t.Errorf("%s imports %s: %s knows nothing of it", path, ours, name)
				}
			}
		}
		return nil
	})
	if err != nil || files < 40 {
		t.Errorf("%d files read, %v", files, err)
	}
}
