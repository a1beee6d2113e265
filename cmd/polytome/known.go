package main

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/adrg/xdg"

	"polytome/internal/core/loader"
)

// configDir is the folder of the user's own profiles and platforms.
func configDir() string { return filepath.Join(xdg.ConfigHome, "polytome") }

// known is everything that ships and what the user has of their own. Files with mistakes
// are told in a line, and the rest works.
func known() (*loader.Set, error) {
	set, err := loader.Known(configDir())
	if err != nil {
		return nil, err
	}
	for _, b := range set.Broken {
		fmt.Fprintf(os.Stderr, "polytome: left out: %s has a mistake; see polytome loaders check %s\n", b.File, b.File)
	}
	return set, nil
}
