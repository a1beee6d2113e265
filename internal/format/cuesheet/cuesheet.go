// Package cuesheet reads and rewrites cue sheets: small text files that report which files hold
// the tracks of a disc. There is no standard; read are the commands FILE, TRACK, INDEX,
// PREGAP and POSTGAP in any letter case, with names in quotes or without, with a byte order
// mark and any line ends. Other commands (REM, TITLE, CATALOG …) are skipped.
package cuesheet

import (
	"fmt"
	"path"
	"strconv"
	"strings"
)

// A Sheet is what a cue sheet says.
type Sheet struct {
	Files []File
}

// A File is one file that holds tracks.
type File struct {
	Name   string // as written, with slashes
	Type   string // BINARY, MOTOROLA, WAVE …, in upper case
	Tracks []Track
}

// A Track is one track of a disc.
type Track struct {
	Number int
	Mode   string // such as MODE1/2352 or AUDIO, in upper case
	Start  int    // of index 1 in the file, in sectors
	Gap    int    // of index 0 in the file, in sectors; -1 where there is none
}

// Data reports whether the track holds data, and how: the bytes of a sector, and where the
// 2048 bytes of user data begin in it (ECMA-130, clause 14; mode 2 form 1 has its
// subheader in front).
func (t Track) Data() (sector, offset int64, ok bool) {
	switch t.Mode {
	case "MODE1/2048", "MODE2/2048":
		return 2048, 0, true
	case "MODE1/2352":
		return 2352, 16, true
	case "MODE2/2352":
		return 2352, 24, true
	case "MODE2/2336":
		return 2336, 8, true
	}
	return 0, 0, false
}

// FirstData is the first data track and the index of its file; ok is false for a disc
// of music alone.
func (s *Sheet) FirstData() (file int, t Track, ok bool) {
	for i, f := range s.Files {
		for _, t := range f.Tracks {
			if _, _, ok := t.Data(); ok {
				return i, t, true
			}
		}
	}
	return 0, Track{}, false
}

// A SyntaxError reports a line that cannot be parsed.
type SyntaxError struct {
	Line int // from 1
	Say  string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.Say) }

// The most that a sheet may hold: a disc has at most 99 tracks (ECMA-130, 22.3.3).
const (
	MaxBytes  = 1 << 20
	maxTracks = 99
)

// Parse reads a cue sheet.
func Parse(text string) (*Sheet, error) {
	s := &Sheet{}
	tracks := 0
	for i, line := range strings.FieldsFunc(strings.TrimPrefix(text, "\uFEFF"),
		func(r rune) bool { return r == '\n' || r == '\r' }) {
		fail := func(format string, args ...any) error {
			return &SyntaxError{i + 1, fmt.Sprintf(format, args...)}
		}
		words := split(line)
		if len(words) == 0 {
			continue
		}
		switch command := strings.ToUpper(words[0]); command {
		case "FILE":
			if len(words) < 2 || words[1] == "" {
				return nil, fail("FILE names no file")
			}
			f := File{Name: path.Clean(strings.ReplaceAll(words[1], `\`, "/")), Type: "BINARY"}
			if len(words) > 2 {
				f.Type = strings.ToUpper(words[2])
			}
			if path.IsAbs(f.Name) || strings.HasPrefix(f.Name, "../") || f.Name == ".." || len(f.Name) > 1 &&
				f.Name[1] == ':' {
				return nil, fail("the file %q is not beside the cue sheet", words[1])
			}
			s.Files = append(s.Files, f)
		case "TRACK":
			if len(s.Files) == 0 {
				return nil, fail("there is a TRACK before any FILE")
			}
			if len(words) < 3 {
				return nil, fail("TRACK needs a number and a mode")
			}
			n, err := strconv.Atoi(words[1])
			if err != nil || n < 1 || n > maxTracks {
				return nil, fail("%q is no track number: those are 1 to %d", words[1], maxTracks)
			}
			if tracks++; tracks > maxTracks {
				return nil, fail("a disc has at most %d tracks", maxTracks)
			}
			f := &s.Files[len(s.Files)-1]
			f.Tracks = append(f.Tracks, Track{Number: n, Mode: strings.ToUpper(words[2]), Gap: -1})
		case "INDEX", "PREGAP", "POSTGAP":
			if len(s.Files) == 0 || len(s.Files[len(s.Files)-1].Tracks) == 0 {
				return nil, fail("there is an %s before any TRACK", command)
			}
			at, err := msf(words[len(words)-1])
			if err != nil {
				return nil, fail("%v", err)
			}
			f := &s.Files[len(s.Files)-1]
			t := &f.Tracks[len(f.Tracks)-1]
			if command == "INDEX" && len(words) == 3 {
				switch strings.TrimLeft(words[1], "0") {
				case "1":
					t.Start = at
				case "":
					t.Gap = at
				}
			}
		}
	}
	if len(s.Files) == 0 || tracks == 0 {
		return nil, &SyntaxError{1, "this is no cue sheet: it names no file with tracks"}
	}
	return s, nil
}

// split divides a line into words; quotes hold words together.
func split(line string) []string {
	var out []string
	for line = strings.TrimSpace(line); line != ""; line = strings.TrimSpace(line) {
		if line[0] == '"' {
			word, rest, _ := strings.Cut(line[1:], `"`)
			out, line = append(out, word), rest
			continue
		}
		if len(out) == 1 && strings.EqualFold(out[0], "FILE") { // a name without quotes may hold spaces
			if i := strings.LastIndexAny(line, " \t"); i > 0 {
				out, line = append(out, strings.TrimSpace(line[:i])), line[i:]
				continue
			}
		}
		word, rest := line, ""
		if i := strings.IndexAny(line, " \t"); i >= 0 {
			word, rest = line[:i], line[i:]
		}
		out, line = append(out, word), rest
	}
	return out
}

// msf reads a time of minutes, seconds and frames, 75 to a second, as sectors.
func msf(s string) (int, error) {
	parts := strings.Split(s, ":")
	if len(parts) != 3 {
		return 0, fmt.Errorf("%q is no time; write minutes:seconds:frames", s)
	}
	total := 0
	for i, limit := range []int{1 << 16, 60, 75} {
		n, err := strconv.Atoi(parts[i])
		if err != nil || n < 0 || n >= limit {
			return 0, fmt.Errorf("%q is no time; write minutes:seconds:frames", s)
		}
		total = total*[]int{1, 60, 75}[i] + n
	}
	return total, nil
}
