package source

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/filecopy"
	"polytome/internal/format/virtual"
	"polytome/internal/target"
)

// Recipe is a spec for [Referred]; ok is false where the bytes have to be made once and kept, as they cannot be had at
// any offset, or nobody knows yet how many there are.
func (o *Opener) Recipe(s *shape.Spec) (recipe []byte, ok bool, err error) {
	if s.OnTarget() || s.AtMost || len(s.Sums) > 0 {
		return nil, false, nil
	}
	files := []*title.File{&s.Source}
	if s.With != nil {
		for i := range s.With.Parts {
			files = append(files, &s.With.Parts[i].File)
		}
	}
	for _, f := range files {
		if f.Entry == "" {
			continue
		}
		c, err := o.Open(f)
		if err != nil {
			return nil, false, err
		}
		in, is := c.(interface{ InOrder() bool })
		_ = c.Close() // of which nothing was read
		if is && in.InOrder() {
			return nil, false, nil
		}
	}
	recipe, err = json.Marshal(s)
	return recipe, err == nil, err
}

// mostOpen is how many sources that are referred to are open at once.
const mostOpen = 64

// lazies are the sources that are open. Those that were opened last stay.
var lazies struct {
	sync.Mutex
	open []*lazy // the one that was opened last is the last
}

// Referred is a source that is opened when somebody reads it, by a recipe of [Opener.Recipe].
func Referred(recipe []byte, size int64) (virtual.Source, error) {
	l := &lazy{size: size}
	if err := json.Unmarshal(recipe, &l.spec); err != nil {
		return nil, fmt.Errorf("how a file is made cannot be read: %w", err)
	}
	l.alone = l.spec.Shape != shape.Whole || l.spec.Source.Entry != ""
	return l, nil
}

// lazy is a source that is opened when somebody reads it.
type lazy struct {
	spec shape.Spec
	size int64
	// alone is set for content that is read from one place at a time.
	alone bool
	// looked is when it was looked last whether the source is what it was, in nanoseconds since 1970.
	looked atomic.Int64

	mu  sync.Mutex // guards what follows
	now *ajar      // nil while it is not open
}

// ajar is a source that is open: until it is given up, and the last one who reads it is done. Nobody waits for
// somebody else who is slow.
type ajar struct {
	target.Content
	opener *Opener
	one    sync.Mutex // of content that is read from one place at a time

	// both are guarded by the lock of its lazy
	users int
	gone  bool
}

func (c *ajar) close() { _ = errors.Join(c.Content.Close(), c.opener.Close()) } // which were read from

// Size is how many bytes it has.
func (l *lazy) Size() int64 { return l.size }

// ReadAt reads. A source that failed is opened again the next time, and so heals when it is back.
func (l *lazy) ReadAt(b []byte, off int64) (int, error) {
	if err := l.same(); err != nil {
		return 0, err
	}
	c, done, err := l.take()
	if err != nil {
		return 0, err
	}
	defer done()
	if l.alone {
		c.one.Lock()
		defer c.one.Unlock()
	}
	n, err := c.ReadAt(b, off)
	if n < len(b) && !errors.Is(err, io.EOF) {
		l.close()
	}
	return n, err
}

// Section is a run of bytes that lies in a file of this computer, where all of it does. The file stays open until done.
func (l *lazy) Section(off, n int64) (f *os.File, at int64, done func(), ok bool) {
	if l.alone || l.same() != nil {
		return nil, 0, nil, false
	}
	c, done, err := l.take()
	if err != nil {
		return nil, 0, nil, false
	}
	if s, is := c.Content.(filecopy.Sectioned); is {
		if f, at, most, ok := s.Section(off); ok && most >= n {
			return f, at, done, true
		}
	}
	done()
	return nil, 0, nil, false
}

// lookEvery is for how long a source that is being read is taken for the one that it was.
const lookEvery = time.Second

// same fails once the source is another one than it was: what is read would be half of each.
func (l *lazy) same() error {
	now := time.Now().UnixNano()
	if was := l.looked.Load(); now-was < int64(lookEvery) {
		return nil
	}
	if err := Unchanged(&l.spec); err != nil {
		l.close()
		return err
	}
	l.looked.Store(now)
	return nil
}

// take has the content open until done.
func (l *lazy) take() (c *ajar, done func(), err error) {
	l.mu.Lock()
	fresh := l.now == nil
	if fresh {
		if l.now, err = l.begin(); err != nil {
			l.mu.Unlock()
			return nil, nil, err
		}
	}
	c = l.now
	c.users++
	l.mu.Unlock()
	if fresh {
		opened(l) // which may give others up
	}
	return c, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		if c.users--; c.users == 0 && c.gone {
			c.close()
		}
	}, nil
}

// begin opens the content.
func (l *lazy) begin() (*ajar, error) {
	opener := &Opener{}
	c, err := opener.Make(context.Background(), &l.spec)
	if err == nil && c.Size() != l.size {
		err = errors.Join(fmt.Errorf("it has %d bytes now, and had %d", c.Size(), l.size), c.Close())
	}
	if err != nil {
		return nil, errors.Join(err, opener.Close())
	}
	return &ajar{Content: c, opener: opener}, nil
}

// close gives the content up: it is closed when nobody reads it.
func (l *lazy) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	c := l.now
	l.now = nil
	l.looked.Store(0)
	if c == nil {
		return
	}
	if c.gone = true; c.users == 0 {
		c.close()
	}
}

// opened notes that a source is open, and closes the one that was opened first where there are too many.
func opened(l *lazy) {
	lazies.Lock()
	lazies.open = append(lazies.open, l)
	var old *lazy
	if len(lazies.open) > mostOpen {
		old, lazies.open = lazies.open[0], lazies.open[1:]
	}
	lazies.Unlock()
	if old != nil && old != l {
		old.close()
	}
}

// CloseReferred closes the sources that are open; those that are read again are opened again.
func CloseReferred() {
	lazies.Lock()
	all := lazies.open
	lazies.open = nil
	lazies.Unlock()
	for _, l := range all {
		l.close()
	}
}
