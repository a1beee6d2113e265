package optical

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"polytome/internal/format/cuesheet"
)

// Block is how many bytes a block of data has.
const Block = 2048

// The profiles of discs (MMC-6, table 92).
const (
	CDROM       = 0x08
	CDR         = 0x09
	DVDROM      = 0x10
	DVDR        = 0x11
	DVDPlusRW   = 0x1A
	DVDPlusR    = 0x1B
	DVDPlusRDL  = 0x2B
	firstOfDVDs = DVDROM
)

// A Disc is one: what was pressed or burnt, and what has happened to it since.
type Disc struct {
	Profile   uint16
	Tracks    []Track // in their order
	Scratches []Scratch
	// Blank is set for a disc that can be written to, until it is finished.
	Blank *Blank
}

// A Track is one of a disc. Positions are block numbers.
type Track struct {
	Session int // from 1
	Audio   bool
	Mode    byte // of data: 1 or 2
	// Gap is where its index 0 begins, Start its index 1, and End is behind it.
	Gap, Start, End int64
	// Data has 2,048 bytes for each block from Start on; of sound, 2,352 bytes of samples from Gap on.
	Data io.ReaderAt
}

// DataDisc is a pressed disc of so many blocks of data.
func DataDisc(profile uint16, data io.ReaderAt, blocks int64) *Disc {
	return &Disc{Profile: profile, Tracks: []Track{{Session: 1, Mode: 1, End: blocks, Data: data}}}
}

func (d *Disc) cd() bool { return d.Profile < firstOfDVDs }

// end is the block behind the last one.
func (d *Disc) end() int64 {
	if len(d.Tracks) == 0 {
		return 0
	}
	return d.Tracks[len(d.Tracks)-1].End
}

// track is the index of the one that a block is of; ok is false between sessions and outside.
func (d *Disc) track(block int64) (i int, ok bool) {
	for i := range d.Tracks {
		if block >= d.Tracks[i].Gap && block < d.Tracks[i].End {
			return i, true
		}
	}
	return 0, false
}

// user is the user data of a block.
func (t *Track) user(block int64) ([]byte, error) {
	b := make([]byte, Block)
	if block < t.Start {
		return b, nil
	}
	n, err := t.Data.ReadAt(b, (block-t.Start)*Block)
	if n < Block && err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return b, nil
}

// samples reads sound at a byte of the disc, counted from block 0; what is no sound is silence.
func (d *Disc) samples(b []byte, at int64) {
	clear(b)
	for i := range b {
		sector := (at + int64(i)) / RawSector
		if at+int64(i) < 0 {
			continue
		}
		k, ok := d.track(sector)
		if !ok || !d.Tracks[k].Audio {
			continue
		}
		t := &d.Tracks[k]
		n := min(len(b)-i, int((t.End*RawSector)-(at+int64(i))))
		_, _ = t.Data.ReadAt(b[i:i+n], at+int64(i)-t.Gap*RawSector) // the rest is silence
		if i+n == len(b) {
			return
		}
	}
}

// FromSheet is a compact disc out of a cue sheet and its files, with a second session at each line REM SESSION. The
// files are open until done.
func FromSheet(name string) (disc *Disc, done func(), err error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, nil, err
	}
	sheet, err := cuesheet.Parse(string(text))
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	var open []*os.File
	done = func() {
		for _, f := range open {
			_ = f.Close()
		}
	}
	var sizes []int64
	for i := range sheet.Files {
		f, err := os.Open(filepath.Join(filepath.Dir(name), filepath.FromSlash(sheet.Files[i].Name)))
		if err != nil {
			done()
			return nil, nil, err
		}
		open = append(open, f)
		info, err := f.Stat()
		if err != nil {
			done()
			return nil, nil, err
		}
		sizes = append(sizes, info.Size())
	}
	spans, err := sheet.Spans(sizes)
	if err != nil {
		done()
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	disc = &Disc{Profile: CDROM}
	next, session, sessions := int64(0), 1, sessionsOf(string(text))
	for i, s := range spans {
		sector := s.SectorBytes()
		if of := max(session, sessions[s.Number]); of > session {
			session, next = of, next+betweenSessions
		}
		t := Track{Session: session, Audio: s.Mode == "AUDIO", Mode: 1, Gap: next, Start: next,
			End: next + s.Length/sector}
		if s.Mode == "MODE2/2352" {
			t.Mode = 2
		}
		t.Data = io.NewSectionReader(open[s.File], s.At, s.Length)
		if _, offset, is := s.Data(); is && sector != Block {
			t.Data = userOf{t.Data, offset}
		}
		if gap := int64(s.Start - s.Gap); s.Gap >= 0 && gap > 0 {
			if n := len(disc.Tracks); n > 0 && i > 0 &&
				spans[i-1].File == s.File { // it is the end of the bytes before it
				t.Gap -= gap
				disc.Tracks[n-1].End = t.Gap
			} else {
				t.Start, t.End = t.Start+gap, t.End+gap
			}
			if t.Audio {
				t.Data = io.NewSectionReader(open[s.File], s.At-gap*RawSector, s.Length+gap*RawSector)
			}
		}
		disc.Tracks = append(disc.Tracks, t)
		next = t.End
	}
	return disc, done, nil
}

// betweenSessions is how many blocks lie between the tracks of two sessions: the lead-out of the first, the lead-in of
// the next one, and its gap (MMC-6, 4.2.3.6).
const betweenSessions = 6750 + 4500 + lead

// sessionsOf finds which sessions the tracks of a sheet begin: those behind a line REM SESSION.
func sessionsOf(text string) map[int]int {
	out, session := map[int]int{}, 1
	for line := range strings.Lines(text) {
		words := strings.Fields(strings.ToUpper(line))
		if len(words) == 3 && words[0] == "REM" && words[1] == "SESSION" {
			session, _ = strconv.Atoi(words[2])
		}
		if len(words) == 3 && words[0] == "TRACK" {
			n, _ := strconv.Atoi(words[1])
			out[n] = session
		}
	}
	return out
}

// userOf is the user data of raw sectors.
type userOf struct {
	io.ReaderAt
	offset int64
}

func (u userOf) ReadAt(b []byte, off int64) (n int, err error) {
	for n < len(b) && err == nil {
		at := off + int64(n)
		k := min(len(b)-n, int(Block-at%Block))
		k, err = u.ReaderAt.ReadAt(b[n:n+k], at/Block*RawSector+u.offset+at%Block)
		n += k
	}
	return n, err
}
