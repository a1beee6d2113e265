package scan

import (
	"os"
	"path/filepath"
	"sync"

	"polytome/internal/core/scancache"
)

// reals finds out where paths lead, which is what the cache knows them by: a link that leads elsewhere since must not
// bring up what was found behind it before. It remembers folders, so it is for one scan. Several goroutines may use it.
type reals struct{ dirs sync.Map }

// of is a path without links in it; what is not there is taken as it is written.
func (r *reals) of(path string) string {
	path = absolute(path)
	if _, err := os.Readlink(path); err == nil {
		if to, err := filepath.EvalSymlinks(path); err == nil {
			return to
		}
	}
	return filepath.Join(r.dir(filepath.Dir(path)), filepath.Base(path))
}

// dir is the same for an absolute path of a folder.
func (r *reals) dir(path string) string {
	if to, ok := r.dirs.Load(path); ok {
		return to.(string)
	}
	to := path
	if parent := filepath.Dir(path); parent != path {
		to = r.of(path)
	}
	r.dirs.Store(path, to)
	return to
}

// checks are files that were read from end to end, by their real paths.
type checks struct {
	reals *reals
	all   map[string]scancache.Check
}

// of is what is known of a file; ok is false when it has changed since, or was never read. Its fingerprint, "" where it
// has none, tells a file of the same length and date that is there now.
func (c checks) of(path string, size, modified int64, sign string) (scancache.Check, bool) {
	was, ok := c.all[c.reals.of(path)]
	return was, ok && was.Size == size && was.Modified == modified && (was.Sign == sign || sign == "" || was.Sign == "")
}
