package cuesheet

import (
	"fmt"
	"path"
	"strings"
)

// SectorBytes is how many bytes a sector of the track has in its file; 0 for a mode that is not known.
func (t Track) SectorBytes() int64 {
	if n, _, ok := t.Data(); ok {
		return n
	}
	if t.Mode == "AUDIO" {
		return RawSector
	}
	return 0
}

// RawSector is the bytes of a whole sector: what a track of music has, and a data track with its
// error correction (ECMA-130, clause 14).
const RawSector = 2352

// A Span is where a track is in its file.
type Span struct {
	Track
	File       int   // index of its file
	At, Length int64 // from index 1 to that of the next track, or to the end of the file; in bytes
}

// Spans finds where the tracks lie, when the files have so many bytes (without the header of a WAVE
// file). Tracks that overlap, or lie behind the end of their file, are an error.
func (s *Sheet) Spans(sizes []int64) (out []Span, err error) {
	last := 0
	for i, f := range s.Files {
		var at int64 // where the track before ends
		for k, t := range f.Tracks {
			n := t.SectorBytes()
			switch {
			case n == 0:
				return nil, fmt.Errorf("track %d is of the mode %s, which is not known", t.Number, t.Mode)
			case t.Number <= last:
				return nil, fmt.Errorf("track %d comes behind track %d", t.Number, last)
			}
			last = t.Number
			start := int64(t.Start) * n
			if k > 0 { // its sectors are counted as those of the tracks before it are long
				was := f.Tracks[k-1]
				start = at + int64(t.Start-was.Start)*was.SectorBytes()
				if t.Start <= was.Start || t.Gap >= 0 && t.Gap < was.Start {
					return nil, fmt.Errorf("track %d overlaps track %d in %s", t.Number, was.Number, f.Name)
				}
				out[len(out)-1].Length = start - at
			}
			if t.Gap > t.Start {
				return nil, fmt.Errorf("track %d begins before its gap does", t.Number)
			}
			if start > sizes[i] || start == sizes[i] && sizes[i] > 0 {
				return nil, fmt.Errorf("track %d begins behind the end of %s", t.Number, f.Name)
			}
			out = append(out, Span{t, i, start, sizes[i] - start})
			at = start
		}
	}
	for i := range out {
		if r := out[i].Length % out[i].SectorBytes(); r != 0 {
			return nil, fmt.Errorf("track %d has %d bytes, which are no whole sectors of %d: its file is cut short, "+
				"or of another kind", out[i].Number, out[i].Length, out[i].SectorBytes())
		}
	}
	return out, nil
}

// Rename gives files other names in the text of a sheet, by the names that it tells with slashes.
// Nothing else in the text is changed.
func Rename(text string, names map[string]string) string {
	return eachLine(text, func(line string) (string, bool) {
		words := split(line)
		if len(words) < 2 || !strings.EqualFold(words[0], "FILE") {
			return line, true
		}
		to, ok := names[path.Clean(strings.ReplaceAll(words[1], `\`, "/"))]
		if !ok {
			return line, true
		}
		at := strings.Index(line, words[1])
		rest := line[at+len(words[1]):]
		if at > 0 && line[at-1] == '"' {
			return line[:at] + to + rest, true
		}
		return line[:at] + `"` + to + `"` + rest, true
	})
}

// eachLine changes the lines of a text; their ends stay. A line that is not kept is left out.
func eachLine(text string, change func(line string) (string, bool)) string {
	var b strings.Builder
	if rest, ok := strings.CutPrefix(text, "\uFEFF"); ok {
		b.WriteString("\uFEFF")
		text = rest
	}
	for text != "" {
		n := strings.IndexAny(text, "\r\n")
		end := n + 1
		if n < 0 {
			n, end = len(text), len(text)
		} else if strings.HasPrefix(text[n:], "\r\n") {
			end++
		}
		if line, keep := change(text[:n]); keep {
			b.WriteString(line)
			b.WriteString(text[n:end])
		}
		text = text[end:]
	}
	return b.String()
}

// Merge rewrites the text of a sheet of several files for one file in which they follow one another, when
// they have so many bytes (without the header of a WAVE file). All must have whole raw sectors.
func Merge(text string, sizes []int64, name string) (string, error) {
	s, err := Parse(text)
	if err != nil {
		return "", err
	}
	if len(sizes) != len(s.Files) {
		return "", fmt.Errorf("the sheet names %d files, and there are %d", len(s.Files), len(sizes))
	}
	if _, err := s.Spans(sizes); err != nil {
		return "", err
	}
	for _, f := range s.Files {
		for _, t := range f.Tracks {
			if t.SectorBytes() != RawSector {
				return "", fmt.Errorf("track %d has sectors of %d bytes: only tracks with full sectors (%d) can be "+
					"joined", t.Number, t.SectorBytes(), RawSector)
			}
		}
		if f.Type == "MOTOROLA" {
			return "", fmt.Errorf("%s has its bytes the other way round", f.Name)
		}
	}
	file, base := -1, 0
	return eachLine(text, func(line string) (string, bool) {
		words := split(line)
		if len(words) == 0 {
			return line, true
		}
		switch strings.ToUpper(words[0]) {
		case "FILE":
			if file >= 0 {
				base += int(sizes[file] / RawSector)
			}
			file++
			if file > 0 {
				return "", false
			}
			return `FILE "` + name + `" BINARY`, true
		case "INDEX":
			if len(words) < 3 {
				return line, true
			}
			at, err := msf(words[2])
			if err != nil {
				return line, true
			}
			i := strings.LastIndex(line, words[2])
			return line[:i] + Time(at+base) + line[i+len(words[2]):], true
		}
		return line, true
	}), nil
}

// Time writes a number of sectors as minutes, seconds and frames, 75 to a second.
func Time(sectors int) string {
	return fmt.Sprintf("%02d:%02d:%02d", sectors/75/60, sectors/75%60, sectors%75)
}

// One is the sheet of a disc with a single track.
func One(file, mode string) string {
	return fmt.Sprintf("FILE %q BINARY\n  TRACK 01 %s\n    INDEX 01 00:00:00\n", file, mode)
}
