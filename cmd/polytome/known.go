package main

import (
	"cmp"
	"fmt"
	"io"
	"path/filepath"

	"github.com/adrg/xdg"

	"polytome/internal/core/cover"
	"polytome/internal/core/loader"
	"polytome/internal/core/scancache"
)

// configDir is the folder of the user's own profiles and platforms.
func configDir() string { return filepath.Join(xdg.ConfigHome, "polytome") }

// cacheFile is where scans keep what they have seen.
func cacheFile() string { return filepath.Join(xdg.CacheHome, "polytome", "seen.sqlite") }

// ownBench is the bench of somebody who names none.
func ownBench() string { return filepath.Join(xdg.DataHome, "polytome", "bench.toml") }

// stateDir is where copies and locks of benches are kept.
func stateDir() string { return filepath.Join(xdg.StateHome, "polytome", "benches") }

// openCache opens the cache. Without one, everything is looked at each time, and that is said.
func openCache(problems io.Writer) *scancache.Store {
	store, err := scancache.Open(cacheFile())
	if err != nil {
		fmt.Fprintf(problems, "polytome: %v\n", err)
		return nil
	}
	return store
}

// coversDir is the folder in which what was fetched from servers of covers is kept.
func coversDir() string { return filepath.Join(xdg.CacheHome, "polytome", "covers") }

// openCovers opens the store of covers in a folder, "" for the usual one. Without one, nothing that was fetched is
// found, and that is said.
func openCovers(dir string, problems io.Writer) *cover.Store {
	store, err := cover.OpenStore(cmp.Or(dir, coversDir()))
	if err != nil {
		fmt.Fprintf(problems, "polytome: %v\n", err)
		return nil
	}
	return store
}

// known is everything that ships and what the user has of their own. Files with mistakes
// are reported in a line, and the rest works.
func known() (*loader.Set, error) {
	set, err := loader.Known(configDir())
	if err != nil {
		return nil, err
	}
	for _, b := range set.Broken {
		fmt.Fprintf(stderr(), "polytome: skipped: %s has a mistake; see polytome loaders check %s\n", b.File, b.File)
	}
	return set, nil
}
