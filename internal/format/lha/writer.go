package lha

import (
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"strings"
	"time"

	"polytome/internal/format/crcs"
)

// A Writer writes an archive, one member after another.
type Writer struct {
	w io.Writer
	// Level is the level of the headers: 0, 1 or 2.
	Level int
}

// NewWriter makes a writer of level 2 headers.
func NewWriter(w io.Writer) *Writer { return &Writer{w: w, Level: 2} }

// Add packs data with a method and writes it as a member. A name that ends in a slash is a
// folder's. Data that would grow are stored.
func (w *Writer) Add(name, method string, modified time.Time, data []byte) error {
	packed := data
	switch method {
	case Adaptive:
		packed = packAdaptive(data)
	case Blocks5:
		packed = packBlocks(data, 8<<10, 14, 4)
	case Blocks6:
		packed = packBlocks(data, 32<<10, 16, 5)
	case Blocks7:
		packed = packBlocks(data, 64<<10, 17, 5)
	case Stored:
	default:
		return fmt.Errorf("lha: writing the method %q is not supported", method)
	}
	if strings.HasSuffix(name, "/") {
		method, packed = folder, nil
	} else if len(packed) >= len(data) {
		method, packed = Stored, data
	}
	if int64(len(data)) > math.MaxUint32 {
		return fmt.Errorf("lha: %s is too large", name)
	}
	h, err := w.header(name, method, modified, data, packed)
	if err != nil {
		return err
	}
	if _, err = w.w.Write(h); err == nil {
		_, err = w.w.Write(packed)
	}
	return err
}

// Close writes the end mark.
func (w *Writer) Close() error {
	_, err := w.w.Write([]byte{0})
	return err
}

func (w *Writer) header(name, method string, modified time.Time, data, packed []byte) ([]byte, error) {
	le := binary.LittleEndian
	b := append([]byte{0, 0}, method...)
	b = le.AppendUint32(b, uint32(len(packed)))
	b = le.AppendUint32(b, uint32(len(data)))
	if w.Level == 2 {
		b = le.AppendUint32(b, uint32(modified.Unix()))
	} else {
		b = le.AppendUint32(b, toDOSTime(modified))
	}
	b = append(b, 0x20, byte(w.Level))
	dir, file := "", name
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		dir, file = name[:i+1], name[i+1:]
	}
	sum := func(b []byte) []byte { // of the basic header, in whose first byte its length goes
		b[0] = byte(len(b) - 2)
		for _, c := range b[2:] {
			b[1] += c
		}
		return b
	}
	crc := crcs.ARC(0, data)
	ext := func(b []byte, kind byte, data []byte) []byte {
		return append(append(le.AppendUint16(b, uint16(3+len(data))), kind), data...)
	}
	folders := []byte(strings.ReplaceAll(dir, "/", "\xFF"))
	switch w.Level {
	case 0:
		stored := strings.ReplaceAll(name, "/", "\\")
		if len(stored) > 255-24 {
			return nil, fmt.Errorf("lha: the name %q is too long for a header of level 0", name)
		}
		b = append(append(b, byte(len(stored))), stored...)
		return sum(le.AppendUint16(b, crc)), nil
	case 1:
		b = append(b, 0)
		b = append(le.AppendUint16(b, crc), 'U')
		var more []byte
		more = ext(more, 0x01, []byte(file))
		if dir != "" {
			more = ext(more, 0x02, folders)
		}
		more = le.AppendUint16(more, 0)
		le.PutUint32(b[7:], uint32(len(packed)+len(more)-2))
		b = sum(append(b, more[:2]...))
		return append(b, more[2:]...), nil
	case 2:
		b = append(le.AppendUint16(b, crc), 'U')
		at := len(b) + 3
		b = ext(b, 0x00, []byte{0, 0})
		b = ext(b, 0x01, []byte(file))
		if dir != "" {
			b = ext(b, 0x02, folders)
		}
		b = le.AppendUint16(b, 0)
		if len(b)%256 == 0 { // a header must not begin with a zero, which is the end mark
			b = append(b, 0)
		}
		if len(b) > math.MaxUint16 {
			return nil, fmt.Errorf("lha: the name %q is too long", name)
		}
		le.PutUint16(b, uint16(len(b)))
		le.PutUint16(b[at:], crcs.ARC(0, b))
		return b, nil
	}
	return nil, fmt.Errorf("lha: headers of level %d cannot be written", w.Level)
}

// match is a code with its distance, or a byte with none.
type match struct{ code, distance int }

// maxTries is how many earlier positions are looked at for a match.
const maxTries = 64

// matches finds what repeats in a window; a match has at most longest bytes.
func matches(data []byte, window, longest int) []match {
	var out []match
	head := map[[threshold]byte]int{}
	before := make([]int, len(data)) // the last position with the same beginning
	note := func(i int) {
		if i+threshold > len(data) {
			return
		}
		key := [threshold]byte(data[i:])
		if last, ok := head[key]; ok {
			before[i] = last
		} else {
			before[i] = -1
		}
		head[key] = i
	}
	for i := 0; i < len(data); {
		best, from := 0, 0
		if i+threshold <= len(data) {
			at, ok := head[[threshold]byte(data[i:])]
			for tries := 0; ok && at >= 0 && i-at <= window-longest && tries < maxTries; tries++ {
				n := 0
				for n < longest && i+n < len(data) && data[at+n] == data[i+n] {
					n++
				}
				if n > best {
					best, from = n, at
				}
				at = before[at]
			}
		}
		if best < threshold {
			out = append(out, match{code: int(data[i])})
			note(i)
			i++
			continue
		}
		out = append(out, match{256 + best - threshold, i - from - 1})
		for range best {
			note(i)
			i++
		}
	}
	return out
}

// bitWriter collects bits, the highest of a byte first.
type bitWriter struct {
	out []byte
	n   uint // bits in the last byte
}

func (w *bitWriter) put(v int, k uint) {
	for k > 0 {
		if w.n == 0 {
			w.out = append(w.out, 0)
		}
		k--
		w.out[len(w.out)-1] |= byte(v>>k&1) << (7 - w.n)
		w.n = (w.n + 1) % 8
	}
}

func packAdaptive(data []byte) []byte {
	var w bitWriter
	t := &tree{}
	t.begin()
	codes := codesOf(far[:])
	for _, m := range matches(data, 4<<10, 60) {
		var path []int // from the symbol up: whether it is a right son
		for at := t.parent[nodes+m.code]; at != root; at = t.parent[at] {
			path = append(path, at-t.son[t.parent[at]])
		}
		for i := len(path) - 1; i >= 0; i-- {
			w.put(path[i], 1)
		}
		t.count(m.code)
		if m.code >= 256 {
			high := m.distance >> lowBits
			w.put(codes[high], uint(far[high]))
			w.put(m.distance&(1<<lowBits-1), lowBits)
		}
	}
	return w.out
}

// codesOf are the canonical codes for code lengths.
func codesOf(lengths []uint8) []int {
	out := make([]int, len(lengths))
	code := 0
	for l := uint8(1); l <= maxBits; l++ {
		for s, n := range lengths {
			if n == l {
				out[s] = code
				code++
			}
		}
		code <<= 1
	}
	return out
}

// lengthsOf are the lengths of Huffman codes for frequencies, at most limit bits each.
// Fewer than two symbols have none.
func lengthsOf(freq []int, limit uint8) []uint8 {
	out := make([]uint8, len(freq))
	f := append([]int{}, freq...)
	for {
		type node struct{ weight, left, right, symbol int }
		var all []node
		var open []int
		for s, n := range f {
			if n > 0 {
				open = append(open, len(all))
				all = append(all, node{n, -1, -1, s})
			}
		}
		if len(open) < 2 {
			return out
		}
		least := func() int {
			k := 0
			for i := range open {
				if all[open[i]].weight < all[open[k]].weight {
					k = i
				}
			}
			at := open[k]
			open = append(open[:k], open[k+1:]...)
			return at
		}
		for len(open) > 1 {
			a, b := least(), least()
			open = append(open, len(all))
			all = append(all, node{all[a].weight + all[b].weight, a, b, -1})
		}
		longest := uint8(0)
		var walk func(at int, depth uint8)
		walk = func(at int, depth uint8) {
			if n := all[at]; n.symbol >= 0 {
				out[n.symbol] = depth
				longest = max(longest, depth)
			} else {
				walk(n.left, depth+1)
				walk(n.right, depth+1)
			}
		}
		walk(open[0], 0)
		if longest <= limit {
			return out
		}
		for s := range f { // flatter frequencies give shorter codes
			if f[s] > 0 {
				f[s] = (f[s] + 1) / 2
			}
		}
	}
}

// blockCodes is how many codes go into one block.
const blockCodes = 16 << 10

func packBlocks(data []byte, window, distances int, distanceBits uint) []byte {
	var w bitWriter
	all := matches(data, window, 256)
	for len(all) > 0 {
		n := min(len(all), blockCodes)
		packBlock(&w, all[:n], distances, distanceBits)
		all = all[n:]
	}
	return w.out
}

// symbolOf is the symbol of a distance: how many bits it has.
func symbolOf(d int) int {
	n := 0
	for ; d > 0; d >>= 1 {
		n++
	}
	return n
}

func packBlock(w *bitWriter, codes []match, distances int, distanceBits uint) {
	freq, far := make([]int, literals), make([]int, distances)
	for _, m := range codes {
		freq[m.code]++
		if m.code >= 256 {
			far[symbolOf(m.distance)]++
		}
	}
	w.put(len(codes), 16)
	lengths := lengthsOf(freq, maxBits)
	putLong(w, freq, lengths)
	farLengths := lengthsOf(far, maxBits)
	putShort(w, far, farLengths, distanceBits, -1)
	code, farCode := codesOf(lengths), codesOf(farLengths)
	for _, m := range codes {
		w.put(code[m.code], uint(lengths[m.code]))
		if m.code >= 256 {
			s := symbolOf(m.distance)
			w.put(farCode[s], uint(farLengths[s]))
			if s > 1 {
				w.put(m.distance&(1<<(s-1)-1), uint(s-1))
			}
		}
	}
}

// single is the one symbol that is used, or 0.
func single(freq []int) int {
	for s, n := range freq {
		if n > 0 {
			return s
		}
	}
	return 0
}

// used is the number of symbols up to the last with a code; 0 when no code has bits.
func used(lengths []uint8) int {
	n := len(lengths)
	for n > 0 && lengths[n-1] == 0 {
		n--
	}
	return n
}

// putShort writes a table as [blocks.short] reads it.
func putShort(w *bitWriter, freq []int, lengths []uint8, width uint, gap int) {
	n := used(lengths)
	w.put(n, width)
	if n == 0 {
		w.put(single(freq), width)
		return
	}
	for i := 0; i < n; {
		l := int(lengths[i])
		w.put(min(l, 7), 3)
		for k := 7; k < l; k++ {
			w.put(1, 1)
		}
		if l >= 7 {
			w.put(0, 1)
		}
		if i++; i == gap {
			skip := 0
			for skip < 3 && i < n && lengths[i] == 0 {
				skip++
				i++
			}
			w.put(skip, 2)
		}
	}
}

// putLong writes a helper table and a table of bytes and lengths as [blocks.long] reads
// them.
func putLong(w *bitWriter, freq []int, lengths []uint8) {
	n := used(lengths)
	type step struct {
		symbol, more int
		bits         uint
	}
	var steps []step
	for i := 0; i < n; {
		if lengths[i] > 0 {
			steps = append(steps, step{symbol: int(lengths[i]) + 2})
			i++
			continue
		}
		run := 0
		for i < n && lengths[i] == 0 {
			run++
			i++
		}
		for run > 0 {
			switch {
			case run >= 20:
				k := min(run, 20+511)
				steps = append(steps, step{2, k - 20, 9})
				run -= k
			case run >= 3:
				k := min(run, 18)
				steps = append(steps, step{1, k - 3, 4})
				run -= k
			default:
				steps = append(steps, step{symbol: 0})
				run--
			}
		}
	}
	help := make([]int, helpers)
	for _, s := range steps {
		help[s.symbol]++
	}
	helpLengths := lengthsOf(help, maxBits)
	putShort(w, help, helpLengths, helperBits, 3)
	w.put(n, literalBits)
	if n == 0 {
		w.put(single(freq), literalBits)
		return
	}
	helpCodes := codesOf(helpLengths)
	for _, s := range steps {
		w.put(helpCodes[s.symbol], uint(helpLengths[s.symbol]))
		w.put(s.more, s.bits)
	}
}
