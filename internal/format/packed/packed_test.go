package packed_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/format/packed"
	"polytome/internal/parallel"
)

// source is an image in memory that knows its holes.
type source struct {
	*bytes.Reader
	data []byte
}

func image(data []byte) source { return source{bytes.NewReader(data), data} }

// holed tells runs of zeros of whole megabytes as holes.
type holed struct{ source }

func (h holed) Data(off int64) (start, end int64) {
	const unit = 1 << 20
	full := func(at int64) bool {
		b := h.data[at:min(int64(len(h.data)), at+unit)]
		return len(bytes.Trim(b, "\x00")) > 0
	}
	size := int64(len(h.data))
	at := off / unit * unit
	for at < size && !full(at) {
		at += unit
	}
	start = max(off, at)
	for at < size && full(at) {
		at += unit
	}
	return min(start, size), min(at, size)
}

// disc makes an image of blocks that are zeros, text or noise.
func disc(seed uint64, blocks int, block int64, extra int) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	var out []byte
	for range blocks {
		b := make([]byte, block)
		switch r.IntN(4) {
		case 0:
			for i := range b {
				b[i] = byte(r.Uint32())
			}
		case 1:
			copy(b, bytes.Repeat([]byte("the tide comes in "), int(block)/18))
		case 2:
			b[r.IntN(len(b))] = 1
		}
		out = append(out, b...)
	}
	return append(out, bytes.Repeat([]byte{7}, extra)...)
}

func pack(t testing.TB, src packed.Source, o packed.Options) ([]byte, packed.Report) {
	var b bytes.Buffer
	r, err := packed.Pack(context.Background(), &b, src, o)
	require.NoError(t, err)
	require.EqualValues(t, b.Len(), r.Packed)
	return b.Bytes(), r
}

func open(t testing.TB, b []byte) *packed.Image {
	im, err := packed.Open(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	t.Cleanup(func() { _ = im.Close() })
	return im
}

func whole(t testing.TB, im *packed.Image) []byte {
	b, err := io.ReadAll(io.NewSectionReader(im, 0, im.Size()))
	require.NoError(t, err)
	return b
}

func TestAnyImageComesBack(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		block := int64(4096) << rapid.IntRange(0, 4).Draw(rt, "block")
		data := disc(rapid.Uint64().Draw(rt, "seed"), rapid.IntRange(0, 40).Draw(rt, "blocks"), block,
			rapid.IntRange(0, 5000).Draw(rt, "extra"))
		o := packed.Options{Block: block, Compress: rapid.Bool().Draw(rt, "compress"), Workers: rapid.IntRange(1, 4).
			Draw(rt, "workers")}
		want := bytes.Clone(data)
		if rapid.Bool().Draw(rt, "bitmap") {
			every := rapid.Int64Range(2, 7).Draw(rt, "every")
			o.Used = func(off, _ int64) bool { return off/block%every != 0 }
			for off := int64(0); off < int64(len(want)); off += block {
				if !o.Used(off, block) {
					clear(want[off:min(int64(len(want)), off+block)])
				}
			}
		}
		var src packed.Source = image(data)
		if rapid.Bool().Draw(rt, "holes") {
			src = holed{image(data)}
		}
		b, r := pack(t, src, o)
		again, _ := pack(t, image(data), o)
		require.Equal(rt, b, again, "the same image gives the same bytes, however it is read")
		require.Equal(rt, bytes.Equal(data, want), r.Exact(), "the report says whether it comes back bit for bit")
		require.Equal(rt, crc32.ChecksumIEEE(want), r.Sum)
		require.LessOrEqual(rt, r.Packed, packed.AtMost(r.Image, r.Image-r.Zeros-r.Unused, block))
		if !o.Compress {
			require.Equal(rt, packed.AtMost(r.Image, r.Image-r.Zeros-r.Unused, block), r.Packed,
				"without compression the size is known")
		}
		im := open(t, b)
		require.True(rt, bytes.Equal(want, whole(t, im)))
		require.Equal(rt, r.Sum, im.Sum())
		require.NoError(rt, im.Check(context.Background(), func(int64) {}, func(e *packed.BlockError) { rt.Error(e) }))
		for range 20 { // anywhere
			off := rapid.Int64Range(0, int64(len(want))).Draw(rt, "off")
			part := make([]byte, rapid.IntRange(0, 3*int(block)).Draw(rt, "length"))
			n, err := im.ReadAt(part, off)
			left := want[off:]
			require.True(rt, bytes.Equal(left[:min(len(left), len(part))], part[:n]))
			require.Equal(rt, off >= im.Size() || len(part) > len(left), errors.Is(err, io.EOF))
		}
		for at := int64(0); at < im.Size(); { // what is no data is zeros
			start, end := im.Data(at)
			require.Empty(rt, bytes.Trim(want[at:start], "\x00"))
			at = max(end, start)
			if start == im.Size() {
				break
			}
		}
	})
}

func TestDamageIsFoundAndNamed(t *testing.T) {
	data := disc(3, 40, packed.DefaultBlock, 100)
	for _, compress := range []bool{false, true} {
		good, _ := pack(t, image(data), packed.Options{Compress: compress})
		for at := 0; at < len(good); at += 997 {
			b := bytes.Clone(good)
			b[at] ^= 0x20
			im, err := packed.Open(bytes.NewReader(b), int64(len(b)))
			if err != nil {
				var fe *packed.FormatError
				require.True(t, errors.As(err, &fe) || errors.Is(err, packed.ErrNotPacked) ||
					errors.Is(err, packed.ErrNewer), "byte %d: %v", at, err)
				continue
			}
			var found []*packed.BlockError
			require.NoError(t, im.Check(context.Background(), func(int64) {},
				func(e *packed.BlockError) { found = append(found, e) }))
			if at >= 64 && at < 2048 {
				require.Empty(t, found, "nothing lies in the rest of the header")
				continue
			}
			require.Len(t, found, 1, "byte %d: one block, and no other", at)
			e := found[0]
			assert.True(t, e.At <= int64(at) && int64(at) < e.At+e.Stored, "byte %d: %v", at, e)
			_, err = im.ReadAt(make([]byte, e.Length), e.Start)
			var be *packed.BlockError
			require.ErrorAs(t, err, &be, "reading finds it too")
			if e.Start >= packed.DefaultBlock {
				_, err = im.ReadAt(make([]byte, packed.DefaultBlock), e.Start-packed.DefaultBlock)
				require.NoError(t, err, "the block before it is whole")
			}
		}
		for cut := 0; cut < len(good); cut += 1013 {
			_, err := packed.Open(bytes.NewReader(good[:cut]), int64(cut))
			require.Error(t, err, "cut after %d bytes", cut)
		}
		_, err := packed.Open(bytes.NewReader(good[:len(good)-3000]), int64(len(good)-3000))
		assert.ErrorContains(t, err, "the end with the index is missing: the file is cut short, or a part of it is "+
			"not there")
	}
	newer, _ := pack(t, image(data), packed.Options{})
	newer[8] = 2
	_, err := packed.Open(bytes.NewReader(newer), int64(len(newer)))
	require.ErrorIs(t, err, packed.ErrNewer)
	assert.ErrorContains(t, err, "newer version: 2, and this reads up to 1")
	_, err = packed.Open(bytes.NewReader(data), int64(len(data)))
	assert.ErrorIs(t, err, packed.ErrNotPacked)
	_, err = packed.NewStream(context.Background(), image(data), packed.Options{Block: 5000})
	assert.ErrorContains(t, err, "blocks of 5000 bytes are not possible")
}

// failing ends early, or fails.
type failing struct {
	source
	after int64
	err   error
}

func (f failing) ReadAt(b []byte, off int64) (int, error) {
	if off+int64(len(b)) > f.after {
		return 0, f.err
	}
	return f.source.ReadAt(b, off)
}

// tripping panics in the middle, as a reader with a mistake would.
type tripping struct{ source }

func (f tripping) ReadAt(b []byte, off int64) (int, error) {
	if n := int64(len(f.data)); off > n/4 && off < n/2 {
		panic("a mistake in a reader")
	}
	return f.source.ReadAt(b, off)
}

func TestAMistakeInAReaderEndsOnlyItsImage(t *testing.T) {
	data := disc(4, 200, packed.DefaultBlock, 0)
	var mistake *parallel.MistakeError
	_, err := packed.Pack(context.Background(), io.Discard, tripping{image(data)}, packed.Options{Compress: true})
	require.ErrorAs(t, err, &mistake)

	var b bytes.Buffer
	_, err = packed.Pack(context.Background(), &b, image(data), packed.Options{Compress: true})
	require.NoError(t, err)
	im, err := packed.Open(tripping{image(b.Bytes())}, int64(b.Len()))
	require.NoError(t, err)
	_, err = im.ReadAt(make([]byte, len(data)), 0)
	require.ErrorAs(t, err, &mistake)
}

func TestSourcesThatFailAndStopping(t *testing.T) {
	data := disc(4, 200, packed.DefaultBlock, 0)
	broken := errors.New("the disk is gone")
	for _, err := range []error{io.EOF, broken} {
		var b bytes.Buffer
		_, got := packed.Pack(context.Background(), &b, failing{image(data), 4 << 20, err},
			packed.Options{Compress: true})
		if errors.Is(err, io.EOF) {
			assert.ErrorIs(t, got, io.ErrUnexpectedEOF)
			assert.ErrorContains(t, got, "it ends after 4194304 bytes instead of 6553600")
		} else {
			assert.ErrorIs(t, got, broken)
		}
		_, err := packed.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
		assert.Error(t, err, "what was written so far is no packed image")
	}
	before := runtime.NumGoroutine()
	for range 20 {
		s, err := packed.NewStream(context.Background(), image(data), packed.Options{Compress: true})
		require.NoError(t, err)
		_, err = s.Read(make([]byte, 10_000))
		require.NoError(t, err)
		require.NoError(t, s.Close())
	}
	assert.Eventually(t, func() bool { return runtime.NumGoroutine() <= before+1 }, 5e9, 1e6,
		"nothing goes on behind a closed stream")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := packed.Pack(ctx, io.Discard, image(data), packed.Options{})
	assert.ErrorIs(t, err, context.Canceled)
}

// endless is a sparse image far larger than memory.
type endless struct{ size int64 }

func (e endless) Size() int64 { return e.size }
func (e endless) Data(off int64) (start, end int64) {
	const every = 1 << 30
	start = (off + every - 1) / every * every
	if off%every < 1<<20 {
		start = off
	}
	return min(start, e.size), min((start/every)*every+1<<20, e.size)
}

func (e endless) ReadAt(b []byte, off int64) (int, error) {
	for i := range b {
		b[i] = byte((off + int64(i)) >> 9)
	}
	return len(b), nil
}

func TestAHugeImageTakesLittleMemory(t *testing.T) {
	var before, peak runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	var b bytes.Buffer
	src := endless{16 << 30}
	r, err := packed.Pack(context.Background(), &b, src, packed.Options{Compress: true})
	require.NoError(t, err)
	runtime.ReadMemStats(&peak)
	assert.Less(t, int64(peak.HeapSys)-int64(before.HeapSys)-2*int64(b.Cap()), int64(64<<20))
	assert.EqualValues(t, 16<<30, r.Image)
	im := open(t, b.Bytes())
	got, want := make([]byte, 70_000), make([]byte, 70_000)
	_, err = im.ReadAt(got, 11<<30+5)
	require.NoError(t, err)
	_, _ = src.ReadAt(want, 11<<30+5)
	assert.True(t, bytes.Equal(want, got))
}

func FuzzOpen(f *testing.F) {
	for _, compress := range []bool{false, true} {
		b, _ := pack(f, image(disc(5, 6, 4096, 3)), packed.Options{Block: 4096, Compress: compress})
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 2048+64 { // so that not every change ends at a checksum
			binary.LittleEndian.PutUint32(b[60:], crc32.ChecksumIEEE(b[:60]))
			end := b[len(b)-64:]
			if at := binary.LittleEndian.Uint64(end[8:]); at < uint64(len(b)-64) {
				binary.LittleEndian.PutUint32(end[24:], crc32.ChecksumIEEE(b[at:len(b)-64]))
			}
			binary.LittleEndian.PutUint32(end[60:], crc32.ChecksumIEEE(end[:60]))
		}
		im, err := packed.Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			return
		}
		defer im.Close()
		if im.Size() < 64<<20 {
			_, _ = io.Copy(io.Discard, io.NewSectionReader(im, 0, im.Size()))
			_ = im.Check(context.Background(), func(int64) {}, func(*packed.BlockError) {})
		}
	})
}
