package scan

import (
	"context"
	"io"
	"os"

	"polytome/internal/format/sums"
	"polytome/internal/sparse"
)

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
	h := sums.NewHasher(want...)
	emit := func(n int64) {
		if progress != nil {
			progress(n)
		}
	}
	err = eachRun(ctx, f, info.Size(), func(b []byte) error {
		_, _ = h.Write(b)
		emit(int64(len(b)))
		return nil
	}, func(n int64) error {
		h.Zeros(n)
		emit(n)
		return nil
	})
	return h.String(), err
}
