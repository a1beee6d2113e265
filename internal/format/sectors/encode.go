package sectors

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
)

// Raw is the bytes of a whole sector (ECMA-130, clause 14).
const Raw = 2352

// Where things lie in a sector of mode 1 (ECMA-130, clause 14).
const (
	atHeader = 12   // address and mode
	atData   = 16   // user data
	atEDC    = 2064 // error detection code
	atP      = 2076 // P-parity, behind eight zeros
	atQ      = 2248 // Q-parity
)

// pregap is how many sectors lie before sector 0: addresses are counted from the beginning of the
// pregap (ECMA-130, clause 20).
const pregap = 150

// edcTable is for the error detection code of ECMA-130, 14.3: its polynomial is
// (x^16+x^15+x^2+1)(x^16+x^2+x+1), the bits reversed.
var edcTable = crc32.MakeTable(0xD8018001)

// edc begins with zeros, and inverts nothing.
func edc(b []byte) uint32 { return ^crc32.Update(^uint32(0), edcTable, b) }

// double and halved are tables over the field of ECMA-130, annex A, whose polynomial is
// x^8+x^4+x^3+x^2+1: the product with alpha, and what gives x back from x + alpha·x.
var double, halved = func() (d, h [256]byte) {
	for i := range d {
		n := i << 1
		if i&0x80 != 0 {
			n ^= 0x11D
		}
		d[i] = byte(n)
		h[byte(i)^byte(n)] = byte(i)
	}
	return d, h
}()

// parity writes two bytes of parity for each of some words of a Reed-Solomon product code
// (ECMA-130, annex A). The bytes of b from the header on are numbered by 16-bit columns: word n begins at
// column n/2·first, and each next byte of it lies step further on, around the end.
func parity(b []byte, words, length, first, step int, into []byte) {
	size := words * length
	for n := range words {
		at := n/2*first + n%2
		var sum, weighted byte
		for range length {
			x := b[at]
			if at += step; at >= size {
				at -= size
			}
			weighted = double[weighted^x]
			sum ^= x
		}
		p := halved[double[weighted]^sum]
		into[n], into[n+words] = p, p^sum
	}
}

// Encode makes the whole sector of mode 1 with an address: number 0 is the first of the disc's
// program area. The user data must stand at byte 16 of b, which has [Raw] bytes.
func Encode(b []byte, number int64) error {
	at := number + pregap
	if at < 0 || at >= 100*60*75 {
		return fmt.Errorf("sector %d has no address: a disc has fewer than 100 minutes", number)
	}
	copy(b, sync)
	b[12], b[13], b[14], b[15] = decimal(at/75/60), decimal(at/75%60), decimal(at%75), 1
	seal(b)
	return nil
}

// decimal writes a number below 100 with four bits a digit.
func decimal(n int64) byte { return byte(n/10<<4 | n%10) }

// seal writes the codes of a sector of mode 1.
func seal(b []byte) {
	binary.LittleEndian.PutUint32(b[atEDC:], edc(b[:atEDC]))
	clear(b[atEDC+4 : atP])
	parity(b[atHeader:], 86, 24, 2, 86, b[atP:])
	parity(b[atHeader:], 52, 43, 86, 88, b[atQ:])
}

// ErrMismatch reports a sector whose bytes do not match its error detection code.
var ErrMismatch = errors.New("the error detection code does not match")

// Check looks at the error detection code of a whole sector of mode 1.
func Check(b []byte) error {
	if binary.LittleEndian.Uint32(b[atEDC:]) != edc(b[:atEDC]) {
		return ErrMismatch
	}
	return nil
}

// Encoder gives a plain image as the whole sectors of a track of mode 1.
type Encoder struct {
	r    io.ReaderAt
	size int64
}

// NewEncoder encodes the size bytes of r, whose last sector is filled up with zeros. It fails for an
// image that is longer than a disc.
func NewEncoder(r io.ReaderAt, size int64) (*Encoder, error) {
	if n := (size + UserData - 1) / UserData; n > 100*60*75-pregap {
		return nil, fmt.Errorf("an image of %d sectors is longer than a disc, whose addresses end before minute 100", n)
	}
	return &Encoder{r, size}, nil
}

// Size is the number of bytes of the track.
func (e *Encoder) Size() int64 { return (e.size + UserData - 1) / UserData * Raw }

// ReadAt makes sectors. It returns [io.EOF] at the end.
func (e *Encoder) ReadAt(b []byte, off int64) (done int, err error) {
	var one [Raw]byte
	for done < len(b) {
		at := off + int64(done)
		if at >= e.Size() {
			return done, io.EOF
		}
		n, within := at/Raw, at%Raw
		sector := one[:]
		direct := within == 0 && len(b)-done >= Raw
		if direct {
			sector = b[done : done+Raw]
		}
		want := min(UserData, e.size-n*UserData)
		clear(sector[atData+want : atEDC])
		if k, err := e.r.ReadAt(sector[atData:atData+want], n*UserData); int64(k) < want {
			if err == nil || errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return done, err
		}
		if err := Encode(sector, n); err != nil {
			return done, err
		}
		if direct {
			done += Raw
		} else {
			done += copy(b[done:], sector[within:])
		}
	}
	return done, nil
}
