package shape

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"

	"polytome/internal/target"
)

// written is a text. The checksums in it are got by reading what they are of.
var written = Kind{
	Name: Written, Word: "write",
	Says: func(l, _ string) string { return l + " needs it, so Polytome writes it" },
	Open: func(ctx context.Context, w SourceOpener, s *Spec) (target.Content, error) {
		b := []byte(s.Text)
		for _, sum := range s.Sums {
			n, err := summed(ctx, w, &sum)
			if err != nil {
				return nil, err
			}
			copy(b[sum.At:], fmt.Sprintf("%08x", n))
		}
		return Bytes(b), nil
	},
}

// summed is the CRC-32 (IEEE 802.3) of some bytes of a source.
func summed(ctx context.Context, w SourceOpener, s *Summed) (uint32, error) {
	c, err := partOf(ctx, w, &Spec{Source: s.Source, Offset: s.Offset, Size: s.Size})
	if err != nil {
		return 0, err
	}
	defer c.Close()
	h := crc32.NewIEEE()
	b := make([]byte, 1<<20)
	for off := int64(0); off < s.Size; {
		if ctx.Err() != nil {
			return 0, ctx.Err()
		}
		n := min(int64(len(b)), s.Size-off)
		if start, _ := c.Data(off); start >= off+n {
			clear(b[:n]) // a hole need not be read
		} else if k, err := c.ReadAt(b[:n], off); int64(k) < n {
			return 0, &SourceError{s.Source.Called(), errors.Join(err, io.ErrUnexpectedEOF)}
		}
		_, _ = h.Write(b[:n])
		off += n
	}
	return h.Sum32(), nil
}
