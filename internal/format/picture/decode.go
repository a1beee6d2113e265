package picture

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"strings"

	"golang.org/x/sync/semaphore"
)

// MaxPixels is how many pixels a source may have: what is larger is no cover, and would take
// gigabytes to decode.
const MaxPixels = 64 << 20

// maxAtOnce is how many pixels are decoded at the same time, by all that use this package: a picture of the largest
// size alone, or many small ones. A pixel takes up to four bytes; sixteen-bit ones are counted twice.
const maxAtOnce = 2 * MaxPixels

var atOnce = semaphore.NewWeighted(maxAtOnce)

// ErrAnimated reports an animated picture: it is not clear which of its frames to use.
var ErrAnimated = errors.New("animated picture; use a still one")

// Decode reads a picture. Its header is looked at first, so that what is no picture, is too large, or moves, costs
// nothing. Call done when the pixels are not needed any longer: until then they count towards what is decoded at once,
// and others may wait for it.
func Decode(source io.ReadSeeker) (im image.Image, done func(), err error) {
	start, err := source.Seek(0, io.SeekCurrent)
	if err != nil {
		return nil, nil, err
	}
	head, format, err := header(source)
	if err != nil {
		return nil, nil, err
	}
	if _, err := source.Seek(start, io.SeekStart); err != nil {
		return nil, nil, err
	}
	if moves, err := animated(source, format); err != nil || moves {
		return nil, nil, errors.Join(err, ErrAnimated)
	}
	if _, err := source.Seek(start, io.SeekStart); err != nil {
		return nil, nil, err
	}
	weight := int64(head.Width) * int64(head.Height)
	if err := atOnce.Acquire(context.Background(), weight); err != nil {
		return nil, nil, err
	}
	im, _, err = image.Decode(bufio.NewReaderSize(source, 64<<10))
	if err != nil {
		atOnce.Release(weight)
		return nil, nil, fmt.Errorf("the picture is damaged or cut short: %w", err)
	}
	return im, func() { atOnce.Release(weight) }, nil
}

// header reads the size and format of a picture, and refuses what has too many pixels.
func header(source io.Reader) (head image.Config, format string, err error) {
	var first bytes.Buffer
	head, format, err = image.DecodeConfig(io.TeeReader(source, &limited{&first, 512}))
	switch {
	case err != nil && page(first.Bytes()):
		return head, "", errors.New("it is a web page, not a picture")
	case err != nil && first.Len() == 0:
		return head, "", errors.New("it is empty")
	case err != nil:
		return head, "", fmt.Errorf("it is not a readable picture: %w", err)
	case head.Width <= 0 || head.Height <= 0 || head.Width > MaxPixels/head.Height:
		return head, "", fmt.Errorf("it has %d x %d pixels, which is too large", head.Width, head.Height)
	}
	return head, format, nil
}

// limited keeps the first bytes that are written.
type limited struct {
	b *bytes.Buffer
	n int
}

func (l *limited) Write(b []byte) (int, error) {
	l.b.Write(b[:min(len(b), max(0, l.n-l.b.Len()))])
	return len(b), nil
}

// page reports whether a file begins as a web page or another text with tags does.
func page(b []byte) bool {
	s := strings.ToLower(strings.TrimSpace(strings.TrimPrefix(string(b), "\uFEFF")))
	return strings.HasPrefix(s, "<!doctype") || strings.HasPrefix(s, "<html") || strings.HasPrefix(s, "<head") ||
		strings.HasPrefix(s, "<?xml")
}

// animated reports whether a picture moves. It goes through the blocks of the file, and decodes none.
func animated(r io.Reader, format string) (bool, error) {
	b := bufio.NewReader(r)
	switch format {
	case "gif":
		return gifMoves(b), nil
	case "png": // an animation control chunk stands before the data: PNG, third edition, 11.3.6.1
		if _, err := b.Discard(8); err != nil {
			return false, nil
		}
		for {
			var head [8]byte
			if _, err := io.ReadFull(b, head[:]); err != nil {
				return false, nil // what is damaged is found when it is decoded
			}
			switch string(head[4:]) {
			case "acTL":
				return true, nil
			case "IDAT":
				return false, nil
			}
			if _, err := b.Discard(int(binary.BigEndian.Uint32(head[:])&0x7FFFFFFF) + 4); err != nil {
				return false, nil
			}
		}
	case "webp": // a flag of the extended header: RFC 9649, 2.7.1
		var head [21]byte
		if _, err := io.ReadFull(b, head[:]); err != nil {
			return false, nil
		}
		return string(head[12:16]) == "VP8X" && head[20]&2 != 0, nil
	}
	return false, nil
}

// gifMoves counts the image descriptors of a GIF (GIF89a, 20): with two of them, it moves.
func gifMoves(b *bufio.Reader) bool {
	skip := func(n int) bool { _, err := b.Discard(n); return err == nil }
	blocks := func() bool { // data sub-blocks, 15
		for {
			n, err := b.ReadByte()
			if err != nil {
				return false
			}
			if n == 0 {
				return true
			}
			if !skip(int(n)) {
				return false
			}
		}
	}
	var head [13]byte
	if _, err := io.ReadFull(b, head[:]); err != nil {
		return false
	}
	if head[10]&0x80 != 0 && !skip(3<<(head[10]&7+1)) {
		return false
	}
	for frames := 0; ; {
		kind, err := b.ReadByte()
		if err != nil {
			return false
		}
		switch kind {
		case 0x21: // an extension
			if !skip(1) || !blocks() {
				return false
			}
		case 0x2C: // an image
			if frames++; frames > 1 {
				return true
			}
			var d [9]byte
			if _, err := io.ReadFull(b, d[:]); err != nil {
				return false
			}
			if d[8]&0x80 != 0 && !skip(3<<(d[8]&7+1)) {
				return false
			}
			if !skip(1) || !blocks() {
				return false
			}
		default: // the trailer, or damage
			return false
		}
	}
}

// Check reads a picture to its end and says what is wrong with it; nil for nothing. It returns its size.
func Check(source io.ReadSeeker) (Size, error) {
	start, err := source.Seek(0, io.SeekCurrent)
	if err != nil {
		return Size{}, err
	}
	s, err := Measure(source)
	if err != nil {
		return s, err
	}
	if _, err := source.Seek(start, io.SeekStart); err != nil {
		return s, err
	}
	_, done, err := Decode(source)
	if err == nil {
		done()
	}
	return s, err
}
