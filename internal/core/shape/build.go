package shape

import (
	"context"
	"errors"
	"io"
	"path"
	"strings"
	"time"

	"polytome/internal/core/title"
	"polytome/internal/format/fstree"
	"polytome/internal/format/iso9660"
	"polytome/internal/target"
)

// build is an image made of a folder: ISO 9660 with whole names, and UDF beside it.
var build = Kind{
	Name: Build, Word: "build", From: title.Folder,
	Rule:     "folders are built into an image",
	Reported: "made of the folder %s",
	Says:     func(l, form string) string { return l + " reads images, and the " + form + " is built into one" },
	Open: func(_ context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		im, err := layImage(s, w)
		if err != nil {
			return nil, &SourceError{s.Source.Called(), err}
		}
		return window(im.Reader(), s)
	},
}

// BuildOf is the image of a folder with these files. Its size is exact, unless there are no such images.
func BuildOf(folder title.File, parts []title.Part, label string) Spec {
	s := Spec{Shape: Build, Source: folder, With: &With{Parts: parts, Label: label, UDF: true}}
	if im, err := layImage(&s, nil); err == nil {
		s.Size = im.Size()
	}
	return s
}

func layImage(s *Spec, w SourceOpener) (*iso9660.Image, error) {
	root := &fstree.Node{}
	t := &listing{w: w, kids: map[*fstree.Node][]*fstree.Node{}}
	var newest time.Time
	dirs := map[string]*fstree.Node{".": root}
	for i := range s.With.Parts {
		p := &s.With.Parts[i]
		n := &fstree.Node{Name: path.Base(p.Name), Size: p.File.Size, Modified: p.File.Modified, Data: &p.File}
		if newest.Before(n.Modified) {
			newest = n.Modified
		}
		above := t.folder(dirs, path.Dir(p.Name))
		t.kids[above] = append(t.kids[above], n)
	}
	label := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' {
			return r
		}
		return '_'
	}, s.With.Label)
	for _, d := range dirs {
		d.Modified = newest
	}
	return iso9660.Lay(fstree.New(root, t), iso9660.Options{VolumeID: label[:min(len(label), 32)], Created: newest,
		Joliet: true, RockRidge: true, UDF: s.With.UDF})
}

// listing is the files of a folder as a tree, whose bytes come from sources.
type listing struct {
	w    SourceOpener
	kids map[*fstree.Node][]*fstree.Node
}

// folder is the node of a folder, made with those above it where there is none.
func (l *listing) folder(dirs map[string]*fstree.Node, name string) *fstree.Node {
	if n := dirs[name]; n != nil {
		return n
	}
	n := &fstree.Node{Name: path.Base(name), Dir: true}
	dirs[name] = n
	above := l.folder(dirs, path.Dir(name))
	l.kids[above] = append(l.kids[above], n)
	return n
}

// List is what is in a folder.
func (l *listing) List(dir *fstree.Node) ([]*fstree.Node, error) { return l.kids[dir], nil }

// Content opens a file.
func (l *listing) Content(file *fstree.Node) (io.ReaderAt, error) {
	if l.w == nil {
		return nil, errors.ErrUnsupported
	}
	return l.w.Open(file.Data.(*title.File))
}
