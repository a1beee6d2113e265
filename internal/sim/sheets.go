package sim

import (
	"io/fs"
	"path"
	"regexp"
	"strconv"
	"strings"

	"polytome/internal/format/iso9660"
	"polytome/internal/format/sectors"
)

var (
	cueFile  = regexp.MustCompile(`(?i)^FILE\s+(?:"([^"]*)"|(\S.*?)(?:\s+\S+)?$)`)
	cueTrack = regexp.MustCompile(`(?i)^TRACK\s+([0-9]+)\s+(\S+)`)
	cueIndex = regexp.MustCompile(`(?i)^INDEX(\s+([0-9]+))?\s+(.*)$`)
	cueTime  = regexp.MustCompile(`^([0-9]+):([0-5]?[0-9]):([0-7]?[0-9])$`)
	lapVol   = regexp.MustCompile(`^LAP_[0-9]{5}$`)
	// sectorOf are the bytes of a sector, and where the data begin in it.
	sectorOf = map[string][2]int64{"MODE1/2048": {2048, 0}, "MODE2/2048": {2048, 0}, "MODE1/2352": {2352, 16},
		"MODE2/2352": {2352, 24}, "MODE2/2336": {2336, 8}, "AUDIO": {2352, 0}}
)

// A cueTracked is a track of a sheet.
type cueTracked struct {
	file  string // beside the sheet
	mode  string
	start int64 // in sectors
}

// cueTracks reads a cue sheet; beside is what is where it lies.
func cueTracks(text string, beside []fs.DirEntry, cased bool) (all []cueTracked, why string) {
	file := ""
	mine := false // the file has a track
	for _, line := range linesOf(text) {
		if m := cueFile.FindStringSubmatch(line); m != nil {
			want := strings.TrimPrefix(m[1]+m[2], "./")
			file, mine = "", false
			for _, e := range beside {
				if !e.IsDir() && (e.Name() == want || !cased && strings.EqualFold(e.Name(), want)) {
					file = e.Name()
				}
			}
			if file == "" {
				return nil, "the file " + want + " is not beside it"
			}
			continue
		}
		if m := cueTrack.FindStringSubmatch(line); m != nil {
			n, err := strconv.Atoi(m[1])
			if file == "" || err != nil || n < 1 || n > 99 {
				return nil, "the sheet has a track that is none"
			}
			all, mine = append(all, cueTracked{file: file, mode: strings.ToUpper(m[2])}), true
			continue
		}
		if m := cueIndex.FindStringSubmatch(line); m != nil {
			at := cueTime.FindStringSubmatch(m[3])
			if at == nil || !mine {
				return nil, "the sheet has a time that is none, or that is of no track"
			}
			minutes, _ := strconv.ParseInt(at[1], 10, 64)
			seconds, _ := strconv.ParseInt(at[2], 10, 64)
			frames, _ := strconv.ParseInt(at[3], 10, 64)
			if frames > 74 {
				return nil, "the sheet has a time that is none"
			}
			if n, _ := strconv.Atoi(m[2]); n == 1 {
				all[len(all)-1].start = (minutes*60+seconds)*75 + frames
			}
		}
	}
	if len(all) == 0 {
		return nil, "the sheet names no track"
	}
	return all, ""
}

// tracksWhy tries a cue sheet: all its files must be beside it, and its data track must be a Lapwing volume. Letter
// case counts where a console says so.
func tracksWhy(fsys fs.FS, cue string, beside []fs.DirEntry, cased bool) string {
	text, err := fs.ReadFile(fsys, cue)
	if err != nil {
		return err.Error()
	}
	all, why := cueTracks(string(text), beside, cased)
	if why != "" {
		return why
	}
	tracks := map[string]int{}
	for _, t := range all {
		tracks[t.file]++
	}
	var data *cueTracked
	for i := range all {
		t := &all[i]
		info, err := fs.Stat(fsys, path.Join(path.Dir(cue), t.file))
		if err != nil {
			return err.Error()
		}
		sector, known := sectorOf[t.mode]
		if known && t.mode != "AUDIO" {
			if tracks[t.file] == 1 && info.Size()%sector[0] != 0 {
				return t.file + " is no whole number of sectors"
			}
			if data == nil {
				data = t
			}
		}
		if known && t.start > 0 && t.start*sector[0] >= info.Size() {
			return "a track begins beyond the end of " + t.file
		}
	}
	if data == nil {
		return "there is no data track"
	}
	r, size, done, err := readerAt(fsys, path.Join(path.Dir(cue), data.file))
	if err != nil {
		return err.Error()
	}
	defer done()
	s := sectorOf[data.mode]
	raw := sectors.New(r, size, s[0], s[1], data.start)
	v, err := iso9660.Open(raw, raw.Size())
	switch {
	case err != nil:
		return "its data track holds no volume"
	case !lapVol.MatchString(v.Identifier):
		return "it is no Lapwing disc"
	case v.DeclaredSize() > raw.Size():
		return "its data track is cut short"
	}
	return ""
}
