//go:build !(linux || freebsd || openbsd || netbsd)

package trash

// candidates are none: this system's trash is not reached.
func candidates(string) ([]can, error) { return nil, ErrNoTrash }
