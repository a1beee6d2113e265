package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/target/folder"
)

// cardSize is how long a card of the Vesper's loader is.
const cardSize = 6 * mib

// save is one that was made on a target of the demo.
type save struct {
	target, path, says string
	size               int64 // 0 for that of what it says
	days               int   // before the season began
}

// reached are the saves that were made on two of them.
var reached = []save{
	{"ferry-share", "ROWAN/cards/VSP-21377.crd", "Mosswick: chapter 2", cardSize, 40},
	{"ferry-share", "ROWAN/cards/VSP-21762.crd", "Thimble Kings: the third hill", cardSize, 12},
	{"ferry-share", "ROWAN/cards/shared-1.crd", "both halls, one card", cardSize, 9},
	{"north-stick", "ROWAN/cards/VSP-21377.crd", "Mosswick: chapter 5", cardSize, 3},
}

// makeSaves puts what players have reached on the targets.
func (w World) makeSaves() error {
	volume, err := filepath.Rel(w.Dir, w.CorvaneVolume())
	if err != nil {
		return err
	}
	for _, r := range append(slices.Clone(reached), save{volume, "saves/CVN00117/progress", "Hollow Lane: day 19", 0,
		2}) {
		file := filepath.Join(w.Dir, r.target, filepath.FromSlash(r.path))
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return fmt.Errorf("making the demo's saves: %w", err)
		}
		text := r.says + "\n"
		if err := writeAll(file, text); err != nil {
			return err
		}
		at := Season.Add(-time.Duration(r.days) * 24 * time.Hour)
		if err := errors.Join(extend(file, max(r.size, int64(len(text)))), os.Chtimes(file, at, at)); err != nil {
			return fmt.Errorf("making the demo's saves: %w", err)
		}
	}
	tune := filepath.Join(w.Dir, "ferry-share", "TUNE")
	if err := os.MkdirAll(tune, 0o755); err != nil {
		return fmt.Errorf("making the demo's saves: %w", err)
	}
	return writeAll(filepath.Join(tune, "VSP-21762.tune"), "timing=a\ntray=shut\ncard=shared-1\n")
}

// keepSaves keeps the saves of two targets, once. What was reached on the Ferry share first was brought to the North
// stick, and played on there.
func (w World) keepSaves(ctx context.Context) error {
	v := saves.Vault{Dir: w.Saves()}
	if all, err := v.Versions(); err != nil || len(all) > 0 {
		return err
	}
	set, err := loader.Shipped()
	if err != nil {
		return err
	}
	rowan, err := set.Profile("rowan")
	if err != nil {
		return err
	}
	place := func(name, dir string) saves.Place {
		return saves.Place{Name: name, ID: filepath.Join(w.Dir, dir), Why: "when the season was packed"}
	}
	keep := func(p saves.Place) (kept []saves.Version, err error) {
		if p.Target, err = folder.Open(p.ID, folder.Options{}); err != nil {
			return nil, err
		}
		defer func() { err = errors.Join(err, p.Target.Close()) }()
		entries, err := p.Target.List(ctx, func(string, error) {})
		if err == nil {
			kept, _, err = v.Keep(ctx, p, saves.Find(rowan, "", entries))
		}
		return kept, err
	}
	north := place("North stick", "north-stick")
	kept, err := keep(place("Ferry share", "ferry-share"))
	for i := range kept {
		if err == nil && kept[i].Path == reached[0].path {
			err = v.Put(ctx, north, kept[i:i+1])
		}
	}
	if err == nil {
		_, err = keep(north)
	}
	if err != nil {
		return fmt.Errorf("keeping the demo's saves: %w", err)
	}
	return nil
}
