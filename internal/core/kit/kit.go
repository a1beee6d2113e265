// Package kit finds a loader's own files, and the console's, where a person has them: in a folder, in the archives in
// which they were downloaded, or in one such archive.
package kit

import (
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/source"
	"polytome/internal/core/title"
	"polytome/internal/format/sums"
	"polytome/internal/target"
)

// A File is one that goes to the target.
type File struct {
	From title.File
	To   string
}

// A Search is what is looked for.
type Search struct {
	Profile  *loader.Profile
	Here     loader.Here
	Editions []string // those that were chosen, by their names
}

// A Found is what there is of it.
type Found struct {
	Files []File
	// Lacks are files of the kit that are not there, and that the loader needs.
	Lacks []*loader.KitFile
	// Notes are what is to be known, in sentences: archives that cannot be read, files of which it is not sure.
	Notes []string
}

// Find looks in a folder or an archive for all that is wanted.
func (s *Search) Find(at string) (*Found, error) {
	all, notes, err := read(at)
	if err != nil {
		return nil, err
	}
	out := &Found{Notes: notes}
	for i := range s.Profile.Kit.Files {
		f := &s.Profile.Kit.Files[i]
		if !s.Profile.Kit.Chosen(f, s.Editions) || !s.Here.Needs(f) {
			continue
		}
		found := all.matching(f.From)
		if len(found) == 0 && !f.Optional && f.Text == "" && len(f.From) > 0 {
			out.Lacks = append(out.Lacks, f)
		}
		for _, from := range found {
			out.Files = append(out.Files, File{from.file, path.Join(f.To, from.inside)})
		}
	}
	o := &source.Opener{}
	for i := range s.Profile.SystemImages {
		image := &s.Profile.SystemImages[i]
		file, sure := all.image(o, image)
		if file == nil {
			continue
		}
		out.Files = append(out.Files, File{*file, image.To})
		if !sure {
			out.Notes = append(out.Notes, fmt.Sprintf("%s may be %s, but it is not sure: %s.", file.Called(),
				image.Shown,
				image.Unsure()))
		}
	}
	return out, errors.Join(o.Close())
}

// image finds a file of the console's by its content.
func (all places) image(o *source.Opener, image *loader.SystemImage) (found *title.File, sure bool) {
	var unsure []*title.File
	for p := range all {
		for i := range all[p].files {
			f := &all[p].files[i]
			if f.hidden() || !image.MayBe(path.Base(f.rel), f.file.Size) {
				continue
			}
			c, err := o.Open(&f.file)
			if err != nil {
				continue
			}
			fits, certain, err := Is(image, c)
			_ = c.Close()
			if err == nil && fits && certain {
				return &f.file, true
			}
			if err == nil && fits {
				unsure = append(unsure, &f.file)
			}
		}
	}
	if len(unsure) == 1 { // of several nobody knows which
		return unsure[0], false
	}
	return nil, false
}

// Is reports whether a file is a system image, and whether that is sure: where a checksum is known.
func Is(image *loader.SystemImage, c target.Content) (fits, sure bool, err error) {
	if !image.Sized(c.Size()) {
		return false, false, nil
	}
	if lead := image.Lead(); len(lead) > 0 {
		at := image.Offset
		if at < 0 {
			at += c.Size()
		}
		b := make([]byte, len(lead))
		if at < 0 || at+int64(len(b)) > c.Size() {
			return false, false, nil
		}
		if _, err := c.ReadAt(b, at); err != nil && !errors.Is(err, io.EOF) {
			return false, false, err
		}
		if !lead.Fit(b) {
			return false, false, nil
		}
	}
	if len(image.Sums) == 0 {
		return true, false, nil
	}
	var want []sums.Algorithm
	for _, sum := range image.Sums {
		if a := sums.Of(sum); !slices.Contains(want, a) {
			want = append(want, a)
		}
	}
	h := sums.NewHasher(want...)
	if _, err := io.Copy(h, io.NewSectionReader(c, 0, c.Size())); err != nil {
		return false, false, err
	}
	return slices.ContainsFunc(image.Sums, h.Has), true, nil
}

// Editions reads the names of editions that stand in front of something a person wrote, and returns the rest.
func Editions(k *loader.Kit, text string) (chosen []string, rest string) {
	for {
		word, after, more := strings.Cut(strings.TrimLeft(text, " "), " ")
		if !more || !slices.ContainsFunc(k.Editions, func(e loader.Edition) bool { return e.Name == word }) {
			return chosen, text
		}
		chosen, text = append(chosen, word), strings.TrimLeft(after, " ")
	}
}
