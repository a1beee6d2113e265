package run

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"polytome/internal/core/plan"
	"polytome/internal/place"
	"polytome/internal/place/folder"
)

// KeptList is the file beside copies of what went, with a line of JSON for each.
const KeptList = "kept.jsonl"

// keptFiles is the folder below it with the copies.
const keptFiles = "files"

// A Kept is a file of a place that was copied to this computer before it went.
type Kept struct {
	Path     string    `json:"path"` // on the place
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Sum      string    `json:"sum"` // its fingerprint
}

// A keeper copies files of a place to a folder of this computer.
type keeper struct {
	dir string
	to  *folder.Place
}

func newKeeper(dir string) (*keeper, error) {
	if err := os.MkdirAll(filepath.Join(dir, keptFiles), 0o755); err != nil {
		return nil, fmt.Errorf("making the folder for what goes: %w", err)
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
		k, err := newKeeper(l.job.Plan.KeptIn)
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

// list notes a copy. The line is on the disk before the file on the place goes.
func (k *keeper) list(kept Kept) error {
	line, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(k.dir, KeptList), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err != nil {
		return fmt.Errorf("listing what was kept: %w", err)
	}
	_, err = f.Write(append(line, '\n'))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("listing what was kept: %w", err)
	}
	return nil
}

// LoadKept reads which files were copied to a folder. A line that a broken-off run left
// unfinished at the end is passed over.
func LoadKept(dir string) ([]Kept, error) {
	file := filepath.Join(dir, KeptList)
	data, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%s holds nothing that was kept: there is no %s in it", dir, KeptList)
	}
	if err != nil {
		return nil, fmt.Errorf("reading what was kept: %w", err)
	}
	var out []Kept
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, 1<<20)
	for n := 1; lines.Scan(); n++ {
		var k Kept
		if err := json.Unmarshal(lines.Bytes(), &k); err != nil {
			if !bytes.HasSuffix(data, []byte("\n")) && bytes.HasSuffix(data, lines.Bytes()) {
				break
			}
			return nil, fmt.Errorf("%s, line %d: it cannot be read: %w", file, n, err)
		}
		if !filepath.IsLocal(filepath.FromSlash(k.Path)) {
			return nil, fmt.Errorf("%s, line %d: %q leads out of the place", file, n, k.Path)
		}
		out = append(out, k)
	}
	return out, lines.Err()
}

// PutBack plans to put files that were kept back to where they were. What is there under their
// paths is replaced only when over is set, else it stays.
func PutBack(ctx context.Context, dir string, to place.Place, over bool) (*plan.Plan, error) {
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
			notes = append(notes, fmt.Sprintf("%s cannot be put back: its copy cannot be read: %v", k.Path, err))
			continue
		}
		sum, err := SumOf(ctx, c, func(int64) {})
		_ = c.Close()
		if err != nil || sum.String() != k.Sum {
			notes = append(notes, fmt.Sprintf("%s is not put back: its copy is not what was copied", k.Path))
			continue
		}
		info, err := os.Stat(copied)
		if err != nil {
			return nil, err
		}
		files = append(files, plan.Returned{Path: k.Path, Copy: copied, Size: k.Size, Modified: info.ModTime()})
	}
	p := plan.PutBack(files, facts, entries, over)
	p.Notes = append(notes, p.Notes...)
	return p, nil
}
