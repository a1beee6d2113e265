package serve

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/format/virtual"
	"polytome/internal/target"
)

// mostOpen is how many sources are open at once.
const mostOpen = 64

// shelf is the sources of an export. Those that were read last are open.
type shelf struct {
	ctx       context.Context
	passwords []string

	mu   sync.Mutex // guards what follows
	open []*lazy    // the one that was read last is the last
}

// lazy is a source that is opened when somebody reads it.
type lazy struct {
	on   *shelf
	spec *shape.Spec
	size int64
	// alone is set for content that is read from one place at a time.
	alone bool

	mu     sync.RWMutex // guards what follows
	opener *source.Opener
	c      target.Content
}

// mostMade is up to which size a file is made at once whose length is not known before.
const mostMade = 16 << 20

// source is what a step writes; the error says why that cannot be served.
func (s *shelf) source(step *plan.Step) (virtual.Source, error) {
	l := &lazy{on: s, spec: step.Make, size: step.Size,
		alone: step.Make.Shape != shape.Whole || step.Make.Source.Entry != ""}
	if len(step.Make.Sums) > 0 {
		return nil, errors.New("it has checksums of other files in it, which are known when these were copied")
	}
	if !step.Make.AtMost {
		return l, nil
	}
	opener := &source.Opener{Passwords: s.passwords}
	defer opener.Close() // which was read from
	c, err := opener.Make(s.ctx, step.Make)
	if err != nil {
		return nil, err
	}
	defer c.Close() // which was read from
	if grows, is := c.(interface{ AtMost() bool }); !is || !grows.AtMost() {
		l.size = c.Size()
		return l, nil
	}
	if c.Size() > mostMade {
		return nil, errors.New("how long it is will be known only when it was made: copy it")
	}
	b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	return made{bytes.NewReader(b)}, err
}

// made is a small file that was made before.
type made struct{ *bytes.Reader }

func (m made) Size() int64 { return m.Reader.Size() }

// Size is how many bytes it has.
func (l *lazy) Size() int64 { return l.size }

// ReadAt reads. A source that failed is opened again the next time, and so heals when it is back.
func (l *lazy) ReadAt(b []byte, off int64) (int, error) {
	c, done, err := l.take()
	if err != nil {
		return 0, err
	}
	n, err := c.ReadAt(b, off)
	done()
	if n < len(b) && !errors.Is(err, io.EOF) {
		l.close()
	}
	return n, err
}

// take has the content open until done.
func (l *lazy) take() (c target.Content, done func(), err error) {
	for {
		l.mu.RLock()
		if l.c != nil && !l.alone {
			return l.c, l.mu.RUnlock, nil
		}
		l.mu.RUnlock()
		l.mu.Lock()
		if l.c == nil {
			if err := l.begin(); err != nil {
				l.mu.Unlock()
				return nil, nil, err
			}
			c := l.c
			l.mu.Unlock()
			l.on.opened(l) // which may close others
			l.mu.Lock()
			if l.c != c { // it was closed meanwhile
				l.mu.Unlock()
				continue
			}
		}
		if l.alone {
			return l.c, l.mu.Unlock, nil
		}
		l.mu.Unlock()
	}
}

// begin opens the content. The caller holds the lock.
func (l *lazy) begin() error {
	opener := &source.Opener{Passwords: l.on.passwords}
	c, err := opener.Make(l.on.ctx, l.spec)
	if err == nil && c.Size() != l.size {
		err = errors.Join(fmt.Errorf("it has %d bytes now, and had %d", c.Size(), l.size), c.Close())
	}
	if err != nil {
		return errors.Join(err, opener.Close())
	}
	l.opener, l.c = opener, c
	return nil
}

func (l *lazy) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.c != nil {
		_ = errors.Join(l.c.Close(), l.opener.Close()) // which were read from
		l.c, l.opener = nil, nil
	}
}

// opened notes that a source is open, and closes the one that was opened first where there are too many.
func (s *shelf) opened(l *lazy) {
	s.mu.Lock()
	s.open = append(s.open, l)
	var old *lazy
	if len(s.open) > mostOpen {
		old, s.open = s.open[0], s.open[1:]
	}
	s.mu.Unlock()
	if old != nil && old != l {
		old.close()
	}
}

// close closes all.
func (s *shelf) close() {
	s.mu.Lock()
	all := s.open
	s.open = nil
	s.mu.Unlock()
	for _, l := range all {
		l.close()
	}
}
