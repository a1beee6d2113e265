// Package demoworld hands out copies of the demo's world to tests: it is made once in a process, as that takes longer
// than most tests do.
package demoworld

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"polytome/internal/demo"
	"polytome/internal/testkit/judge"
)

var (
	once  sync.Once
	first demo.World
	dir   string
	wrong error
)

// Open makes a world of a test's own.
//
// Typical usage, in the TestMain of a package that opens some:
//
//	code := m.Run()
//	demoworld.Remove()
//	os.Exit(code)
func Open(t testing.TB) demo.World {
	t.Helper()
	once.Do(func() {
		if dir, wrong = os.MkdirTemp("", "polytome-world-"); wrong == nil {
			first, wrong = demo.Open(filepath.Join(dir, "world"), demo.Seed)
		}
	})
	require.NoError(t, wrong)
	to := filepath.Join(t.TempDir(), "world")
	judge.Run(t, "cp", "-a", "--sparse=auto", first.Dir, to)
	w := first
	moved := func(path string) string { return strings.Replace(path, first.Dir, to, 1) }
	w = demo.World{Dir: to, Bench: moved(w.Bench), Games: moved(w.Games), Shelf: moved(w.Shelf), Stick: moved(w.Stick),
		Found: moved(w.Found)}
	text, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.Bench, []byte(strings.ReplaceAll(string(text), first.Dir, to)), 0o600))
	return w
}

// Remove removes what the copies were made from.
func Remove() { _ = os.RemoveAll(dir) }
