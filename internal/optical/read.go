package optical

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
)

// Read reads blocks of data, as many of size bytes as b has room for, and at most 65,535 (SBC-3, 5.9, READ(12); 5.8,
// READ(10) where the drive knows no other).
func (d *Drive) Read(ctx context.Context, block int64, b []byte, size int64) error {
	n := min(int64(len(b))/size, 0xFFFF)
	b = b[:n*size]
	if !d.ten {
		cdb := make([]byte, 12)
		cdb[0] = 0xA8
		binary.BigEndian.PutUint32(cdb[2:], uint32(block))
		binary.BigEndian.PutUint32(cdb[6:], uint32(n))
		err := d.whole(ctx, cdb, b)
		var s *Sense
		if !errors.As(err, &s) || !s.Unknown() {
			return err
		}
		d.ten = true
	}
	cdb := make([]byte, 10)
	cdb[0] = 0x28
	binary.BigEndian.PutUint32(cdb[2:], uint32(block))
	cdb[7], cdb[8] = be16(int(n))
	return d.whole(ctx, cdb, b)
}

// whole reads exactly what b has room for.
func (d *Drive) whole(ctx context.Context, cdb, b []byte) error {
	c := Command{CDB: cdb, In: b, Timeout: reading}
	n, err := d.to.Do(ctx, c)
	var s *Sense
	if errors.As(err, &s) && s.Key == Recovered {
		err = nil
	}
	if err == nil && n != len(b) {
		return fmt.Errorf("the drive sent %d bytes of %d", n, len(b))
	}
	return err
}

// RawSector is how many bytes a sector of a compact disc has, and marksOf how many the marks of one: a bit for each
// byte that could not be corrected (MMC-6, table 354).
const (
	RawSector = 2352
	marksOf   = 294
)

// ReadRaw reads whole sectors of a compact disc, with all of their headers and codes (MMC-6, 6.19, READ CD). unsure
// says of each whether the drive marks bytes that it could not correct, which is all there is to tell of sound; marks
// is false where the drive has no such marks.
func (d *Drive) ReadRaw(ctx context.Context, sector int64, b []byte, unsure []bool) (marks bool, err error) {
	n := len(b) / RawSector
	cdb := make([]byte, 12)
	cdb[0] = 0xBE
	binary.BigEndian.PutUint32(cdb[2:], uint32(sector))
	cdb[6], cdb[7], cdb[8] = byte(n>>16), byte(n>>8), byte(n)
	cdb[9] = 0xF8 // sync, both headers, user data, EDC and ECC
	if !d.unmarked {
		cdb[9] |= 0x02
		const each = RawSector + marksOf
		if len(d.raw) < n*each {
			d.raw = make([]byte, n*each)
		}
		err := d.whole(ctx, cdb, d.raw[:n*each])
		var s *Sense
		if !errors.As(err, &s) || !s.Unknown() {
			for i := 0; err == nil && i < n; i++ {
				copy(b[i*RawSector:(i+1)*RawSector], d.raw[i*each:])
				unsure[i] = false
				for _, x := range d.raw[i*each+RawSector : (i+1)*each] {
					unsure[i] = unsure[i] || x != 0
				}
			}
			return true, err
		}
		d.unmarked, cdb[9] = true, 0xF8
	}
	clear(unsure)
	return false, d.whole(ctx, cdb, b[:n*RawSector])
}

// Position is where a sector lies on a compact disc, as it says itself in sub-channel Q (ECMA-130, 22.3.3).
type Position struct{ Track, Index int }

// Position reads that of a sector. ok is false where the drive does not give it.
func (d *Drive) Position(ctx context.Context, sector int64) (p Position, ok bool, err error) {
	cdb := make([]byte, 12)
	cdb[0], cdb[8], cdb[9], cdb[10] = 0xBE, 1, 0xF8, 0x02
	binary.BigEndian.PutUint32(cdb[2:], uint32(sector))
	b := make([]byte, RawSector+16)
	err = d.whole(ctx, cdb, b)
	var s *Sense
	if errors.As(err, &s) && s.Unknown() {
		return p, false, nil
	}
	if q := b[RawSector:]; err == nil && q[0]&0x0F == 1 { // a position, and nothing else that stands there at times
		return Position{fromBCD(q[1]), fromBCD(q[2])}, true, nil
	}
	return p, false, err
}

func fromBCD(b byte) int { return int(b>>4)*10 + int(b&15) }
