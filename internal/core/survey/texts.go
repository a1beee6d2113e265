package survey

import (
	"context"
	"fmt"
	"io"
	"strings"

	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/plan"
	"polytome/internal/core/scancache"
	"polytome/internal/core/settings"
	"polytome/internal/core/shape"
	"polytome/internal/target"
)

// largestText is how many bytes a file has at most that is read whole for its text.
const largestText = 4 << 20

// A textReader reads small files of the target, which it opens when it is needed.
type textReader struct {
	s *Survey
	p target.Target
}

func (r *textReader) close() {
	if r.p != nil {
		_ = r.p.Close()
	}
}

// read reads a file; ok is false for one that is not there, is too long, or cannot be read.
func (r *textReader) read(ctx context.Context, path string) (text string, as target.Entry, ok bool) {
	e, there := r.s.Sheet.At(path)
	if !there || e.Folder || e.Size > largestText {
		return "", e, false
	}
	if r.p == nil {
		var err error
		if r.p, err = r.s.Open(ctx); err != nil {
			return "", e, false
		}
	}
	c, err := r.p.Open(ctx, e.Path)
	if err != nil {
		return "", e, false
	}
	defer c.Close()
	b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	return string(b), e, err == nil
}

// readTexts reads the files on the target in which titles are listed, to see whether they say what they shall, and
// merges those that were written before, and shall say something else now, with what a person made of them.
func (s *Survey) readTexts(ctx context.Context) {
	s.texts, s.updates, s.Conflicts = map[string]string{}, nil, map[string]string{}
	r := &textReader{s: s}
	defer r.close()
	for _, l := range s.Sheet.Loaders() {
		for _, list := range l.Tree.ListLines() {
			if text, e, ok := r.read(ctx, list.Path); ok {
				s.texts[e.Path] = text
			}
		}
	}
	s.arrangeOthers(ctx, r)
	if len(s.last) == 0 {
		return
	}
	s.readCovers()
	wins := map[string]bool{}
	for _, p := range s.Config.Replace {
		wins[s.Facts.Filesystem.Fold(p)] = true
	}
	s.Sheet.EachText(func(t fit.Text) {
		e, there := s.Sheet.At(t.Path)
		last, known := s.last[e.Path]
		if !there || !known || last == t.Text || ctx.Err() != nil {
			return
		}
		theirs, e, ok := r.read(ctx, t.Path)
		if !ok {
			return
		}
		if t.Bytes && theirs != last { // somebody made something of it
			return
		}
		if t.Bytes {
			s.updates = append(s.updates, plan.Update{Title: t.Title, Path: e.Path, Text: t.Text, Wanted: t.Text,
				Why: t.Why})
			return
		}
		merged, conflicts, err := merge(&t, last, theirs, wins[s.Facts.Filesystem.Fold(e.Path)])
		if err != nil {
			s.Conflicts[e.Path] = fmt.Sprintf("it cannot be merged with the new text: %v; it stays as it is", err)
			return
		}
		if len(conflicts) > 0 && !wins[s.Facts.Filesystem.Fold(e.Path)] {
			var says []string
			for _, c := range conflicts {
				says = append(says, c.Say())
			}
			s.Conflicts[e.Path] = strings.Join(says, "; ") + ". Yours stays; mark it to be replaced to get the new one"
		}
		if merged != theirs {
			wanted := t.Text
			if s.Conflicts[e.Path] != "" {
				wanted = ""
			}
			s.updates = append(s.updates, plan.Update{Title: t.Title, Path: e.Path, Text: merged, Wanted: wanted,
				Why: t.Why + "; your changes in it are kept"})
		}
	})
}

// merge brings what is newly wanted into a text that somebody has made something of, in its encoding.
func merge(t *fit.Text, last, theirs string, win bool) (merged string, conflicts []settings.Conflict, err error) {
	plain := func(text string) string { return layout.Decoded(t.Encoding, text) }
	merged, conflicts, err = settings.Merge(plain(last), plain(theirs), plain(t.Text), settings.Syntax(t.Syntax), win)
	if err == nil && len(conflicts) == 0 && t.Syntax != "" {
		merged, err = settings.Keep(merged, plain(theirs), plain(last), settings.Syntax(t.Syntax), t.Keep, t.LockedBy)
	}
	if err != nil || merged == plain(theirs) {
		return theirs, conflicts, err
	}
	return string(layout.Encoded(t.Encoding, []byte(merged))), conflicts, nil
}

// readCovers finds the pictures that a run has made, and that come from another source now, or are wanted otherwise.
// What someone put there by hand stays.
func (s *Survey) readCovers() {
	s.Sheet.EachCover(func(i int, why string, make func() *shape.Spec, there target.Entry) {
		made, known := s.last[there.Path]
		if !known {
			return
		}
		if spec := make(); shape.Remade(made, spec, there.Size) {
			s.updates = append(s.updates, plan.Update{Title: i, Path: there.Path, Make: spec, Why: why +
				"; its picture or the rule for it has changed"})
		}
	})
}

// remembered are the texts that were last written to the target.
func (s *Survey) remembered(cache *scancache.Store) {
	if cache != nil {
		s.last, _ = cache.Written(s.memory())
	}
}

// Wrote remembers which texts a run has written, so that what a person makes of them can be distinguished from what a
// rule wants otherwise later. Where it cannot be remembered, such texts are left alone.
func (s *Survey) Wrote(cache *scancache.Store, texts map[string]string) {
	if cache != nil {
		_ = cache.PutWritten(s.memory(), texts)
	}
}
