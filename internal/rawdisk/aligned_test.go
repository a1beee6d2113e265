package rawdisk

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"sync"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// sectors is a device in memory that refuses what does not lie on its sectors.
type sectors struct {
	sector int64
	mu     sync.Mutex
	bytes  []byte
	fails  error
	pause  time.Duration // after a read
}

var errUnaligned = errors.New("that does not lie on sectors")

func (s *sectors) check(b []byte, off int64) error {
	if off%s.sector != 0 || int64(len(b))%s.sector != 0 ||
		uintptr(unsafe.Pointer(unsafe.SliceData(b)))%uintptr(s.sector) != 0 {
		return errUnaligned
	}
	return s.fails
}

func (s *sectors) ReadAt(b []byte, off int64) (int, error) {
	defer time.Sleep(s.pause)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.check(b, off); err != nil {
		return 0, err
	}
	return bytes.NewReader(s.bytes).ReadAt(b, off)
}

func (s *sectors) WriteAt(b []byte, off int64) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.check(b, off); err != nil {
		return 0, err
	}
	return copy(s.bytes[off:], b), nil
}

// TestAnyBytesOfADeviceOfSectors: reads and writes of any bytes are those of plain memory.
func TestAnyBytesOfADeviceOfSectors(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sector := rapid.SampledFrom([]int64{512, 4096}).Draw(t, "sector")
		size := sector * rapid.Int64Range(1, 300).Draw(t, "sectors")
		dev := &sectors{sector: sector, bytes: make([]byte, size)}
		a := &aligned{dev: dev, sector: sector, size: size}
		model := make([]byte, size)
		for range rapid.IntRange(1, 20).Draw(t, "steps") {
			off := rapid.Int64Range(0, size-1).Draw(t, "off")
			n := rapid.Int64Range(0, size-off).Draw(t, "n")
			if rapid.Bool().Draw(t, "whole sectors") {
				off, n = off/sector*sector, n/sector*sector
			}
			b := make([]byte, n+1)[rapid.IntRange(0, 1).Draw(t, "place"):][:n]
			if rapid.Bool().Draw(t, "write") {
				for i := range b {
					b[i] = byte(rand.Int())
				}
				k, err := a.WriteAt(b, off)
				require.NoError(t, err)
				require.EqualValues(t, n, k)
				copy(model[off:], b)
			} else {
				k, err := a.ReadAt(b, off)
				require.NoError(t, err)
				require.EqualValues(t, n, k)
				require.True(t, bytes.Equal(model[off:off+n], b))
			}
		}
		require.True(t, bytes.Equal(model, dev.bytes))
		k, err := a.ReadAt(make([]byte, size), 1)
		require.Equal(t, io.EOF, err)
		require.EqualValues(t, size-1, k)
		_, err = a.WriteAt(make([]byte, 2), size-1)
		require.Error(t, err, "nothing is behind the end")
		require.Equal(t, size, end(dev, sector))
	})
}

// TestTwoWritesIntoOneSector: neither of them loses the other.
func TestTwoWritesIntoOneSector(t *testing.T) {
	dev := &sectors{sector: 512, bytes: make([]byte, 4096), pause: time.Millisecond}
	a := &aligned{dev: dev, sector: 512, size: 4096}
	want := make([]byte, 4096)
	var all sync.WaitGroup
	for at := 0; at < len(want); at += 16 {
		b := bytes.Repeat([]byte{byte(at/16 + 1)}, 16)
		copy(want[at:], b)
		all.Go(func() { _, _ = a.WriteAt(b, int64(at)) })
	}
	all.Wait()
	assert.Equal(t, want, dev.bytes)
}

// TestADeviceThatFails: its error comes through, and as many bytes as went.
func TestADeviceThatFails(t *testing.T) {
	dev := &sectors{sector: 512, bytes: make([]byte, 4096), fails: errors.New("it is gone")}
	a := &aligned{dev: dev, sector: 512, size: 4096}
	n, err := a.WriteAt(make([]byte, 10), 5)
	assert.ErrorIs(t, err, dev.fails)
	assert.Zero(t, n)
	n, err = a.ReadAt(make([]byte, 10), 5)
	assert.ErrorIs(t, err, dev.fails)
	assert.Zero(t, n)
	assert.Zero(t, end(dev, 512))
}
