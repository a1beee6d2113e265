package cuesheet_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/cuesheet"
)

func TestSheetsAsPeopleHaveThem(t *testing.T) {
	one := cuesheet.File{Name: "Two Tides.bin", Type: "BINARY", Tracks: []cuesheet.Track{{Number: 1, Mode: "MODE1/2352",
		Gap: -1}}}
	for name, c := range map[string]struct {
		text string
		want []cuesheet.File
	}{
		"plain": {"FILE \"Two Tides.bin\" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n",
			[]cuesheet.File{one}},
		"CRLF and mark": {"\uFEFFFILE \"Two Tides.bin\" BINARY\r\n  TRACK 01 MODE1/2352\r\n    INDEX 01 00:00:00\r\n",
			[]cuesheet.File{one}},
		"no quotes": {"file Two Tides.bin binary\ntrack 1 mode1/2352\nindex 01 00:00:00", []cuesheet.File{one}},
		"other commands": {"REM GENRE x\nCATALOG 1\nTITLE \"a\"\nFILE \"Two Tides.bin\" BINARY\n TRACK 01 " +
			"MODE1/2352\n  FLAGS DCP\n  PREGAP 00:02:00\n  INDEX 01 00:00:00\n", []cuesheet.File{one}},
		"two files, music": {"FILE a.bin BINARY\nTRACK 01 MODE2/2352\nINDEX 01 00:00:00\nFILE b.bin BINARY\nTRACK 02 " +
			"AUDIO\nINDEX 00 00:00:00\nINDEX 01 00:02:10\n",
			[]cuesheet.File{{Name: "a.bin", Type: "BINARY", Tracks: []cuesheet.Track{{Number: 1, Mode: "MODE2/2352",
				Gap: -1}}}, {Name: "b.bin", Type: "BINARY", Tracks: []cuesheet.Track{{Number: 2, Mode: "AUDIO",
				Start: 160}}}}},
		"backslashes": {`FILE "data\a.bin" BINARY` + "\nTRACK 01 MODE1/2048\nINDEX 01 00:00:00",
			[]cuesheet.File{{Name: "data/a.bin", Type: "BINARY",
				Tracks: []cuesheet.Track{{Number: 1, Mode: "MODE1/2048", Gap: -1}}}}},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := cuesheet.Parse(c.text)
			require.NoError(t, err)
			assert.Equal(t, c.want, s.Files)
		})
	}
	s, err := cuesheet.Parse("FILE a.wav WAVE\nTRACK 01 AUDIO\nINDEX 01 00:00:00")
	require.NoError(t, err)
	_, _, ok := s.FirstData()
	assert.False(t, ok, "a disc of music")
}

func TestSheetsThatMakeNoSense(t *testing.T) {
	for text, want := range map[string]string{
		"":                                     "this is no cue sheet",
		"TRACK 01 AUDIO":                       "line 1: there is a TRACK before any FILE",
		"FILE a.bin BINARY\nINDEX 01 00:00:00": "line 2: there is an INDEX before any TRACK",
		"FILE a.bin BINARY\nTRACK x AUDIO":     `line 2: "x" is no track number`,
		"FILE a.bin BINARY\nTRACK 100 AUDIO":   "those are 1 to 99",
		"FILE a.bin BINARY\nTRACK 1":           "TRACK needs a number and a mode",
		"FILE a.bin BINARY\nTRACK 1 AUDIO\nINDEX 01 00:61:00": `line 3: "00:61:00" is no time`,
		"FILE \"../../a.bin\" BINARY\nTRACK 1 AUDIO":          "is not beside the cue sheet",
		"FILE \"/etc/a\" BINARY\nTRACK 1 AUDIO":               "is not beside the cue sheet",
		"FILE":                                                "FILE names no file",
	} {
		_, err := cuesheet.Parse(text)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("FILE \"a.bin\" BINARY\r\n  TRACK 01 MODE1/2352\r\n    INDEX 01 00:00:00\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := cuesheet.Parse(text)
		if err != nil {
			return
		}
		for _, file := range s.Files {
			if file.Name == "" || file.Name[0] == '/' || file.Name == ".." {
				t.Fatalf("%q leads away", file.Name)
			}
		}
	})
}
