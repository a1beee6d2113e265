package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/cover"
	"polytome/internal/demo"
	"polytome/internal/sim/pictures"
	"polytome/internal/testkit/demoworld"
)

// shelfBench is the demo with its server of pictures running.
func shelfBench(t *testing.T) (w demo.World, server *pictures.Server) {
	w = demoworld.Open(t)
	server, err := pictures.Start(demo.Pictures())
	require.NoError(t, err)
	t.Cleanup(func() { _ = server.Close() })
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	b.Covers.Servers[0].URL = server.URL()
	b.Targets = b.Targets[:1]
	require.NoError(t, b.Save())
	return w, server
}

func TestCoversFromTheCommandLine(t *testing.T) {
	w, server := shelfBench(t)
	status, out, stderr := polytome(t, "covers", "report", "--bench", w.Bench, "--only", "platform:vesper")
	assert.Equal(t, statusPartial, status, stderr)
	assert.Contains(t, out, "front  Copper Tide  beside the game")
	assert.Contains(t, out, "disc   Copper Tide  in your pictures, by its ID")
	assert.Contains(t, out, "front  Tin Harbour  in the game itself")
	assert.Contains(t, out, "front  Lantern Sluice  in your pictures, by its name")
	assert.NotContains(t, out, "Fog Signal", "only what was asked for")

	status, out, stderr = polytome(t, "covers", "fetch", "--bench", w.Bench, "--json")
	assert.Equal(t, statusPartial, status, stderr)
	var r cover.Report
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	assert.Equal(t, 48, r.Fetched)
	says := map[string]string{}
	for _, o := range r.Outcomes {
		if o.Of == "front" {
			says[o.Label] = o.State
		}
	}
	assert.Equal(t, map[string]string{"Underbough": "refused", "Quarry & Sons": "refused",
		"Salt & Semaphore": "refused", "Bell Buoy": "refused", "Lockkeeper": "refused", "Cinder Path": "missing",
		"Fog Signal": "proposed", "Quillwork": "proposed", "Tin Harbour": "found", "Pilot Boat Juniper": "found"},
		map[string]string{"Underbough": says["Underbough"], "Quarry & Sons": says["Quarry & Sons"],
			"Salt & Semaphore": says["Salt & Semaphore"], "Bell Buoy": says["Bell Buoy"],
			"Lockkeeper":  says["Lockkeeper"],
			"Cinder Path": says["Cinder Path"], "Fog Signal": says["Fog Signal"], "Quillwork": says["Quillwork"],
			"Tin Harbour": says["Tin Harbour"], "Pilot Boat Juniper": says["Pilot Boat Juniper"]})
	require.NoError(t, server.Close())
	_, out, _ = polytome(t, "covers", "fetch", "--bench", w.Bench, "--only", "platform:vesper")
	assert.Contains(t, out, "0 downloaded (0 bytes)")
	status, out, _ = polytome(t, "scan", "--bench", w.Bench, "--json")
	assert.Zero(t, status)
	assert.Contains(t, out, "The ferry has lost its bell", "descriptions are taken over")

	picture := filepath.Join(w.Dir, "covers", "Quilwork.jpg")
	status, out, stderr = polytome(t, "covers", "set", "--bench", w.Bench, "Quillwork", picture)
	assert.Zero(t, status, stderr)
	assert.Equal(t, "The front picture of Quillwork is chosen.\n", out)
	status, _, stderr = polytome(t, "covers", "set", "--bench", w.Bench, "VSP-20417", "--crop", "100,0,100,0")
	assert.Zero(t, status, stderr)
	status, out, _ = polytome(t, "covers", "set", "--bench", w.Bench, "VSP-21588", "--none", "--json")
	assert.Zero(t, status)
	assert.JSONEq(t,
		`{"title": "VSP-21588", "label": "Tin Harbour", "disc": 1, "chosen": {"of": "front", "none": true}}`, out)
	b, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	for _, want := range []string{"file = 'covers/Quilwork.jpg'", "crop = [100, 0, 100, 0]", "none = true"} {
		assert.Contains(t, string(b), want)
	}
	_, out, _ = polytome(t, "covers", "report", "--bench", w.Bench)
	assert.Contains(t, out, "front  Quillwork  chosen by hand")
	assert.Contains(t, out, "front  Tin Harbour  chosen by hand  none is wanted")
	status, out, _ = polytome(t, "covers", "set", "--bench", w.Bench, "VSP-21588", "--clear")
	assert.Zero(t, status)
	assert.Contains(t, out, "the one that was found")
	_, out, stderr = polytome(t, "plan", "--bench", w.Bench)
	assert.Contains(t, out, "FACES/front/VSP-20417.jpg", stderr)
}

func TestMistakesWithCovers(t *testing.T) {
	w, _ := shelfBench(t)
	bad := filepath.Join(t.TempDir(), "bad.png")
	require.NoError(t, os.WriteFile(bad, []byte("<html>"), 0o644))
	for _, c := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"covers", "fetch"}, statusUsage, "--bench FILE is needed"},
		{[]string{"covers", "fetch", "--bench", w.Bench, "--of", "fronts"}, statusUsage, "unknown kind of picture"},
		{[]string{"covers", "report", "--bench", w.Bench, "--only", "size<x"}, statusUsage, "x"},
		{[]string{"covers", "report", "--bench", "/nowhere.toml"}, statusFailed, "there is no bench"},
		{[]string{"covers", "set", "--bench", w.Bench, "Nobody", bad}, statusUsage,
			`no title has the ID or name "Nobody"`},
		{[]string{"covers", "set", "--bench", w.Bench, "Tollbridge", bad}, statusUsage, "several titles are named"},
		{[]string{"covers", "set", "--bench", w.Bench, "VSP-20417", bad}, statusFailed,
			"bad.png: it is a web page, not a picture"},
		{[]string{"covers", "set", "--bench", w.Bench, "VSP-20417", "/nowhere.png"}, statusFailed, "no such file"},
		{[]string{"covers", "set", "--bench", w.Bench, "VSP-20417", "--crop", "600,0,600,0"}, statusUsage,
			"four numbers in thousandths"},
		{[]string{"covers", "set", "--bench", w.Bench, "VSP-20417", "--crop", "1,2"}, statusUsage,
			"four numbers in thousandths"},
		{[]string{"covers", "set", "--bench", w.Bench, "VSP-20417"}, statusUsage,
			"give a picture, --crop, --none or --clear"},
		{[]string{"covers", "set", "--bench", w.Bench, "VSP-20417", "--none", "--clear"}, statusUsage,
			"give a picture"},
		{[]string{"covers", "set", "--bench", w.Bench, "VSP-20417", "--disc", "3", "--none"}, statusUsage,
			"has no disc 3"},
	} {
		status, _, stderr := polytome(t, c.args...)
		assert.Equal(t, c.status, status, c.args)
		assert.Contains(t, stderr, c.says, c.args)
	}
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	b.Covers.Servers = nil
	require.NoError(t, b.Save())
	status, _, stderr := polytome(t, "covers", "fetch", "--bench", w.Bench)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "[[covers.server]]")
	for text, says := range map[string]string{
		"[[covers.server]]\nname = 'x'\nurl = 'ftp://x/'\npaths = ['a']":                "is not a server's address",
		"[[covers.server]]\nname = 'x'\nurl = 'http://x/'\npaths = ['{platfrm}/a.png']": "did you mean \"platform\"?",
		"[[covers.server]]\nname = 'x'\nurl = 'http://x/'\npaths = ['../a.png']":        "leads out of the server's own",
		"[[covers.server]]\nname = 'x'\nurl = 'http://x/'":                              "needs paths",
		"[covers]\norder = ['beside', 'beside']":                                        "is listed twice",
		"[covers]\norder = ['attic']":                                                   "unknown source of pictures",
		"[[covers.folder]]\npath = 'x'\nof = 'back'":                                    "unknown kind of picture",
		"[[target]]\nname='a'\nat='a'\nloader='rowan'\ncovers-at-most = '140%'": "covers can have 0% to 100% " +
			"of a target",
		"[[target]]\nname='a'\nat='a'\nloader='rowan'\ncovers-at-most = 'much'": "write it like 40MiB or 5%",
		"[[target]]\nname='a'\nat='a'\nloader='rowan'\ncarries-covers-of = 'b'": `there is no target "b"`,
		"[[target]]\nname='a'\nat='a'\nloader='rowan'\ncarries-covers-of = 'a'": "has no covers of its own",
		"[[edit]]\nfile='x'\npictures = [{of='front', crop=[600,0,600,0]}]": "leaves nothing of the " +
			"front picture",
		"[[edit]]\nfile='x'\npictures = [{of='back'}]": "unknown kind of picture",
	} {
		file := filepath.Join(t.TempDir(), "b.toml")
		require.NoError(t, os.WriteFile(file, []byte("format = 1\nname = 'x'\n"+text+"\n"), 0o644))
		status, _, stderr := polytome(t, "covers", "report", "--bench", file)
		assert.Equal(t, statusFailed, status, text)
		assert.Contains(t, stderr, says, text)
		assert.Regexp(t, `b\.toml:\d+`, stderr, "with the line")
	}
}

func TestCoversGoInARunOfTheirOwn(t *testing.T) {
	w, _ := shelfBench(t)
	status, out, _ := polytome(t, "plan", "--bench", w.Bench, "--only-covers")
	assert.Equal(t, statusDone, status)
	assert.NotContains(t, out, "Copper Tide", "what is not there gets no cover yet")
	assert.NotContains(t, out, ".iso")
	games, stick := filepath.Join(t.TempDir(), "games"), t.TempDir()
	copyFile(t, filepath.Join(w.Games, "vesper", "Lantern_Sluice.iso"), filepath.Join(games, "Lantern.iso"))
	fill := []string{"fill", "--from", games, "--loader", "rowan", "--to", stick, "--as", "fat32", "--capacity", "1GiB"}
	status, _, stderr := polytome(t, fill...)
	require.Contains(t, []int{statusDone, statusPartial}, status, stderr)
	copyFile(t, filepath.Join(w.Dir, "covers", "VSP-20417.png"), filepath.Join(games, "Lantern.png"))
	_, out, _ = polytome(t, append(fill, "--covers-at-most", "1KiB", "--dry-run")...)
	assert.NotContains(t, out, "FACES/front", "the budget is kept to")
	_, out, stderr = polytome(t, append(fill, "--only-covers")...)
	assert.Contains(t, out, "FACES/front/VSP-21640.jpg", stderr)
	assert.FileExists(t, filepath.Join(stick, "FACES", "front", "VSP-21640.jpg"))
	status, _, stderr = polytome(t, append(fill, "--covers-at-most", "lots")...)
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, stderr, "write it like 40MiB or 5%")
	status, _, stderr = polytome(t, append(fill, "--only-covers", "--no-covers")...)
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, stderr, "exclude each other")
}

func copyFile(t *testing.T, from, to string) {
	b, err := os.ReadFile(from)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
	require.NoError(t, os.WriteFile(to, b, 0o644))
}
