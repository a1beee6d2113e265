package internal_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
)

// pkg is what go list describes a package.
type pkg struct {
	ImportPath   string
	Imports      []string // of the program
	TestImports  []string
	XTestImports []string
}

func packages(t *testing.T) map[string]pkg {
	out, err := exec.Command("go", "list", "-json", "polytome/...").Output()
	require.NoError(t, err)
	all := map[string]pkg{}
	for dec := json.NewDecoder(strings.NewReader(string(out))); dec.More(); {
		var p pkg
		require.NoError(t, dec.Decode(&p))
		all[p.ImportPath] = p
	}
	require.NotEmpty(t, all)
	return all
}

// under reports whether a package is one of the rooms or is inside one.
func under(path string, spaces ...string) bool {
	for _, r := range spaces {
		r = "polytome/" + r
		if path == r || strings.HasPrefix(path, r+"/") {
			return true
		}
	}
	return false
}

// TestFloors walks the imports of every package and fails on one that goes
// upwards; see docs/architecture.md.
func TestFloors(t *testing.T) {
	terminal := []string{"charm.land/", "github.com/charmbracelet/", "github.com/spf13/cobra"}
	lower := []string{"internal/core", "internal/target", "internal/format", "internal/sim", "internal/demo",
		"internal/size", "internal/draw"}
	// from these rooms -> these rooms must not be imported
	never := []struct {
		from, to []string
	}{
		{[]string{"internal/size", "internal/sparse", "internal/filecopy", "internal/writeback"},
			[]string{"internal", "cmd"}},
		{[]string{"internal/draw"}, []string{"cmd", "internal/ui", "internal/sim", "internal/demo"}},
		{[]string{"internal/draw/typeface", "internal/draw/scene", "internal/draw/svg", "internal/draw/pdf"},
			[]string{"internal/core", "internal/target", "internal/format"}},
		{[]string{"internal/core", "internal/target", "internal/format"}, []string{"internal/draw"}},
		{[]string{"internal/format"}, []string{"cmd", "internal/ui", "internal/core", "internal/target", "internal/sim",
			"internal/demo"}},
		{[]string{"internal/target"}, []string{"cmd", "internal/ui", "internal/core", "internal/sim", "internal/demo"}},
		{[]string{"internal/core"}, []string{"cmd", "internal/ui", "internal/sim", "internal/demo"}},
		{[]string{"internal/sim"}, []string{"cmd", "internal/ui", "internal/core", "internal/demo"}},
		{[]string{"internal/demo"}, []string{"cmd", "internal/ui"}},
		{[]string{"internal/ui"}, []string{"cmd", "internal/sim", "internal/demo"}},
		{[]string{"internal/core/title"}, []string{"internal/core", "internal/target", "internal/format"}},
		{[]string{"internal/core/layout", "internal/core/fit", "internal/core/plan"}, []string{"internal/target/folder",
			"internal/core/run", "internal/core/scan"}},
	}
	for path, p := range packages(t) {
		for _, imp := range p.Imports {
			for _, n := range never {
				if under(path, n.from...) && under(imp, n.to...) {
					assert.Fail(t, "an import goes upwards", "%s imports %s", path, imp)
				}
			}
			for _, prefix := range terminal {
				if under(path, lower...) && strings.HasPrefix(imp, prefix) {
					assert.Fail(t, "the core knows a terminal", "%s imports %s", path, imp)
				}
			}
			if under(imp, "internal/testkit") {
				assert.True(t, under(path, "internal/testkit"), "only tests may import %s, and %s does", imp, path)
			}
		}
	}
}

// TestNoLoaderIsNamedInCode looks for the names of loaders and platforms in the
// texts of the program, where every rule is data.
func TestNoLoaderIsNamedInCode(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	var names []string
	for _, p := range set.Profiles {
		names = append(names, p.Name)
	}
	for _, p := range set.Platforms {
		names = append(names, p.Name)
	}
	for _, space := range []string{"core", "target", "format", "ui", "draw"} {
		require.NoError(t, filepath.WalkDir(space, func(file string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
				return err
			}
			tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(tree, func(n ast.Node) bool {
				if text, ok := n.(*ast.BasicLit); ok && text.Kind == token.STRING {
					for _, name := range names {
						assert.NotContains(t, strings.ToLower(text.Value), name, file)
					}
				}
				return true
			})
			return nil
		}))
	}
}
