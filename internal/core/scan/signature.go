package scan

import (
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"slices"
	"sync"

	"github.com/zeebo/xxh3"

	"polytome/internal/core/title"
)

// Where a file's headers are: the beginning, and the volume descriptor with or without raw
// sectors.
const (
	headLength = 4 << 10
	descriptor = 32 << 10
	deepLength = 8 << 10
)

// signature is a fingerprint of a file's length and headers; with it comes the file's beginning.
func signature(f io.ReaderAt, size int64) (sign string, head []byte, err error) {
	b := word(make([]byte, 0, 8+headLength+deepLength), uint64(size))
	for _, part := range [][2]int64{{0, headLength}, {descriptor, deepLength}} {
		n := min(part[1], size-part[0])
		if n <= 0 {
			break
		}
		from := len(b)
		b = b[:from+int(n)]
		k, err := f.ReadAt(b[from:], part[0])
		if err != nil && err != io.EOF {
			return "", nil, err
		}
		b = b[:from+k]
	}
	h := xxh3.Hash128(b).Bytes()
	return hex.EncodeToString(h[:12]), b[8:min(len(b), 8+headLength)], nil
}

// Sign is a fingerprint of the length and headers of some content, as [title.Disc.Sign] is of a
// file. Where two are alike, [Deep] reports whether the contents are.
func Sign(f io.ReaderAt, size int64) (string, error) {
	sign, _, err := signature(f, size)
	return sign, err
}

// Samples for telling files apart that look alike by their headers.
const (
	sample       = 4 << 10
	evenSamples  = 16
	maxEvenBelow = 1 << 20 // shorter files are read whole
)

// deep is a fingerprint of samples from all over a file: the closer to its beginning, the denser.
func deep(path string, size int64) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return Deep(f, size)
}

// deepOf is the fingerprint of all files of a disc: sheets of equal text may name different tracks.
func deepOf(d *title.Disc) (string, error) {
	sum, err := deep(d.File.Path, d.File.Size)
	if err != nil || len(d.Parts) == 0 {
		return sum, err
	}
	h := xxh3.New()
	_, _ = h.WriteString(sum)
	for i := range d.Parts {
		if p := &d.Parts[i].File; p.Entry == "" {
			sum, err := deep(p.Path, p.Size)
			if err != nil {
				return "", err
			}
			_, _ = h.WriteString(sum)
		}
	}
	return fmt.Sprintf("%x", h.Sum128().Bytes()), nil
}

// Deep is a fingerprint of samples from all over some content, as [title.Disc.Deep] is of a file.
func Deep(f io.ReaderAt, size int64) (string, error) {
	h := xxh3.New()
	if size <= maxEvenBelow {
		if _, err := io.Copy(h, io.NewSectionReader(f, 0, size)); err != nil {
			return "", err
		}
		return fmt.Sprintf("%x", h.Sum128().Bytes()), nil
	}
	b := make([]byte, sample)
	var at []int64
	for off := int64(64 << 10); off < size; off *= 2 {
		at = append(at, off)
	}
	for i := range int64(evenSamples) {
		at = append(at, size/evenSamples*i)
	}
	for _, off := range append(at, size-sample) {
		n, err := f.ReadAt(b, off)
		if err != nil && err != io.EOF {
			return "", err
		}
		_, _ = h.Write(b[:n])
	}
	return fmt.Sprintf("%x", h.Sum128().Bytes()), nil
}

// compare samples the files whose headers are equal, to find those with the same content.
func (s *scan) compare() {
	type spot struct {
		l       *look
		d       *title.Disc
		t, disc int // its title and number
	}
	n, fresh := 0, false
	for _, l := range s.looks {
		n += len(l.titles)
		fresh = fresh || l.fresh
	}
	if !fresh {
		return // it was done when they were
	}
	once := make(map[string]spot, n)
	alike := map[string][]spot{}
	for _, l := range s.looks {
		for i := range l.titles {
			t := &l.titles[i]
			if t.Among > 0 || t.Form == title.Folder {
				continue
			}
			for k := range t.Discs {
				d := &t.Discs[k]
				if d.Sign == "" || d.File.Size == 0 {
					continue
				}
				first, ok := once[d.Sign]
				if !ok {
					once[d.Sign] = spot{l, d, i, k}
					continue
				}
				if alike[d.Sign] == nil {
					alike[d.Sign] = []spot{first}
				}
				alike[d.Sign] = append(alike[d.Sign], spot{l, d, i, k})
			}
		}
	}
	var tasks []func()
	var mu sync.Mutex // guards the sums
	sums := map[spot]string{}
	for _, all := range alike {
		for _, x := range all {
			if x.d.Deep != "" {
				continue
			}
			tasks = append(tasks, func() {
				defer s.disks.take(x.l.device())()
				if sum, err := deepOf(x.d); err == nil {
					mu.Lock()
					sums[x] = sum
					mu.Unlock()
				}
			})
		}
	}
	s.push(tasks...)
	s.work()
	own := map[*look]bool{}
	for x, sum := range sums {
		l := x.l
		if !own[l] { // what was published stays as it is
			own[l] = true
			l.titles, l.fresh = slices.Clone(l.titles), true
		}
		t := &l.titles[x.t]
		t.Discs = slices.Clone(t.Discs)
		t.Discs[x.disc].Deep = sum
	}
	for l := range own {
		l.publish()
	}
}
