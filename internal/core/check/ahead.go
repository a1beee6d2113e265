package check

import (
	"path"
	"slices"
	"strings"
	"sync"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
	"polytome/internal/target"
)

// inFlight is how many files are looked into at a time over a network, where each costs several ways there and back.
const inFlight = 8

// looked is what was found in files, by where they lie: once for all loaders of the target, and for what the target
// would be like. Several goroutines may use it.
type looked struct {
	mu       sync.Mutex
	games    map[string]game
	pictures map[string]measured
	texts    map[string]text
}

// game is what was found in a file.
type game struct {
	title *title.Title
	err   error
}

// measured is the size of a picture.
type measured struct {
	size picture.Size
	err  error
}

// text is what stands in a small file.
type text struct {
	text string
	err  error
}

func newLooked() *looked {
	return &looked{games: map[string]game{}, pictures: map[string]measured{}, texts: map[string]text{}}
}

// once returns what was found before under a key, or finds it.
func once[T any](l *looked, kept map[string]T, key string, find func() T) T {
	l.mu.Lock()
	v, ok := kept[key]
	l.mu.Unlock()
	if ok {
		return v
	}
	v = find()
	l.mu.Lock()
	kept[key] = v
	l.mu.Unlock()
	return v
}

// ahead looks into the files that a loader will ask for, many at a time: over a network, one after another would take
// as long as all the ways there and back together.
func (y *loaderAudit) ahead() {
	if y.o.Depth == Names || y.facts.Network == "" || y.imagined {
		return
	}
	var finds []func()
	for i := range y.tree.entries {
		e := &y.tree.entries[i]
		if e.Folder || target.IsTemporary(e.Path) {
			continue
		}
		if find := y.finder(e); find != nil {
			finds = append(finds, find)
		}
	}
	next := make(chan func())
	var all sync.WaitGroup
	for range min(inFlight, len(finds)) {
		all.Go(func() {
			for find := range next {
				if y.ctx.Err() == nil {
					find()
				}
			}
		})
	}
	for _, find := range finds {
		next <- find
	}
	close(next)
	all.Wait()
}

// finder is what will be looked for in a file, nil for nothing that can be found ahead.
func (y *loaderAudit) finder(e *target.Entry) func() {
	for _, rule := range y.held {
		if _, _, ok := layout.TitleAt(y.set, rule, e.Path, false); !ok || rule.As(title.Image) == shape.Pack {
			continue
		}
		switch {
		case slices.Contains(rule.Forms, title.Tracks):
			return func() { _, _ = y.tree.text(e) }
		case strings.EqualFold(path.Ext(e.Path), ".zip"), slices.Contains(rule.Forms, title.Package):
			return nil
		}
		return func() { _, _ = y.identify(e) }
	}
	for i := range y.profile.Companions {
		c := &y.profile.Companions[i]
		if _, ok := c.Path.Match(e.Path); !ok {
			continue
		}
		switch {
		case c.Is == "cover":
			return func() { _, _ = y.measure(e) }
		case c.Is == "playlist", c.InList():
			return func() { _, _ = y.tree.text(e) }
		}
	}
	if slices.ContainsFunc(y.held,
		func(rule *loader.Accept) bool { _, ok := rule.TooLarge.Manifest.Match(e.Path); return ok }) {
		return func() { _, _ = y.tree.text(e) }
	}
	return nil
}
