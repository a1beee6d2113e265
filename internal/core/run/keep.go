package run

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode"

	"polytome/internal/core/plan"
	"polytome/internal/plainfile"
	"polytome/internal/target"
	"polytome/internal/target/folder"
)

// KeptList is the file beside copies of what went, with a line of JSON for each.
const KeptList = "kept.jsonl"

// keptFiles is the folder below it with the copies.
const keptFiles = "files"

// A Kept is a file of a target that was copied to this computer before it went.
type Kept struct {
	Path     string    `json:"path"` // on the target
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Sum      string    `json:"sum"` // its fingerprint
}

// A keeper copies files of a target to a folder of this computer.
type keeper struct {
	dir string
	to  *folder.Target
}

func newKeeper(dir string) (*keeper, error) {
	if err := os.MkdirAll(filepath.Join(dir, keptFiles), 0o700); err != nil {
		return nil, fmt.Errorf("making the backup folder: %w", err)
	}
	to, err := folder.Open(filepath.Join(dir, keptFiles), folder.Options{})
	if err != nil {
		return nil, err
	}
	return &keeper{dir, to}, nil
}

// keep copies a file to safety, reads the copy back, and lists it.
func (t *task) keep(ctx context.Context) (string, error) {
	l, s := t.l, t.s
	if l.kept == nil {
		k, err := newKeeper(l.job.Plan.BackupTo)
		if err != nil {
			return "", err
		}
		l.kept = k
	}
	src, err := l.to.Open(ctx, s.Path)
	if err != nil {
		return "", err
	}
	defer src.Close()
	if err := l.kept.to.MakeFolder(ctx, filepath.ToSlash(filepath.Dir(s.Path))); err != nil {
		return "", err
	}
	w, err := l.kept.to.Create(ctx, s.Path, src.Size())
	if err != nil {
		return "", err
	}
	var done int64
	sums, err := eachBlock(ctx, src, nil, func(b block) error {
		if err := writeBlock(b, w); err != nil {
			return err
		}
		done += b.n
		t.progress(Progress, done)
		return l.gate(ctx)
	})
	f := &written{w: w, sums: sums, length: src.Size()}
	if err == nil {
		err = w.Flush()
	}
	if err == nil {
		err = t.check(ctx, f, true)
	}
	if err == nil {
		err = w.Commit()
	}
	if err != nil {
		return "", errors.Join(err, w.Abort())
	}
	sum := sums.Sum().String()
	return sum, l.kept.list(Kept{s.Path, src.Size(), s.Was.Modified.UTC(), sum})
}

// list notes a copy. The line is on the disk before the file on the target goes.
func (k *keeper) list(kept Kept) error {
	line, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(k.dir, KeptList), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("listing the backup: %w", err)
	}
	_, err = f.Write(append(line, '\n'))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("listing the backup: %w", err)
	}
	return nil
}

// What a list of kept files has at most: bytes of all of it, and of one file.
const (
	mostKept     = 256 << 20
	mostKeptFile = 1 << 46
)

// LoadKept reads which files were copied to a folder. A line that an interrupted run left
// unfinished at the end is skipped.
func LoadKept(dir string) ([]Kept, error) {
	file := filepath.Join(dir, KeptList)
	data, err := plainfile.Read(file, mostKept)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%s is not a backup: there is no %s in it", dir, KeptList)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the backup: %w", err)
	}
	var out []Kept
	n, at := 0, map[string]int{}
	for line := range bytes.Lines(data) {
		n++
		var k Kept
		wrong := func(format string, args ...any) error {
			return fmt.Errorf("%s, line %d: %w", file, n, fmt.Errorf(format, args...))
		}
		if err := json.Unmarshal(line, &k); err != nil {
			if !bytes.HasSuffix(line, []byte("\n")) {
				break // a run that was killed did not end it
			}
			return nil, wrong("it cannot be read: %w", err)
		}
		switch {
		case !fs.ValidPath(k.Path) || k.Path == "." || !filepath.IsLocal(filepath.FromSlash(k.Path)):
			return nil, wrong("%q is not a path inside the target", k.Path)
		case strings.ContainsFunc(k.Path, unicode.IsControl):
			return nil, wrong("the path %q has forbidden characters", k.Path)
		case k.Size < 0 || k.Size > mostKeptFile:
			return nil, wrong("%s has the impossible length %d", k.Path, k.Size)
		}
		if was, twice := at[k.Path]; twice { // it went, came back, and went again: what it was last is put back
			out[was] = k
			continue
		}
		at[k.Path] = len(out)
		out = append(out, k)
	}
	return out, nil
}

// Restore plans to put files that were kept back to where they were. What is there under their
// paths is replaced only when over is set, else it stays.
func Restore(ctx context.Context, dir string, to target.Target, over bool) (*plan.Plan, error) {
	kept, err := LoadKept(dir)
	if err != nil {
		return nil, err
	}
	entries, err := to.List(ctx, nil)
	if err != nil {
		return nil, err
	}
	facts, err := to.Facts(ctx, entries)
	if err != nil {
		return nil, err
	}
	var files []plan.Returned
	var notes []string
	for _, k := range kept {
		copied := filepath.Join(dir, keptFiles, filepath.FromSlash(k.Path))
		c, err := folder.OpenFile(copied)
		if err != nil {
			notes = append(notes, fmt.Sprintf("%s cannot be restored: its copy cannot be read: %v", k.Path, err))
			continue
		}
		sum, err := SumOf(ctx, c, func(int64) {})
		_ = c.Close()
		if err != nil || sum.String() != k.Sum {
			notes = append(notes, fmt.Sprintf("%s was not restored: its copy is damaged", k.Path))
			continue
		}
		info, err := os.Stat(copied)
		if err != nil {
			return nil, err
		}
		files = append(files, plan.Returned{Path: k.Path, Copy: copied, Size: k.Size, Modified: info.ModTime()})
	}
	p := plan.Restore(files, facts, entries, over)
	p.Notes = append(notes, p.Notes...)
	return p, nil
}
