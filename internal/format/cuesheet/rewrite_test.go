package cuesheet_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/format/cuesheet"
)

func TestRenamingChangesNamesAlone(t *testing.T) {
	text := "\uFEFFREM made by hand\r\nFILE \"Two Tides (1).bin\" BINARY\r\n  TRACK 01 MODE1/2352\r\n    INDEX 01 " +
		"00:00:00\r\nfile  data\\second track.bin   binary\n  TRACK 02 AUDIO\n    INDEX 01 00:00:00"
	got := cuesheet.Rename(text, map[string]string{"Two Tides (1).bin": "Two Tides.bin",
		"data/second track.bin": "Two Tides 02.bin"})
	want := strings.Replace(strings.Replace(text, "Two Tides (1).bin", "Two Tides.bin", 1), `data\second track.bin`,
		`"Two Tides 02.bin"`, 1)
	assert.Equal(t, want, got)
	s, err := cuesheet.Parse(got)
	require.NoError(t, err)
	assert.Equal(t, []string{"Two Tides.bin", "Two Tides 02.bin"}, []string{s.Files[0].Name, s.Files[1].Name})
	assert.Equal(t, text, cuesheet.Rename(text, nil))
}

func TestFilesBecomeOne(t *testing.T) {
	text := "REM x\nFILE a.bin BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\nFILE b.wav WAVE\n  TRACK 02 " +
		"AUDIO\n    PREGAP 00:02:00\n    INDEX 00 00:00:00\n    INDEX 01 00:02:00\n  TRACK 03 AUDIO\n    INDEX 01 " +
		"00:03:10\n"
	got, err := cuesheet.Merge(text, []int64{100 * 2352, 300 * 2352}, "all in one.bin")
	require.NoError(t, err)
	assert.Equal(t, "REM x\nFILE \"all in one.bin\" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n  TRACK 02 "+
		"AUDIO\n    PREGAP 00:02:00\n    INDEX 00 00:01:25\n    INDEX 01 00:03:25\n  TRACK 03 AUDIO\n    INDEX 01 "+
		"00:04:35\n", got)
	s, err := cuesheet.Parse(got)
	require.NoError(t, err)
	spans, err := s.Spans([]int64{400 * 2352})
	require.NoError(t, err)
	assert.EqualValues(t, 250*2352, spans[1].At, "where it was in its own file, behind the first one")
}

func TestSheetsThatDoNotFitTheirFiles(t *testing.T) {
	track := func(n, mode, at string) string {
		return "TRACK " + n + " " + mode + "\nINDEX 01 " + at + "\n"
	}
	for name, c := range map[string]struct {
		text  string
		sizes []int64
		want  string
	}{
		"overlap": {"FILE a.bin BINARY\n" + track("1", "MODE1/2352", "00:02:00") + track("2", "AUDIO",
			"00:01:00"), []int64{1000 * 2352}, "track 2 overlaps track 1 in a.bin"},
		"the same start": {"FILE a.bin BINARY\n" + track("1", "AUDIO", "00:02:00") + track("2", "AUDIO",
			"00:02:00"), []int64{1000 * 2352}, "track 2 overlaps track 1"},
		"behind the end": {"FILE a.bin BINARY\n" + track("1", "AUDIO", "00:02:00"), []int64{10 * 2352},
			"track 1 begins behind the end of a.bin"},
		"cut short": {"FILE a.bin BINARY\n" + track("1", "AUDIO", "00:00:00"), []int64{1000},
			"no whole sectors of 2352"},
		"an unknown mode": {"FILE a.bin BINARY\n" + track("1", "CDG", "00:00:00"), []int64{2448},
			"the mode CDG, which is not known"},
		"out of order": {"FILE a.bin BINARY\n" + track("2", "AUDIO", "00:00:00") + track("1", "AUDIO",
			"00:01:00"), []int64{1000 * 2352}, "track 1 comes behind track 2"},
		"a gap that crosses": {"FILE a.bin BINARY\n" + track("1", "AUDIO", "00:02:00") +
			"TRACK 2 AUDIO\nINDEX 00 00:01:00\nINDEX 01 00:04:00\n", []int64{1000 * 2352}, "track 2 overlaps track 1"},
	} {
		s, err := cuesheet.Parse(c.text)
		require.NoError(t, err, name)
		_, err = s.Spans(c.sizes)
		assert.ErrorContains(t, err, c.want, name)
		_, err = cuesheet.Merge(c.text, c.sizes, "x.bin")
		assert.ErrorContains(t, err, c.want, name)
	}
	_, err := cuesheet.Merge("FILE a.iso BINARY\n"+track("1", "MODE1/2048", "00:00:00"), []int64{2048}, "x.bin")
	assert.ErrorContains(t, err, "sectors of 2048 bytes: only tracks with full sectors")
	_, err = cuesheet.Merge("FILE a.bin MOTOROLA\n"+track("1", "AUDIO", "00:00:00"), []int64{2352}, "x.bin")
	assert.ErrorContains(t, err, "the other way round")
	_, err = cuesheet.Merge("FILE a.bin BINARY\n"+track("1", "AUDIO", "00:00:00"), nil, "x.bin")
	assert.ErrorContains(t, err, "names 1 files, and there are 0")
}

// TestAnyDiscKeepsItsTracks merges discs of any number of files and tracks: every track stays where it was.
func TestAnyDiscKeepsItsTracks(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var text strings.Builder
		var sizes []int64
		var want []int64
		number, base := 0, int64(0)
		for range rapid.IntRange(1, 5).Draw(rt, "files") {
			text.WriteString("FILE \"" + rapid.StringMatching(`[a-z]{1,8}`).Draw(rt, "name") + ".bin\" BINARY\n")
			at := 0
			for range rapid.IntRange(1, 4).Draw(rt, "tracks") {
				number++
				at += rapid.IntRange(0, 300).Draw(rt, "gap")
				text.WriteString("  TRACK " + strings.TrimPrefix(cuesheet.Time(number), "00:00:") +
					" AUDIO\n    INDEX 01 " + cuesheet.Time(at) + "\n")
				want = append(want, base+int64(at)*2352)
				at += rapid.IntRange(1, 300).Draw(rt, "length")
			}
			sizes = append(sizes, int64(at)*2352)
			base += int64(at) * 2352
		}
		merged, err := cuesheet.Merge(text.String(), sizes, "one.bin")
		require.NoError(rt, err)
		s, err := cuesheet.Parse(merged)
		require.NoError(rt, err)
		spans, err := s.Spans([]int64{base})
		require.NoError(rt, err)
		for i := range want {
			require.Equal(rt, want[i], spans[i].At)
		}
	})
}
