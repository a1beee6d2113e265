package optical

import (
	"context"
	"encoding/binary"
	"errors"
)

// A Track is one of a disc's. Positions are blocks.
type Track struct {
	Number  int   `json:"number"`
	Session int   `json:"session"` // from 1
	Start   int64 `json:"start"`   // of its index 1
	End     int64 `json:"end"`     // behind it: the next track, or the lead-out of its session
	Data    bool  `json:"data"`    // it holds data, and no sound
}

// Points of a table of contents that are no tracks (MMC-6, table 482).
const (
	leadOut      = 0xAA
	sessionEnd   = 0xA2
	mostTracks   = 99
	firstSecond  = 150 // sectors before block 0
	secondFrames = 75
)

var errContents = errors.New("the disc's table of contents makes no sense")

// Tracks asks for the table of contents (MMC-6, 6.25, READ TOC/PMA/ATIP): that of all sessions where there is one
// (format 2), and else the short one (format 0).
func (d *Drive) Tracks(ctx context.Context) ([]Track, error) {
	if b, err := d.contents(ctx, 2); err == nil {
		if out, err := allSessions(b); err == nil {
			return out, nil
		}
	}
	b, err := d.contents(ctx, 0)
	if err != nil {
		return nil, err
	}
	var out []Track
	for ; len(b) >= 8; b = b[8:] {
		start := int64(int32(binary.BigEndian.Uint32(b[4:])))
		if n := len(out); n > 0 {
			out[n-1].End = start
			if start < out[n-1].Start {
				return nil, errContents
			}
		}
		if b[2] == leadOut && len(out) > 0 {
			return out, nil
		}
		if b[2] < 1 || b[2] > mostTracks {
			return nil, errContents
		}
		out = append(out, Track{Number: int(b[2]), Session: 1, Start: start, Data: b[1]&0x04 != 0})
	}
	return nil, errors.New("the disc's table of contents has no end")
}

// contents are the entries of a table.
func (d *Drive) contents(ctx context.Context, format byte) ([]byte, error) {
	b, err := d.get(ctx, short, 4096, 0x43, 0, format, 0, 0, 0, 0, 0x10, 0x00, 0)
	if err != nil {
		return nil, err
	}
	if len(b) < 4 {
		return nil, errContents
	}
	return b[4:max(4, min(len(b), 2+int(binary.BigEndian.Uint16(b))))], nil
}

// allSessions reads the table of all sessions: entries of 11 bytes, of which each session has one for its end.
func allSessions(b []byte) ([]Track, error) {
	var out []Track
	ends := map[int]int64{}
	for ; len(b) >= 11; b = b[11:] {
		at := (int64(b[8])*60+int64(b[9]))*secondFrames + int64(b[10]) - firstSecond
		switch point := int(b[3]); {
		case b[1]>>4 != 1: // no position
		case point == sessionEnd:
			ends[int(b[0])] = at
		case point >= 1 && point <= mostTracks:
			out = append(out, Track{Number: point, Session: int(b[0]), Start: at, Data: b[1]&0x04 != 0})
		}
	}
	for i := range out {
		t := &out[i]
		t.End = ends[t.Session]
		if i+1 < len(out) && out[i+1].Session == t.Session {
			t.End = out[i+1].Start
		}
		if t.End <= t.Start || i > 0 && t.Start < out[i-1].End {
			return nil, errContents
		}
	}
	if len(out) == 0 {
		return nil, errContents
	}
	return out, nil
}
