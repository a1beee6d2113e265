package scan

import (
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"os"
	"strings"

	"polytome/internal/format/sums"
	"polytome/internal/sparse"
)

// hashes make the checksums of one file, all in one reading.
type hashes struct {
	crc   uint32
	noCRC bool
	all   []hash.Hash
	names []sums.Algorithm
}

func newHashes(want []sums.Algorithm) *hashes {
	h := &hashes{noCRC: true}
	for _, a := range want {
		switch a {
		case sums.CRC32:
			h.noCRC = false
			continue
		case sums.MD5:
			h.all = append(h.all, md5.New())
		case sums.SHA1:
			h.all = append(h.all, sha1.New())
		case sums.SHA256:
			h.all = append(h.all, sha256.New())
		}
		h.names = append(h.names, a)
	}
	return h
}

func (h *hashes) write(b []byte) {
	if !h.noCRC {
		h.crc = crc32.Update(h.crc, crc32.IEEETable, b)
	}
	for _, x := range h.all {
		_, _ = x.Write(b)
	}
}

// zeros adds n bytes of zeros. For a CRC alone, that costs next to nothing.
func (h *hashes) zeros(n int64) {
	if !h.noCRC {
		h.crc = crcZeros(h.crc, n)
	}
	if len(h.all) == 0 {
		return
	}
	for b := zeroBlock; n > 0; n -= int64(len(b)) {
		b = b[:min(int64(len(b)), n)]
		for _, x := range h.all {
			_, _ = x.Write(b)
		}
	}
}

var zeroBlock = make([]byte, 64<<10)

// String tells the sums as they are kept.
func (h *hashes) String() string {
	var out []string
	if !h.noCRC {
		out = append(out, fmt.Sprintf("%s:%08x", sums.CRC32, h.crc))
	}
	for i, x := range h.all {
		out = append(out, string(h.names[i])+":"+hex.EncodeToString(x.Sum(nil)))
	}
	return strings.Join(out, " ")
}

// crcZeros is the CRC-32 after n more bytes of zeros. A zero byte changes the register by a
// linear map over GF(2); its n-th power is found by squaring.
func crcZeros(crc uint32, n int64) uint32 {
	state := ^crc // the register itself, as the sum is reported inverted
	m := zeroByte
	for ; n > 0; n >>= 1 {
		if n&1 != 0 {
			state = m.times(state)
		}
		m = m.squared()
	}
	return ^state
}

// matrix is a linear map of 32 bits: what becomes of each.
type matrix [32]uint32

func (m *matrix) times(v uint32) (out uint32) {
	for i := 0; v != 0; i, v = i+1, v>>1 {
		if v&1 != 0 {
			out ^= m[i]
		}
	}
	return out
}

func (m *matrix) squared() (out matrix) {
	for i := range m {
		out[i] = m.times(m[i])
	}
	return out
}

// zeroByte is what one byte of zeros does to the register.
var zeroByte = func() (m matrix) {
	for i := range m {
		v := uint32(1) << i
		m[i] = crc32.IEEETable[byte(v)] ^ v>>8
	}
	return m
}()

// readBlock is the unit of reading, in bytes.
const readBlock = 1 << 20

// eachRun reads a file in order: runs of data, and runs of zeros that take no space on the disk.
func eachRun(ctx context.Context, f *os.File, size int64, data func(b []byte) error, zeros func(n int64) error) error {
	buf := make([]byte, readBlock)
	for off := int64(0); off < size; {
		if err := ctx.Err(); err != nil {
			return err
		}
		start, end := sparse.Data(f, off, size)
		if start > off {
			if err := zeros(start - off); err != nil {
				return err
			}
			off = start
			continue
		}
		n := min(int64(len(buf)), end-off)
		k, err := f.ReadAt(buf[:n], off)
		if int64(k) < n {
			if err == nil || err == io.EOF {
				err = errChanged
			}
			return err
		}
		if err := data(buf[:n]); err != nil {
			return err
		}
		off += n
	}
	return nil
}

// sumFile makes the checksums of a file; progress gets the bytes that were read, and may be nil.
func sumFile(ctx context.Context, path string, want []sums.Algorithm, progress func(n int64)) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	h := newHashes(want)
	emit := func(n int64) {
		if progress != nil {
			progress(n)
		}
	}
	err = eachRun(ctx, f, info.Size(), func(b []byte) error {
		h.write(b)
		emit(int64(len(b)))
		return nil
	}, func(n int64) error {
		h.zeros(n)
		emit(n)
		return nil
	})
	return h.String(), err
}
