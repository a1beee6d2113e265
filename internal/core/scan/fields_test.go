package scan_test

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/testkit/coretest"
)

// TestValuesFromFilesOfTheirOwn: a value may be read from another file than the marker, by a key, a line, or as binary
// data.
func TestValuesFromFilesOfTheirOwn(t *testing.T) {
	p, err := loader.ParsePlatform("gannet.toml", []byte(`format = 1
name = "gannet"
shown = "Gannet"
forms = ["folder"]

[[marker]]
file = "start.json"
syntax = "json"

[field.id]
key = "id"
required = true

[field.name]
file = "more/about.json"
key = "called"

[field.region]
file = "where.txt"
line = 2

[field.disc]
file = "set.bin"
offset = 4
length = 2
encoding = "number-le"
`))
	require.NoError(t, err)
	dir := t.TempDir()
	whole := map[string][]byte{"start.json": []byte(`{"id":"GN-0001"}`),
		"more/about.json": []byte(`{"called":"Ninepin Alley"}`), "where.txt": []byte("x\nNorth\n"),
		"set.bin": append([]byte("disc"), binary.LittleEndian.AppendUint16(nil, 1)...)}
	for name, data := range whole {
		coretest.Write(t, dir, "whole/"+name, data)
	}
	coretest.Write(t, dir, "bare/start.json", []byte(`{"id":"GN-0002"}`))
	coretest.Write(t, dir, "odd/start.json", []byte(`{"id":"GN-0003"}`))
	coretest.Write(t, dir, "odd/more/about.json", []byte("not JSON"))
	coretest.Write(t, dir, "odd/where.txt", nil)
	coretest.Write(t, dir, "odd/set.bin", []byte("d"))
	r, err := scan.Scan(t.Context(), []string{dir}, scan.Options{Set: &loader.Set{Platforms: []*loader.Platform{p}}})
	require.NoError(t, err)
	require.Empty(t, r.Problems)
	require.Len(t, r.Titles, 3)
	for i := range r.Titles {
		got := &r.Titles[i]
		switch got.ID {
		case "GN-0001":
			assert.Equal(t, [2]string{"Ninepin Alley", "North"}, [2]string{got.Name, got.Region})
			assert.True(t, got.OK(), got.Findings)
		case "GN-0002":
			assert.Equal(t, "bare", got.Name, "what is reported nowhere is named as its folder")
		case "GN-0003":
			require.NotEmpty(t, got.Findings)
			assert.Contains(t, got.Findings[0].Say, "not JSON", "what cannot be read is said")
		}
	}
}

// TestAFileIsNoFolder: a platform whose games are folders as well as files is known by either, each for what it is.
func TestAFileIsNoFolder(t *testing.T) {
	p, err := loader.ParsePlatform("teasel.toml", []byte(`format = 1
name = "teasel"
shown = "Teasel"
forms = ["folder", "cartridge"]
extensions = [".tsl"]

[[marker]]
file = "start.tsl"

[[marker]]
magic = "TEASEL"
`))
	require.NoError(t, err)
	dir := t.TempDir()
	coretest.Write(t, dir, "one/start.tsl", []byte("x"))
	coretest.Write(t, dir, "two.tsl", []byte("TEASEL and more"))
	r, err := scan.Scan(t.Context(), []string{dir}, scan.Options{Set: &loader.Set{Platforms: []*loader.Platform{p}}})
	require.NoError(t, err)
	got := map[string]title.Form{}
	for i := range r.Titles {
		got[r.Titles[i].Name] = r.Titles[i].Form
	}
	assert.Equal(t, map[string]title.Form{"one": title.Folder, "two": title.Cartridge}, got)
}
