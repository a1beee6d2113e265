package bench

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"polytome/internal/lockfile"
	"polytome/internal/wholefile"
)

// A holder has a bench open for changes, and keeps others from it until it lets go.
type holder struct {
	lock  *os.File
	other string // who has it open instead; "" for no one
}

// Open reads a bench file as [Load] does, and keeps a copy of it in a folder of this
// computer: the last good version, for the day on which someone breaks the file by hand. The error
// of a broken file names the copy. With "" for the folder there is no copy.
func Open(file, dir string) (*Bench, error) {
	b, err := Load(file)
	copied := goodCopy(file, dir)
	if err != nil {
		if _, there := os.Stat(copied); copied != "" && there == nil && !errors.Is(err, os.ErrNotExist) {
			err = fmt.Errorf("%w\nThe last good version is kept as %s: fix the file, or copy that one over it", err,
				copied)
		}
		return b, err
	}
	if copied != "" && os.MkdirAll(dir, 0o700) == nil {
		b.state.goodCopy = copied
		// a copy for hard times; without it the bench is as good
		_ = wholefile.Write(copied, b.state.text, wholefile.Private)
	}
	return b, nil
}

// Kept has a new bench keep copies as one that was opened does.
func (b *Bench) Kept(dir string) {
	if dir != "" && b.file != "" && os.MkdirAll(dir, 0o700) == nil {
		b.state.goodCopy = goodCopy(b.file, dir)
	}
}

// tag names a bench in a folder for many.
func tag(file string) string {
	if abs, err := filepath.Abs(file); err == nil {
		file = abs
	}
	if real, err := filepath.EvalSymlinks(file); err == nil {
		file = real
	}
	sum := sha256.Sum256([]byte(file))
	return strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)) + "-" + hex.EncodeToString(sum[:6])
}

func goodCopy(file, dir string) string {
	if dir == "" || file == "" {
		return ""
	}
	return filepath.Join(dir, tag(file)+".toml")
}

// Hold opens the bench for changes: only one Polytome at a time can. Where another one has it open,
// the bench can be read and not saved; see [Bench.ReadOnly]. What is held is let go at the end of the
// process, however it ends.
func (b *Bench) Hold(dir string) error {
	if b.file == "" || dir == "" {
		return nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("opening the bench for changes: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(dir, tag(b.file)+".lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("opening the bench for changes: %w", err)
	}
	h := &holder{lock: f}
	taken, err := lockfile.Take(f)
	if err != nil {
		_ = f.Close()
		return fmt.Errorf("opening the bench for changes: %w", err)
	}
	if taken {
		who := make([]byte, 64)
		n, _ := f.ReadAt(who, 0)
		h.other = strings.TrimSpace(string(who[:n]))
		if h.other == "" {
			h.other = "another process"
		}
		_ = f.Close()
		h.lock = nil
	} else {
		_ = f.Truncate(0)
		_, _ = fmt.Fprintf(f, "process %d\n", os.Getpid())
	}
	b.state.mu.Lock()
	b.state.holder = h
	b.state.mu.Unlock()
	return nil
}

// ReadOnly tells who else has the bench open, "" for no one.
func (b *Bench) ReadOnly() string {
	if b.state == nil || b.state.holder == nil {
		return ""
	}
	return b.state.holder.other
}

// Release lets others open the bench for changes.
func (b *Bench) Release() {
	if b.state == nil || b.state.holder == nil || b.state.holder.lock == nil {
		return
	}
	_ = b.state.holder.lock.Close()
	b.state.holder = nil
}
