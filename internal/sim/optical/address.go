package optical

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"time"
)

// Scheme begins the address of a simulated drive: simulated:DISC, where DISC is an image, a cue sheet or the socket of
// a drive that another process simulates. What happened to the disc stands behind a number sign, as [Words] says.
const Scheme = "simulated:"

// Words say how a simulated drive and its disc are described.
const Words = `hard=FIRST+COUNT, soft=…, slow=… and wrong=… are scratches, in blocks; blank=dvd-r (cd-r, dvd+r,
dvd+rw, dvd+r-dl) has what is burnt go to the file, and an empty disc while that is not there; bad=BLOCK fails to be
written; turn=BLOCK reads otherwise than it was written; haste=N is quicker than life; offset=SAMPLES`

// blanks are the kinds of empty discs by their names.
var blanks = map[string]uint16{"cd-r": CDR, "dvd-r": DVDR, "dvd+r": DVDPlusR, "dvd+rw": DVDPlusRW,
	"dvd+r-dl": DVDPlusRDL}

// FromAddress is a drive with a disc in it. What it has open is closed with done.
func FromAddress(address string) (d *Drive, done func(), err error) {
	name, hurt, _ := strings.Cut(strings.TrimPrefix(address, Scheme), "#")
	d = New()
	var scratches []Scratch
	var bad, turns []int64
	blank := uint16(0)
	for x := range strings.SplitSeq(hurt, ",") {
		if x == "" {
			continue
		}
		if err := d.word(x, &scratches, &bad, &turns, &blank); err != nil {
			return nil, nil, err
		}
	}
	disc, done, err := open(name, blank)
	if err != nil {
		return nil, nil, err
	}
	disc.Scratches = append(disc.Scratches, scratches...)
	if disc.Blank != nil {
		disc.Blank.Bad, disc.Blank.Turns = bad, turns
	}
	d.Put(disc)
	return d, done, nil
}

// word takes in what is said behind the number sign.
func (d *Drive) word(x string, scratches *[]Scratch, bad, turns *[]int64, blank *uint16) error {
	what, value, _ := strings.Cut(x, "=")
	first, count, span := strings.Cut(value, "+")
	number, err := strconv.ParseInt(first, 10, 64)
	n := int64(1)
	if span && err == nil {
		n, err = strconv.ParseInt(count, 10, 64)
	}
	harm, isHarm := map[string]Harm{"hard": Hard, "soft": Soft, "slow": Slow, "wrong": Wrong}[what]
	switch {
	case what == "blank":
		kind, known := blanks[value]
		if !known {
			return fmt.Errorf("%s: an empty disc is one of cd-r, dvd-r, dvd+r, dvd+rw, dvd+r-dl", x)
		}
		*blank = kind
		return nil
	case what == "haste":
		if d.Haste, err = strconv.ParseFloat(value, 64); err == nil {
			return nil
		}
	case err != nil:
	case isHarm:
		*scratches = append(*scratches, Scratch{First: number, Count: n, Harm: harm, Tries: 3,
			Takes: 20 * time.Millisecond})
		return nil
	case what == "bad":
		*bad = append(*bad, number)
		return nil
	case what == "turn":
		*turns = append(*turns, number)
		return nil
	case what == "offset":
		d.Offset = number
		return nil
	}
	return fmt.Errorf("%s: a scratch is written as hard=FIRST+COUNT; known are: %s", x, Words)
}

// open opens what lies in the tray.
func open(name string, blank uint16) (disc *Disc, done func(), err error) {
	if blank == 0 && strings.HasSuffix(strings.ToLower(name), ".cue") {
		return FromSheet(name)
	}
	info, err := os.Stat(name)
	if blank != 0 && (errors.Is(err, fs.ErrNotExist) || err == nil && info.Size() == 0) {
		f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o644)
		if err != nil {
			return nil, nil, err
		}
		return NewBlank(blank, f), func() { _ = f.Close() }, nil
	}
	if err != nil {
		return nil, nil, err
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, nil, err
	}
	if info.Size() < Block {
		_ = f.Close()
		return nil, nil, fmt.Errorf("%s holds no block of a disc", name)
	}
	profile := uint16(DVDROM)
	if blank != 0 {
		profile = blank
	}
	return DataDisc(profile, f, info.Size()/Block), func() { _ = f.Close() }, nil
}
