package slab

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"time"

	"polytome/internal/format/fstree"
	"polytome/internal/format/slab"
	"polytome/internal/target"
)

// Create begins a file.
func (p *Target) Create(ctx context.Context, name string, size int64) (target.Writer, error) {
	if _, _, ok := p.find(name); ok {
		return nil, p.explain("beginning", name, fs.ErrExist)
	}
	if _, is := p.inside(name); is {
		return nil, p.explain("beginning", name, fs.ErrExist)
	}
	return p.begin(ctx, name, size, false)
}

// Replace begins a file that takes the place of another one. A title keeps its settings and its cover.
func (p *Target) Replace(ctx context.Context, name string, size int64) (target.Writer, error) {
	if _, _, ok := p.find(name); !ok {
		return nil, p.explain("beginning", name, fs.ErrNotExist)
	}
	return p.begin(ctx, name, size, true)
}

func (p *Target) begin(ctx context.Context, name string, size int64, over bool) (target.Writer, error) {
	at, d, err := p.ready(ctx, name)
	if err != nil {
		return nil, p.explain("beginning", name, err)
	}
	if at.what == someSettings {
		return &settings{p: p, ctx: ctx, id: at.ID, name: name, over: over}, nil
	}
	how := slab.How{Replace: over, Contiguous: p.opts.Contiguous && at.what == aTitle, Begun: target.TemporaryName(name)}
	var w *slab.Writer
	if at.what == aTitle {
		w, err = d.BeginTitle(at.New, size, how)
	} else {
		w, err = d.BeginFile(at.file, size, time.Time{}, how)
	}
	if err != nil {
		return nil, p.explain("beginning", name, err)
	}
	return &writer{p: p, ctx: ctx, w: w, name: name, place: at}, nil
}

// ready has the disk be written to, and says what a path means, with what a title that is there keeps.
func (p *Target) ready(ctx context.Context, name string) (at place, d *slab.Disk, err error) {
	if at, err = placeOf(name); err != nil {
		return at, nil, err
	}
	if d, err = p.Write(ctx); err != nil || at.what != aTitle {
		return at, d, err
	}
	if old, ok := d.Title(at.ID); ok {
		at.Settings, at.Cover = old.Settings, old.Cover
	}
	for _, f := range d.Files() {
		if at.Cover == "" && strings.EqualFold(coverOf(f.Name), at.ID) {
			at.Cover = f.Name
		}
	}
	return at, d, nil
}

// Resume takes up what an interrupted run has left of a file.
func (p *Target) Resume(ctx context.Context, name string, size int64, over bool) (target.Resumed, error) {
	if _, _, ok := p.find(name); ok && !over {
		return nil, p.explain("resuming", name, fs.ErrExist)
	}
	at, d, err := p.ready(ctx, name)
	if err == nil && at.what == someSettings {
		err = fs.ErrNotExist
	}
	if err != nil {
		return nil, p.explain("resuming", name, err)
	}
	how := slab.How{Replace: over, Contiguous: p.opts.Contiguous && at.what == aTitle, Begun: target.TemporaryName(name)}
	var w *slab.Writer
	if at.what == aTitle {
		w, err = d.ResumeTitle(at.New, size, how)
	} else {
		w, err = d.ResumeFile(at.file, size, time.Time{}, how)
	}
	if err != nil {
		return nil, p.explain("resuming", name, err)
	}
	return &writer{p: p, ctx: ctx, w: w, name: name, place: at}, nil
}

// writer is a title or small file that the disk does not have yet.
type writer struct {
	p     *Target
	ctx   context.Context
	w     *slab.Writer
	name  string
	place place
}

func (w *writer) Write(b []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := w.w.Write(b)
	return n, w.p.explain("writing", w.name, err)
}

func (w *writer) Skip(n int64) error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	return w.p.explain("writing", w.name, w.w.Skip(n))
}

func (w *writer) Flush() error { return w.p.explain("flushing", w.name, w.p.h.Part().Sync()) }

func (w *writer) ReadBack() (target.Content, error) {
	all := w.w.Extents()
	for _, e := range all {
		if err := w.p.h.Part().Drop(e.At, e.Length); err != nil {
			return nil, w.p.explain("reading back", w.name, err)
		}
	}
	return contentOf(io.NewSectionReader(fstree.Extents(w.p.h.Part(), all), 0, w.w.Size())), nil
}

func (w *writer) Date(t time.Time) error {
	w.w.Date(t)
	return nil
}

func (w *writer) Commit() error {
	d := w.p.Disk()
	err := w.w.Commit()
	if id := coverOf(w.place.file); err == nil && id != "" && w.place.what == aFile {
		if t, ok := d.Title(id); ok && !strings.EqualFold(t.Cover, w.place.file) {
			err = d.SetCover(t.ID, w.place.file)
		}
	}
	return w.p.explain("naming", w.name, err)
}

func (w *writer) Abort() error { return w.p.explain("giving up", w.name, w.w.Abort()) }

func (w *writer) Leave() error { return w.p.explain("leaving", w.name, w.w.Leave()) }

func (w *writer) There() int64 { return w.w.There() }

func (w *writer) Keep(n int64) error { return w.p.explain("resuming", w.name, w.w.Keep(w.ctx, n)) }

var _ target.Resumed = (*writer)(nil)

// mostSettings is how many bytes of settings are taken: a record has room for fewer, and says so.
const mostSettings = 64 << 10

// settings is the text of a title's settings, which its record gets.
type settings struct {
	p    *Target
	ctx  context.Context
	id   string
	name string
	over bool
	text bytes.Buffer
	done bool
}

func (s *settings) Write(b []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	if s.text.Len()+len(b) > mostSettings {
		return 0, s.p.explain("writing", s.name, fmt.Errorf("settings have at most %d bytes", slab.MostSettings))
	}
	return s.text.Write(b)
}

func (s *settings) Skip(n int64) error {
	_, err := s.Write(make([]byte, min(n, mostSettings+1)))
	return err
}

func (s *settings) Flush() error { return nil }

func (s *settings) ReadBack() (target.Content, error) {
	return contentOf(io.NewSectionReader(bytes.NewReader(s.text.Bytes()), 0, int64(s.text.Len()))), nil
}

// Date does nothing: settings have the date of their title.
func (s *settings) Date(time.Time) error { return nil }

func (s *settings) Commit() error {
	if s.done {
		return s.p.explain("naming", s.name, errors.New("the file was ended already"))
	}
	d := s.p.Disk()
	t, ok := d.Title(s.id)
	err := fmt.Errorf("there is no title %s that could have settings: %w", s.id, fs.ErrNotExist)
	switch {
	case ok && t.Text != "" && !s.over:
		err = fs.ErrExist
	case ok:
		err = d.SetText(s.id, s.text.String())
	}
	s.done = err == nil
	return s.p.explain("naming", s.name, err)
}

func (s *settings) Abort() error { return nil }
