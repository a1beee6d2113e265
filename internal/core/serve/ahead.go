package serve

import (
	"io"
	"slices"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"polytome/internal/format/virtual"
)

// What is read ahead. A stream is somebody who reads on where they stopped; what it wants next is read before it asks
// where reading takes long: fast disks need no help, and a copy more would only cost time.
const (
	aheadBlock   = 256 << 10 // bytes that are read at once
	aheadBlocks  = 256       // that are kept: 64 MiB
	aheadStreams = 32        // that are followed
	aheadFar     = 8         // blocks before a stream, at most
	aheadWorkers = 4
	aheadSlow    = 2 * time.Millisecond // that a read takes where reading ahead helps
	aheadGap     = 128 << 10            // bytes that a stream may leave out
)

// ahead is a volume of which streams are read ahead.
type ahead struct {
	v      *virtual.Volume
	blocks *lru.Cache[block, *fetched]
	work   chan *fetched
	all    sync.WaitGroup

	mu      sync.Mutex // guards what follows
	streams []stream   // the one that was read last is the last
	closed  bool
}

// block is one of the volume as it was at one time: what was read before a change is not used behind it.
type block struct {
	number     int64
	generation int64
}

// fetched is a block that is being read, or was.
type fetched struct {
	block
	done chan struct{} // closed when it was read
	b    []byte
	err  error
}

// stream is somebody who reads on.
type stream struct {
	next int64 // the byte behind what was read
	run  int64 // bytes that were read one behind the other
	slow bool  // a read took long
}

func newAhead(v *virtual.Volume) *ahead {
	blocks, _ := lru.New[block, *fetched](aheadBlocks) // it fails for no blocks only
	a := &ahead{v: v, blocks: blocks, work: make(chan *fetched, aheadBlocks)}
	for range aheadWorkers {
		a.all.Go(func() {
			for f := range a.work {
				f.b = make([]byte, aheadBlock)
				n, err := v.ReadAt(f.b, f.number*aheadBlock)
				if err == io.EOF { // the end of the volume
					err = nil
				}
				f.b, f.err = f.b[:n], err
				close(f.done)
			}
		})
	}
	return a
}

func (a *ahead) close() {
	a.mu.Lock()
	a.closed = true
	close(a.work)
	a.mu.Unlock()
	a.all.Wait()
}

// ReadAt reads what was read ahead, and else the volume.
func (a *ahead) ReadAt(b []byte, off int64) (int, error) {
	generation := a.v.Generation()
	done := a.cached(b, off, generation)
	took := time.Duration(0)
	var err error
	if done < len(b) {
		var n int
		begun := time.Now()
		n, err = a.v.ReadAt(b[done:], off+int64(done))
		took = time.Since(begun)
		done += n
	}
	if err == nil {
		a.follow(off, int64(done), took, generation)
	}
	return done, err
}

// cached copies what was read ahead of the beginning of a read, waiting for what is being read.
func (a *ahead) cached(b []byte, off, generation int64) (done int) {
	for done < len(b) {
		at := off + int64(done)
		f, ok := a.blocks.Get(block{at / aheadBlock, generation})
		if !ok {
			break
		}
		<-f.done
		if from := at % aheadBlock; f.err == nil && from < int64(len(f.b)) {
			done += copy(b[done:], f.b[from:])
			continue
		}
		a.blocks.Remove(f.block) // it is tried again by whoever reads it
		break
	}
	return done
}

// follow notes what was read, and has read what comes next where that helps.
func (a *ahead) follow(off, n int64, took time.Duration, generation int64) {
	end := a.v.End(off) // nothing beyond the game is read: another one may be away
	if end == off {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	s := stream{}
	i := slices.IndexFunc(a.streams, func(s stream) bool { return s.next <= off && off-s.next <= aheadGap })
	if i >= 0 {
		s = a.streams[i]
		a.streams = slices.Delete(a.streams, i, i+1)
	} else if len(a.streams) >= aheadStreams {
		a.streams = slices.Delete(a.streams, 0, 1)
	}
	s.next, s.run, s.slow = off+n, s.run+n, s.slow || took > aheadSlow
	a.streams = append(a.streams, s)
	if a.closed || !s.slow || s.run <= n { // the first read of one tells nothing
		return
	}
	far := min(aheadFar, 1+s.run/aheadBlock)
	for k := s.next / aheadBlock; k <= s.next/aheadBlock+far && k*aheadBlock < end; k++ {
		f := &fetched{block: block{k, generation}, done: make(chan struct{})}
		if a.blocks.Contains(f.block) {
			continue
		}
		select {
		case a.work <- f:
			a.blocks.Add(f.block, f)
		default: // there is enough to do
			return
		}
	}
}
