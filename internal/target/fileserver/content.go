package fileserver

import (
	"context"
	"errors"
	"io"
	"sync"

	"polytome/internal/target"
)

// What is read in order is asked for ahead: so many chunks of such a length are under way at a time. One by one, the
// way there and back would take longer than the bytes.
const (
	readChunk = 1 << 20
	readAhead = 8
)

// chunk is one that was asked for.
type chunk struct {
	at   int64
	data []byte
	err  error
	done chan struct{}
}

// content is a file that is read.
type content struct {
	ctx  context.Context
	stop context.CancelFunc
	p    *Target
	f    File
	name string
	size int64

	mu     sync.Mutex
	next   int64    // the byte behind what was read last
	row    int64    // bytes that were read in order
	ahead  []*chunk // in order, without gaps
	spare  [][]byte
	flying sync.WaitGroup
}

var _ target.Content = (*content)(nil)

func newContent(ctx context.Context, p *Target, f File, name string, size int64) *content {
	ctx, stop := context.WithCancel(ctx)
	return &content{ctx: ctx, stop: stop, p: p, f: f, name: name, size: size}
}

func (c *content) Size() int64 { return c.size }

// Data is all of it: holes are not asked for.
func (c *content) Data(off int64) (start, end int64) { return min(off, c.size), c.size }

// ReadAt reads. What is read in order comes out of chunks that were asked for ahead.
func (c *content) ReadAt(b []byte, off int64) (int, error) {
	if off >= c.size {
		return 0, io.EOF
	}
	want := int(min(int64(len(b)), c.size-off))
	c.mu.Lock()
	defer c.mu.Unlock()
	var n int
	var err error
	if off != c.next {
		c.drop()
		c.row = 0
	}
	if c.window() > 0 {
		n, err = c.inOrder(b[:want], off)
	} else {
		n, err = c.f.ReadAt(b[:want], off)
	}
	c.next = off + int64(n)
	c.row += int64(n)
	if n == want && want < len(b) {
		return n, io.EOF
	}
	if n < want {
		if err == nil || errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF // it has become shorter
		}
		if c.ctx.Err() != nil {
			return n, c.ctx.Err()
		}
		return n, c.p.explain("reading", c.name, err)
	}
	return n, nil
}

// inOrder reads what comes next; mu is held.
func (c *content) inOrder(b []byte, off int64) (n int, err error) {
	for n < len(b) {
		at := off + int64(n)
		for len(c.ahead) > 0 && c.ahead[0].at+int64(len(c.ahead[0].data)) <= at {
			<-c.ahead[0].done
			c.spare = append(c.spare, c.ahead[0].data[:cap(c.ahead[0].data)])
			c.ahead = c.ahead[1:]
		}
		if len(c.ahead) > 0 && c.ahead[0].at > at {
			c.drop()
		}
		c.ask(at)
		first := c.ahead[0]
		<-first.done
		if first.err != nil {
			return n, first.err
		}
		n += copy(b[n:], first.data[at-first.at:])
	}
	return n, nil
}

// window is how many chunks are asked for ahead: none for who looks into the head of a file, and the more, the longer
// it is read in order.
func (c *content) window() int {
	chunks := c.row / readChunk
	if chunks == 0 {
		return 0
	}
	return int(min(readAhead, 1<<min(chunks, 10)))
}

// ask asks for chunks from a byte on, as far as they were not asked for yet.
func (c *content) ask(at int64) {
	if n := len(c.ahead); n > 0 {
		last := c.ahead[n-1]
		at = last.at + int64(len(last.data))
	}
	for len(c.ahead) < max(1, c.window()) && at < c.size {
		k := &chunk{at: at, done: make(chan struct{})}
		length := min(readChunk, c.size-at)
		if n := len(c.spare); n > 0 {
			k.data, c.spare = c.spare[n-1][:length], c.spare[:n-1]
		} else {
			k.data = make([]byte, length, min(readChunk, c.size))
		}
		c.ahead = append(c.ahead, k)
		at += length
		c.flying.Go(func() {
			defer close(k.done)
			if k.err = c.ctx.Err(); k.err != nil {
				return
			}
			n, err := c.f.ReadAt(k.data, k.at)
			if n < len(k.data) {
				if err == nil {
					err = io.ErrUnexpectedEOF
				}
				k.err = err
			}
		})
	}
}

// drop forgets what was asked for; mu is held.
func (c *content) drop() {
	for _, k := range c.ahead {
		<-k.done
	}
	c.ahead = nil
}

// Close closes the file.
func (c *content) Close() error {
	c.stop()
	c.flying.Wait()
	_ = c.f.Close() // of a connection that has interrupted, nothing is left to be closed
	return nil
}
