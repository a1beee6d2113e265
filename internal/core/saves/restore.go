package saves

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"polytome/internal/target"
)

// Restored is what became of putting a version back.
type Restored struct {
	Written int `json:"written"` // files
	Same    int `json:"same"`    // files that were there as they are
	Removed int `json:"removed"` // files of a folder that the version does not have
	// Before is the version that was on the target, which was kept; nil for none.
	Before *Version `json:"before,omitempty"`
}

// Restore puts a version on a target, to a path there ("" for its own). What is there now is kept first; where that
// fails, nothing is written. Every file is written beside the one that it replaces, read back, and then put in its
// place.
func (v Vault) Restore(ctx context.Context, p Place, x *Version, to string) (r Restored, err error) {
	if to == "" {
		to = x.Path
	}
	if c, ok := p.Target.(target.Claimer); ok {
		release, err := c.Claim()
		if err != nil {
			return r, err
		}
		defer release()
	}
	now, err := at(ctx, p.Target, x, to)
	if err != nil {
		return r, err
	}
	if now != nil {
		kept, _, err := v.Keep(ctx, p, []Save{*now})
		if err != nil {
			return r, fmt.Errorf("nothing was written, as what is there could not be kept: %w", err)
		}
		r.Before = &kept[0]
	}
	has := map[string]bool{}
	for _, f := range x.Files {
		has[f.Path] = true
		name := path.Join(to, f.Path)
		if r.Before != nil && held(r.Before, f) {
			r.Same++
			continue
		}
		if err := v.put(ctx, p.Target, name, f); err != nil {
			return r, fmt.Errorf("writing the save %s: %w", name, err)
		}
		r.Written++
	}
	if now != nil {
		for _, f := range now.Files { // all of them are in the vault
			if !has[f.Path] {
				if err := p.Target.Remove(ctx, path.Join(to, f.Path)); err != nil {
					return r, err
				}
				r.Removed++
			}
		}
	}
	put := *x
	put.Path = to
	return r, v.Put(ctx, p, []Version{put})
}

// held reports whether a version has a file as it is.
func held(x *Version, f File) bool {
	for _, g := range x.Files {
		if g.Path == f.Path {
			return g.SHA256 == f.SHA256
		}
	}
	return false
}

// at is the save that is on a target at a path now; nil for none.
func at(ctx context.Context, t target.Target, x *Version, to string) (*Save, error) {
	s := &Save{Loader: x.Loader, Of: x.Of, Shared: x.Shared, Path: to, Folder: x.Folder}
	if !x.Folder {
		e, err := t.Stat(ctx, to)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		s.Files = []File{{Size: e.Size, Modified: e.Modified}}
		return s, nil
	}
	var bad error
	all, err := t.List(ctx, func(path string, err error) { bad = errors.Join(bad, fmt.Errorf("%s: %w", path, err)) })
	if err = errors.Join(err, bad); err != nil {
		return nil, err
	}
	for i := range all {
		if all[i].Folder && strings.EqualFold(all[i].Path, to) {
			if s.Files = filesOf(&all[i], all); len(s.Files) > 0 {
				s.Path = all[i].Path
				return s, nil
			}
		}
	}
	return nil, nil
}

// put writes one file of a version.
func (v Vault) put(ctx context.Context, t target.Target, name string, f File) error {
	in, err := v.open(f)
	if err != nil {
		return err
	}
	defer in.Close() // which was read from
	return write(ctx, t, name, in, f)
}

// Write writes a small file to a target, in place of what is there: beside it, read back, and then put in its place.
func Write(ctx context.Context, t target.Target, name string, data []byte) error {
	if c, ok := t.(target.Claimer); ok {
		release, err := c.Claim()
		if err != nil {
			return err
		}
		defer release()
	}
	sum := sha256.Sum256(data)
	return write(ctx, t, name, bytes.NewReader(data), File{Size: int64(len(data)), SHA256: hex.EncodeToString(sum[:]),
		Modified: time.Now()})
}

// write writes what a file has.
func write(ctx context.Context, t target.Target, name string, in io.Reader, f File) (err error) {
	if dir := path.Dir(name); dir != "." {
		if err := t.MakeFolder(ctx, dir); err != nil {
			return err
		}
	}
	begin := t.Create
	if _, err := t.Stat(ctx, name); err == nil {
		begin = t.Replace
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	w, err := begin(ctx, name, f.Size)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, w.Abort())
		}
	}()
	if _, err := io.Copy(w, in); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	back, err := w.ReadBack()
	if err != nil {
		return err
	}
	h := sha256.New()
	_, err = io.Copy(h, io.NewSectionReader(back, 0, back.Size()))
	if err = errors.Join(err, back.Close()); err != nil {
		return err
	}
	if hex.EncodeToString(h.Sum(nil)) != f.SHA256 {
		return errors.New("it reads back otherwise than it was written")
	}
	if err := w.Date(f.Modified); err != nil {
		return err
	}
	return w.Commit()
}
