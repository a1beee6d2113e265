package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"sync"
	"sync/atomic"

	"github.com/zeebo/xxh3"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
	"polytome/internal/core/source"
	"polytome/internal/target"
)

// What several lanes write is read and brought into its shape once: whoever is first reads a block, and the others get
// it from memory. Nobody waits for a slower one: what is behind by more than a window reads by itself.

// window is how many bytes are kept at most for lanes that have not written them yet. Tests make it smaller.
var window int64 = 128 << 20

// sharing is what the lanes that go on now want to write. Lanes come and go on their own, so it is guarded by a lock;
// no other one is taken while it is held.
var sharing = struct {
	mu      sync.Mutex
	wanted  map[uint64]int     // lanes that still want a file, by what it is made of
	common  map[uint64]*common // those files that several have wanted, as long as somebody does
	springs map[string]*spring // what they are made of, by its path
	order   []*common          // those that keep something, the oldest first
	bytes   atomic.Int64       // that are kept
}{wanted: map[uint64]int{}, common: map[uint64]*common{}, springs: map[string]*spring{}}

// A spring opens what is made of one source, one file after another, as archives and streams are best read. Its lock
// also guards the files.
type spring struct {
	mu     sync.Mutex
	opener source.Opener
	files  int // of those that several lanes want; guarded by the lock of sharing
}

// common is one file that several lanes write.
type common struct {
	*spring
	path   string
	spec   *shape.Spec  // what it is made of
	wanted atomic.Int32 // lanes that still want it
	listed bool         // in the order; guarded by the lock of sharing

	// guarded by the lock of the spring
	opened  bool
	content target.Content // nil before it was opened, and after it was read
	size    int64
	atMost  bool // the size is not known yet
	inOrder bool
	err     error // why nobody has to write it
	head    int64 // up to where it was read
	blocks  map[int64]*waiting
	queue   []int64            // the blocks, the oldest first
	data    map[int64][2]int64 // where there is data, as far as somebody asked
}

// waiting is a block that some lanes have not got yet.
type waiting struct {
	data  []byte
	ended bool // nothing comes behind it
	lanes int32
}

// wantedBy enters the files of a plan, and returns by what each is known; 0 for one that cannot be shared.
func wantedBy(p *plan.Plan) []uint64 {
	keys := make([]uint64, len(p.Steps))
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Writes() && shares(s.Make) {
			keys[i] = madeOf(s.Make)
		}
	}
	sharing.mu.Lock()
	defer sharing.mu.Unlock()
	for _, k := range keys {
		if k != 0 {
			sharing.wanted[k]++
			if c := sharing.common[k]; c != nil {
				c.wanted.Add(1)
			}
		}
	}
	return keys
}

// shares reports whether a file is worth being made once for several lanes. Sums of large files take long before there
// is a byte of the text that has them, and nobody may wait for another lane to do that.
func shares(s *shape.Spec) bool {
	return s != nil && !s.OnTarget() && len(s.Sums) == 0 && len(s.Reads()) > 0
}

// madeOf is a number for what a file is made of and how.
func madeOf(s *shape.Spec) uint64 {
	h := xxh3.New()
	f := &s.Source
	fmt.Fprintf(h, "%s\x00%s\x00%s\x00%d\x00%d\x00%d\x00%s", s.Shape, f.Path, f.Entry, f.Modified.UnixNano(), s.Offset,
		s.Size, s.Text)
	if s.With != nil {
		text, err := json.Marshal(s)
		if err != nil {
			return 0
		}
		_, _ = h.Write(text)
	}
	return max(1, h.Sum64())
}

// unwanted says that the lane has done with the file of a step, also where it could not be written.
func (l *Lane) unwanted(i int) {
	key := atomic.SwapUint64(&l.wants[i], 0)
	if key == 0 {
		return
	}
	sharing.mu.Lock()
	var over *common
	var dry *spring
	c := sharing.common[key]
	if c != nil {
		c.wanted.Add(-1)
	}
	if sharing.wanted[key]--; sharing.wanted[key] <= 0 {
		delete(sharing.wanted, key)
		if c != nil {
			delete(sharing.common, key)
			unlist(c)
			over = c
			if c.files--; c.files == 0 {
				delete(sharing.springs, c.path)
				dry = c.spring
			}
		}
	}
	sharing.mu.Unlock()
	if over != nil {
		over.drop()
	}
	if dry != nil {
		dry.mu.Lock()
		_ = dry.opener.Close()
		dry.mu.Unlock()
	}
}

// drop lets go of what is kept.
func (c *common) drop() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.close()
	for len(c.queue) > 0 {
		c.forget(c.queue[0])
	}
	c.data = nil
}

func (c *common) close() {
	if c.content != nil {
		_ = c.content.Close()
	}
	c.content = nil
}

// shared opens a file of a step; one that another lane wants too is read together with that.
func (l *Lane) shared(ctx context.Context, i int, opener *source.Opener) (target.Content, error) {
	spec := l.job.Plan.Steps[i].Make
	alone := func() (target.Content, error) { return opener.Make(ctx, spec) }
	c := l.commonOf(i)
	if c == nil {
		return alone()
	}
	if err := source.Unchanged(spec); err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.err == nil && !c.opened {
		content, err := c.opener.Make(ctx, spec)
		switch {
		case errors.Is(err, shape.ErrNotNeeded):
			c.err = err
		case err != nil:
			return nil, err
		default:
			c.opened, c.content, c.size = true, content, content.Size()
			c.atMost = atMost(content)
			o, ok := content.(interface{ InOrder() bool })
			c.inOrder = c.atMost || ok && o.InOrder()
		}
	}
	if c.err != nil {
		return nil, c.err
	}
	return &lot{c: c, size: c.size, most: c.atMost, alone: alone}, nil
}

// commonOf is the file of a step as one that several lanes want; nil where this one alone does.
func (l *Lane) commonOf(i int) *common {
	key := atomic.LoadUint64(&l.wants[i])
	if key == 0 {
		return nil
	}
	sharing.mu.Lock()
	defer sharing.mu.Unlock()
	c, spec := sharing.common[key], l.job.Plan.Steps[i].Make
	switch {
	case c == nil && sharing.wanted[key] < 2, c != nil && !reflect.DeepEqual(c.spec, spec): // two with one number
		return nil
	case c != nil:
		return c
	}
	path := spec.Reads()[0]
	s := sharing.springs[path]
	if s == nil {
		s = &spring{opener: source.Opener{Passwords: l.job.Passwords, Allowed: l.job.Allowed}}
		sharing.springs[path] = s
	}
	s.files++
	c = &common{spring: s, path: path, spec: spec, blocks: map[int64]*waiting{},
		data: map[int64][2]int64{}}
	c.wanted.Store(int32(sharing.wanted[key]))
	sharing.common[key] = c
	return c
}

// atMost reports whether the size of content is not known yet.
func atMost(c target.Content) bool {
	a, ok := c.(interface{ AtMost() bool })
	return ok && a.AtMost()
}

// lot is what one lane has of a common file. It is read block by block, from its beginning.
type lot struct {
	c     *common
	size  int64
	most  bool // the size is the most that it can be
	alone func() (target.Content, error)

	own target.Content // where the lane reads by itself; nil where it does not
	at  int64          // up to where that was read
}

// Size is the most that the file can have until its end was read.
func (l *lot) Size() int64 { return l.size }

// AtMost reports whether the size is not known yet.
func (l *lot) AtMost() bool { return l.most }

func (l *lot) Close() error {
	if l.own == nil {
		return nil
	}
	return l.own.Close()
}

// Data is where the file has data.
func (l *lot) Data(off int64) (start, end int64) {
	c := l.c
	c.mu.Lock()
	known, ok := c.data[off]
	if !ok && c.content != nil {
		start, end := c.content.Data(off)
		known, ok = [2]int64{start, end}, true
		c.data[off] = known
	}
	c.mu.Unlock()
	if ok {
		return min(known[0], l.size), min(known[1], l.size)
	}
	if err := l.open(); err != nil {
		return min(off, l.size), l.size // reading says why it cannot be had
	}
	start, end = l.own.Data(off)
	return min(start, l.size), min(end, l.size)
}

func (l *lot) ReadAt(b []byte, off int64) (int, error) {
	n, err, ok := l.c.read(b, off)
	if !ok {
		n, err = l.read(b, off)
	} else {
		l.c.limit()
	}
	if l.most && errors.Is(err, io.EOF) {
		l.size, l.most = off+int64(n), false
	}
	return n, err
}

// read is a block of the file for one of the lanes; ok is false where that has to read by itself.
func (c *common) read(b []byte, off int64) (n int, err error, ok bool) { //nolint:revive // as ReadAt has them, and more
	c.mu.Lock()
	defer c.mu.Unlock()
	if k := c.blocks[off]; k != nil {
		if k.lanes--; k.lanes <= 0 {
			c.forget(off)
		}
		return answer(b, k.data, k.ended)
	}
	if c.content == nil || off < c.head {
		return 0, nil, false
	}
	n, err = c.content.ReadAt(b, off)
	if err != nil && !errors.Is(err, io.EOF) {
		return 0, nil, false
	}
	c.head = off + int64(n)
	c.keep(off, b[:n], err != nil)
	if err != nil || !c.atMost && c.head >= c.size { // the next file of its source can be opened
		c.close()
	}
	return n, err, true
}

// has reports whether a block is kept.
func (c *common) has(off int64) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.blocks[off] != nil
}

// answer hands a kept block out.
func answer(b, data []byte, ended bool) (n int, err error, ok bool) { //nolint:revive // see read
	if n = copy(b, data); n < len(b) || ended && n == len(data) {
		err = io.EOF
	}
	return n, err, true
}

// keep has a block be there for the lanes that have not got it.
func (c *common) keep(off int64, data []byte, ended bool) {
	lanes := c.wanted.Load() - 1
	if lanes <= 0 {
		return
	}
	c.blocks[off] = &waiting{append([]byte(nil), data...), ended, lanes}
	c.queue = append(c.queue, off)
	sharing.bytes.Add(int64(len(data)))
}

// forget lets go of a block.
func (c *common) forget(off int64) {
	sharing.bytes.Add(-int64(len(c.blocks[off].data)))
	delete(c.blocks, off)
	for len(c.queue) > 0 && c.blocks[c.queue[0]] == nil {
		c.queue = c.queue[1:]
	}
}

// limit lets go of the oldest blocks where more are kept than the window takes.
func (c *common) limit() {
	sharing.mu.Lock()
	if !c.listed {
		c.listed = true
		sharing.order = append(sharing.order, c)
	}
	sharing.mu.Unlock()
	for sharing.bytes.Load() > window {
		sharing.mu.Lock()
		var old *common
		if len(sharing.order) > 0 {
			old = sharing.order[0]
		}
		sharing.mu.Unlock()
		if old == nil {
			return
		}
		old.mu.Lock()
		for len(old.queue) > 0 && sharing.bytes.Load() > window {
			old.forget(old.queue[0])
		}
		empty := len(old.queue) == 0
		old.mu.Unlock()
		if empty {
			sharing.mu.Lock()
			unlist(old)
			sharing.mu.Unlock()
		}
	}
}

// unlist takes a file out of the order, which is locked.
func unlist(c *common) {
	if i := slices.Index(sharing.order, c); i >= 0 {
		sharing.order = slices.Delete(sharing.order, i, i+1)
	}
	c.listed = false
}

// open opens the file for this lane alone.
func (l *lot) open() (err error) {
	if l.own == nil {
		l.own, err = l.alone()
	}
	return err
}

// read reads a block by itself.
func (l *lot) read(b []byte, off int64) (int, error) {
	if err := l.open(); err != nil {
		return 0, err
	}
	for l.c.inOrder && l.at < off { // what the lane has got from others already
		skipped := make([]byte, min(blockSize, off-l.at))
		n, err := l.own.ReadAt(skipped, l.at)
		if l.at += int64(n); err != nil {
			return 0, err
		}
	}
	n, err := l.own.ReadAt(b, off)
	l.at = off + int64(n)
	return n, err
}
