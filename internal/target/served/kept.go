package served

import (
	"os"
	"path/filepath"
)

// keptName is the folder beside the layout with the files that were copied.
const keptName = "kept"

// newKept begins a file that is kept.
func (e *Export) newKept() (*os.File, error) {
	dir := filepath.Join(e.dir, keptName)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp(dir, "file-")
	if err != nil {
		return nil, err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.begun[filepath.Base(f.Name())] = true
	return f, nil
}

func keptAs(f *os.File) string { return filepath.Base(f.Name()) }

// sweep removes what was kept of files that are not there any longer. The caller holds the lock.
func (e *Export) sweep() {
	wanted := map[string]bool{}
	for _, r := range e.recipes {
		wanted[r.Kept] = true
	}
	all, _ := os.ReadDir(filepath.Join(e.dir, keptName)) // none where there is no folder
	for _, f := range all {
		if !wanted[f.Name()] && !e.begun[f.Name()] {
			_ = os.Remove(filepath.Join(e.dir, keptName, f.Name())) // it is tried again the next time
		}
	}
}

// kept is a file that was copied, as a source. It is open only while it is read.
type kept struct {
	file string
	size int64
}

func (k kept) Size() int64 { return k.size }

func (k kept) ReadAt(b []byte, off int64) (int, error) {
	f, err := os.Open(k.file)
	if err != nil {
		return 0, err
	}
	defer f.Close() // which was read from
	return f.ReadAt(b, off)
}
