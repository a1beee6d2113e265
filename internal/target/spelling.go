package target

import (
	"sync"

	"golang.org/x/text/encoding/htmlindex"
)

// spelt keeps which characters an encoding has, by its name.
var spelt sync.Map // of *sync.Map of bool

// lacks is the first character of a name that an encoding of names cannot spell; ok is false for none. An encoding that
// is not known has all.
func lacks(encoding, name string) (r rune, ok bool) {
	kept, _ := spelt.LoadOrStore(encoding, &sync.Map{})
	known := kept.(*sync.Map)
	for _, r := range name {
		has, ok := known.Load(r)
		if !ok {
			has = true
			if e, err := htmlindex.Get(encoding); err == nil {
				_, err = e.NewEncoder().String(string(r))
				has = err == nil
			}
			known.Store(r, has)
		}
		if !has.(bool) {
			return r, true
		}
	}
	return 0, false
}
