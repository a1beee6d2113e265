package survey

import (
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/target"
)

// SavesThere are the paths of what players have reached on a target that is no bench's: as the named loader keeps it,
// or, with "", those that a ledger knows for its volume. Known is false where neither says which loader reads it.
func SavesThere(set *loader.Set, store ledger.Store, named string, f target.Facts, all []target.Entry) (
	paths []string, known bool) {
	names := []string{named}
	if named == "" {
		names = nil
		if v, err := store.Volume(ledger.OfStick(f.Volume)); err == nil && f.Plugged() {
			names = v.Loaders
		}
	}
	var profiles []*loader.Profile
	for _, name := range names {
		if p, err := set.Profile(name); err == nil {
			profiles = append(profiles, p)
		}
	}
	for _, s := range saves.FindAll(profiles, func(*loader.Profile) string { return "" }, all) {
		paths = append(paths, s.Path)
	}
	return paths, len(profiles) > 0
}
