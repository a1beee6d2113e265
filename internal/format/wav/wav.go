// Package wav reads and writes the headers of WAVE files with the sound of a disc: 44,100 times a second
// two samples of 16 bits (IEC 60908), as the chunks of a RIFF file ("Multimedia Programming Interface
// and Data Specifications 1.0").
package wav

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// HeaderSize is how many bytes stand before the sound in the files that are written here.
const HeaderSize = 44

// A disc's sound.
const (
	channels = 2
	rate     = 44_100
	bits     = 16
)

// Header is the header of a file with so many bytes of sound.
func Header(sound int64) ([]byte, error) {
	if sound > 1<<32-1-HeaderSize {
		return nil, fmt.Errorf("%d bytes of sound are more than a WAVE file holds", sound)
	}
	b := make([]byte, HeaderSize)
	copy(b, "RIFF")
	binary.LittleEndian.PutUint32(b[4:], uint32(sound+HeaderSize-8))
	copy(b[8:], "WAVEfmt ")
	binary.LittleEndian.PutUint32(b[16:], 16)
	binary.LittleEndian.PutUint16(b[20:], 1) // not compressed
	binary.LittleEndian.PutUint16(b[22:], channels)
	binary.LittleEndian.PutUint32(b[24:], rate)
	binary.LittleEndian.PutUint32(b[28:], rate*channels*bits/8)
	binary.LittleEndian.PutUint16(b[32:], channels*bits/8)
	binary.LittleEndian.PutUint16(b[34:], bits)
	copy(b[36:], "data")
	binary.LittleEndian.PutUint32(b[40:], uint32(sound))
	return b, nil
}

// ErrNotWave reports a file that is not a WAVE file.
var ErrNotWave = errors.New("not a WAVE file")

// Sound finds the sound in the size bytes of r: where it begins, and how many bytes it has. A file whose
// sound is not that of a disc is an error.
func Sound(r io.ReaderAt, size int64) (at, length int64, err error) {
	head := make([]byte, 12)
	if n, _ := r.ReadAt(head, 0); n < len(head) || string(head[:4]) != "RIFF" || string(head[8:]) != "WAVE" {
		return 0, 0, ErrNotWave
	}
	known := false
	for at = 12; at+8 <= size; {
		chunk := make([]byte, 24)
		n, err := r.ReadAt(chunk, at)
		if n < 8 {
			return 0, 0, errors.Join(err, io.ErrUnexpectedEOF)
		}
		length = int64(binary.LittleEndian.Uint32(chunk[4:]))
		switch string(chunk[:4]) {
		case "fmt ":
			if n < 24 || length < 16 {
				return 0, 0, errors.New("its format is cut short")
			}
			f := chunk[8:]
			kind, ch, hz, depth := binary.LittleEndian.Uint16(f), binary.LittleEndian.Uint16(f[2:]),
				binary.LittleEndian.Uint32(f[4:]), binary.LittleEndian.Uint16(f[14:])
			if kind != 1 || ch != channels || hz != rate || depth != bits {
				return 0, 0, fmt.Errorf("its sound is not that of a disc: %d channels, %d samples a second, %d bits "+
					"(a disc has %d, %d and %d)", ch, hz, depth, channels, rate, bits)
			}
			known = true
		case "data":
			if !known {
				return 0, 0, errors.New("its format is not reported")
			}
			if at+8+length > size {
				return 0, 0, fmt.Errorf("cut short: %d bytes of sound declared, %d present", length, size-at-8)
			}
			return at + 8, length, nil
		}
		at += 8 + length + length%2
	}
	return 0, 0, errors.New("there is no sound in it")
}
