package survey_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/scan"
	"polytome/internal/testkit/coretest"
)

// TestTheLoadersOwnFilesFollowTheTarget has files of a kit and settings that are wanted on one filesystem only.
func TestTheLoadersOwnFilesFollowTheTarget(t *testing.T) {
	const rules = `format = 1
name = "any"
shown = "Any"
console = "Tern"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32", "exfat"]
[[accept]]
platforms = ["vesper"]
path = "G/{title}.iso"
[kit]
shown = "Any's files"
[[kit.file]]
to = "boot.bin"
from = ["boot.bin"]
when = "filesystem is fat32"
why = "it starts from FAT32 by this"
[[kit.file]]
to = "note.txt"
text = "exFAT"
when = "filesystem is exfat and via is usb"
why = "a note"
[[setting]]
file = "any.cfg"
syntax = "key=value"
key = "big"
value = "yes"
when = "filesystem is exfat"
lists = true
otherwise = "it lists nothing"
remedy = "set it"
`
	for filesystem, want := range map[string]string{
		"fat32": "fault kit boot.bin: missing: it starts from FAT32 by this\n",
		"exfat": "stops setting any.cfg: the file is missing: it lists nothing\n",
	} {
		dir := t.TempDir()
		coretest.Write(t, dir, "games/a.iso", coretest.Image(t, coretest.Inf("VSP-00001", "Copper Tide", "1/1",
			"full")))
		set := knownTo(t, filepath.Join(dir, "known"), rules)
		r, err := scan.Scan(t.Context(), []string{filepath.Join(dir, "games")}, scan.Options{Set: set})
		require.NoError(t, err)
		w := oneStick(t, dir, set, "any", filesystem, r.Titles)
		w.fill(0)
		if filesystem == "exfat" {
			assert.FileExists(t, w.at("Stick", "note.txt"))
		} else {
			assert.NoFileExists(t, w.at("Stick", "note.txt"))
		}
		report, err := w.look(0).Check(t.Context(), check.Inside)
		require.NoError(t, err)
		assert.Equal(t, want, findings(report), filesystem)
	}
}
