package virtual

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
)

// What is saved: a mark, the bytes of the volume and how many pages follow (8 each), the pages with their numbers in
// front (8), and the CRC-32C of all that.
const savedMark = "POLYVOL1"

// mostPages is how many pages a saved volume may have.
const mostPages = 1 << 18

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func (m *memory) save(w io.Writer) error {
	m.mu.RLock()
	defer m.mu.RUnlock()
	kept := map[int64]*page{}
	var numbers []int64
	for _, chunk := range m.chunks {
		for number, p := range chunk {
			if *p != (page{}) {
				kept[number] = p
				numbers = append(numbers, number)
			}
		}
	}
	slices.Sort(numbers)
	sum := crc32.New(castagnoli)
	out := bufio.NewWriterSize(io.MultiWriter(w, sum), 256<<10)
	le := binary.LittleEndian
	_, err := out.WriteString(savedMark)
	head := le.AppendUint64(le.AppendUint64(nil, uint64(m.size)), uint64(len(numbers)))
	if err == nil {
		_, err = out.Write(head)
	}
	for _, number := range numbers {
		if err == nil {
			_, err = out.Write(le.AppendUint64(nil, uint64(number)))
		}
		if err == nil {
			_, err = out.Write(kept[number][:])
		}
	}
	if err = errors.Join(err, out.Flush()); err != nil {
		return err
	}
	_, err = w.Write(le.AppendUint32(nil, sum.Sum32()))
	return err
}

var errSaved = errors.New("what was saved of the volume is damaged")

func load(r io.Reader) (*memory, error) {
	sum := crc32.New(castagnoli)
	in := io.TeeReader(bufio.NewReaderSize(r, 256<<10), sum)
	le := binary.LittleEndian
	head := make([]byte, len(savedMark)+16)
	if _, err := io.ReadFull(in, head); err != nil || string(head[:len(savedMark)]) != savedMark {
		return nil, errSaved
	}
	size, count := int64(le.Uint64(head[8:])), le.Uint64(head[16:])
	if size <= 0 || count > mostPages {
		return nil, errSaved
	}
	m := newMemory(size)
	for range count {
		var number [8]byte
		if _, err := io.ReadFull(in, number[:]); err != nil {
			return nil, fmt.Errorf("%w: %w", errSaved, err)
		}
		n := int64(le.Uint64(number[:]))
		if n < 0 || n > (size-1)/pageBytes || m.page(n) != nil {
			return nil, errSaved
		}
		if _, err := io.ReadFull(in, m.add(n)[:]); err != nil {
			return nil, fmt.Errorf("%w: %w", errSaved, err)
		}
	}
	want := sum.Sum32()
	var got [4]byte
	if _, err := io.ReadFull(in, got[:]); err != nil || le.Uint32(got[:]) != want {
		return nil, errSaved
	}
	return m, nil
}
