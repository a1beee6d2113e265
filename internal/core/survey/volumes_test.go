package survey_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/scan"
	"polytome/internal/testkit/coretest"
)

// onVolumes has the front end on one volume and games on others, by their kind and by how large the disk is.
const onVolumes = `format = 1
name = "any"
shown = "Any"
[[attachment]]
name = "disk"
via = "usb"
filesystems = ["exfat"]
reserve = "1MiB"
[[attachment.volume]]
name = "front"
for = "what the console starts from"
[[attachment.volume]]
name = "store"
for = "games"
reserve = "100MiB"
[[accept]]
platforms = ["vesper"]
when = "volume is store and capacity over 500MiB"
path = "all/{kind}/{title}.iso"
[[accept]]
platforms = ["vesper"]
when = "volume is store and kind is full"
path = "games/{title}.iso"
[[list]]
path = "games.lst"
when = "volume is store"
line = "{title}\n"
[[kit.file]]
to = "start.cfg"
text = "games=store\n"
when = "volume is front"
[[setting]]
file = "start.cfg"
syntax = "key=value"
key = "games"
value = "store"
when = "volume is front"
lists = true
[[example]]
platform = "vesper"
name = "Owl"
kind = "full"
volume = "store"
capacity = "100MiB"
paths = ["games/Owl.iso"]
lists = { "games.lst" = "Owl\n" }
[[example]]
platform = "vesper"
name = "Owl"
kind = "full"
volume = "front"
refused = "only when the volume is store"
`

// TestRulesAskForTheVolume: which volume a target is says its folder, its label or the bench, and rules, files of the
// kit, settings and what stays free follow from it; the check agrees.
func TestRulesAskForTheVolume(t *testing.T) {
	dir := t.TempDir()
	for file, kind := range map[string]string{"Owl": "full", "Reed": "short"} {
		coretest.Write(t, dir, "games/"+file+".iso",
			coretest.Image(t, coretest.Inf(map[string]string{"Owl": "VSP-00001", "Reed": "VSP-00002"}[file], file,
				"1/1", kind)))
	}
	set := knownTo(t, filepath.Join(dir, "known"), onVolumes)
	r, err := scan.Scan(t.Context(), []string{filepath.Join(dir, "games")}, scan.Options{Set: set})
	require.NoError(t, err)
	w := oneStick(t, dir, set, "any", "exfat", r.Titles)
	w.bench.Targets = nil
	for name, c := range map[string]bench.Target{"Store": {Capacity: 200 << 20}, "front": {Capacity: 200 << 20},
		"other": {Capacity: 1 << 30, Volume: "store"}, "Nobody": {Capacity: 1 << 30}} {
		c.Name, c.At, c.Loader, c.Via, c.As, c.Everything = name, filepath.Join(dir, name), "any", "usb", "exfat", true
		coretest.Write(t, dir, name+"/notes.txt", nil)
		w.bench.Targets = append(w.bench.Targets, c)
	}
	want := map[string][]string{
		"Store":  {"games.lst", "games/Owl.iso", "notes.txt"},
		"front":  {"notes.txt"},
		"other":  {"all/full/Owl.iso", "all/short/Reed.iso", "games.lst", "notes.txt"},
		"Nobody": {"notes.txt"},
	}
	for n, c := range w.bench.Targets {
		s := w.look(n)
		free := s.Sheet.Free()
		reserve := map[bool]int64{true: 100 << 20, false: 1 << 20}[c.Name == "Store" || c.Name == "other"]
		assert.Less(t, free, int64(c.Capacity)-reserve)
		assert.Greater(t, free, int64(c.Capacity)-reserve-(4<<20), c.Name)
		w.fill(n)
		var got []string
		for p := range contents(t, c.At) {
			if !strings.HasSuffix(p, "/") {
				got = append(got, p)
			}
		}
		assert.ElementsMatch(t, want[c.Name], got, c.Name)
		for i := range s.Titles {
			if c.Name == "front" || c.Name == "Nobody" {
				assert.Contains(t, s.Sheet.Explain(i).Say, "only when the volume is store")
			}
		}
		if c.Name == "front" {
			coretest.Write(t, dir, "front/games/Owl.iso", []byte("x"))
			coretest.Write(t, dir, "front/start.cfg", []byte("games=no\n"))
		}
		report, err := w.look(n).Check(t.Context(), check.Inside)
		require.NoError(t, err)
		if c.Name != "front" {
			assert.Empty(t, findings(report), c.Name)
			assert.Len(t, report.Listed, map[string]int{"Store": 1, "other": 2}[c.Name])
			continue
		}
		assert.Contains(t, findings(report),
			"not-served games/Owl.iso: Any ignores it: games are there only when the volume is store")
		assert.Contains(t, findings(report), "setting start.cfg")
	}
}
