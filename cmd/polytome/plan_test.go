package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/demo"
	"polytome/internal/size"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/demoworld"
)

// halls is a demo with all of its targets.
func halls(t *testing.T) demo.World {
	w := demoworld.Open(t)
	return w
}

// smallBench is a bench with three small games and a stick.
func smallBench(t *testing.T) (file, stick string) {
	dir := t.TempDir()
	stick = filepath.Join(dir, "stick")
	coretest.Write(t, stick, "ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
	b := bench.New(filepath.Join(dir, "season.toml"))
	b.Sources = []bench.Source{{Path: collection(t, 1, 2, 3)}}
	b.Targets = []bench.Target{{Name: "Stick", At: "stick", Loader: "rowan", Via: "usb", As: "fat32",
		Capacity: bench.Size(size.GiB), Everything: true}}
	require.NoError(t, b.Save())
	return b.File(), stick
}

func TestAPlanIsPlainDataAndLeadsToAnEmptyOne(t *testing.T) {
	file, stick := smallBench(t)
	plans := func(more ...string) (out string, steps int) {
		_, out, stderr := polytome(t, append([]string{"plan", "--bench", file, "--json"}, more...)...)
		var p []struct {
			Target string
			Steps  []struct{ Do, Path string }
			Files  int
			Bytes  int64
			Time   struct{ Least, Most int64 }
		}
		require.NoError(t, json.Unmarshal([]byte(out), &p), stderr)
		require.Len(t, p, 1)
		return out, len(p[0].Steps)
	}
	first, n := plans()
	again, _ := plans()
	assert.Equal(t, first, again, "planning twice gives the same, to the byte")
	assert.Equal(t, 2+3+3, n, "two folders, three games, three settings")
	status, out, stderr := polytome(t, "plan", "--bench", file)
	assert.Zero(t, status, stderr)
	assert.Contains(t, out, "Stick: 6 files to write, ")
	assert.Contains(t, out, "copy SHORT/VSP-00002 - Title 2.iso")
	_, only := plans("--only", "name:2")
	assert.Equal(t, 4, only)
	_, except := plans("--except", "name:2")
	assert.Equal(t, 6, except)
	_, small := plans("--only", "verdict:copy size<1500K")
	assert.Equal(t, 4, small, "the filters are those of the screen")
	status, _, stderr = polytome(t, "plan", "--bench", file, "--only", "colour:red")
	assert.Equal(t, 2, status)
	assert.Contains(t, stderr, `unknown field "colour"`)

	status, out, stderr = polytome(t, "fill", "--bench", file, "--only", "name:2")
	assert.Zero(t, status, out+stderr)
	assert.Equal(t, []string{"VSP-00002 Title 2"}, simulatorList(t, stick))
	status, out, stderr = polytome(t, "fill", "--bench", file)
	assert.Zero(t, status, out+stderr)
	_, left := plans()
	assert.Zero(t, left, "after a run there is nothing left to do")
	b, err := bench.Load(file)
	require.NoError(t, err)
	assert.True(t, b.Targets[0].Everything, "filters count for one time")
}

func TestWhatLeavesWantsToBeAllowedAndCanBeRestore(t *testing.T) {
	file, stick := smallBench(t)
	coretest.Write(t, stick, "mine.txt", []byte("mine"))
	status, _, stderr := polytome(t, "fill", "--bench", file)
	require.Zero(t, status, stderr)
	before := files(t, stick)
	status, _, stderr = polytome(t, "fill", "--bench", file, "--delete-others", "--only", "name:1")
	assert.Equal(t, 2, status)
	assert.Contains(t, stderr, "would remove the rest")

	b, err := bench.Load(file)
	require.NoError(t, err)
	b.Targets[0].Want(false, "VSP-00001")
	require.NoError(t, b.Save())
	status, _, stderr = polytome(t, "fill", "--bench", file, "--delete-others")
	assert.Equal(t, 2, status)
	assert.Contains(t, stderr, "on Stick, 2 files would be removed or replaced")
	assert.Equal(t, before, files(t, stick))
	_, out, _ := polytome(t, "fill", "--bench", file, "--delete-others", "--dry-run")
	assert.Contains(t, out, "remove SHORT/VSP-00001 - Title 1.iso")

	kept := filepath.Join(t.TempDir(), "kept")
	status, out, stderr = polytome(t, "fill", "--bench", file, "--delete-others", "--remove", "--backup-to", kept)
	assert.Zero(t, status, out+stderr)
	assert.Contains(t, out, "2 files removed; 2 files kept in "+kept)
	assert.Equal(t, []string{"VSP-00000 Title 0", "VSP-00002 Title 2"}, simulatorList(t, stick))
	assert.FileExists(t, filepath.Join(stick, "mine.txt"), "what no loader knows never goes so")

	runs, err := filepath.Glob(filepath.Join(kept, "Stick", "*"))
	require.NoError(t, err)
	require.Len(t, runs, 1)
	status, out, stderr = polytome(t, "restore", runs[0], "--to", stick)
	assert.Zero(t, status, out+stderr)
	assert.Equal(t, before, files(t, stick))
	status, out, _ = polytome(t, "restore", runs[0], "--to", stick)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, out, "already exists, and stays")
	for args, say := range map[string]string{"restore": "needs the folder with the copies", "restore " +
		runs[0]: "missing: --to TARGET", "restore " + stick + " --to " + stick: "is not a backup"} {
		status, _, stderr := polytome(t, strings.Fields(args)...)
		if !strings.Contains(runs[0], " ") || !strings.HasPrefix(args, "restore "+runs[0]) {
			assert.NotZero(t, status)
			assert.Contains(t, stderr, say)
		}
	}
}

func TestDistributingAndSupposingFromTheCommandLine(t *testing.T) {
	w := halls(t)
	before, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	status, out, stderr := polytome(t, "fit", "--bench", w.Bench, "--distribute")
	assert.Zero(t, status, stderr)
	assert.Contains(t, out, "Thimble Kings                            Ferry share      already there under another "+
		"name: it is renamed")
	assert.Contains(t, out, "Wicker Toll                              nowhere          North stick: password")
	after, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after))
	status, _, stderr = polytome(t, "fit", "--bench", w.Bench, "--distribute", "--accept")
	assert.Zero(t, status, stderr)
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	assert.True(t, b.Targets[1].Wants("VSP-21344"))
	assert.False(t, b.Targets[0].Wants("VSP-21344"))

	status, out, _ = polytome(t, "fit", "--bench", w.Bench, "--target", "hall pocket", "--what-if",
		"as=exfat,capacity=1MiB", "--json")
	assert.Zero(t, status)
	var d struct {
		Goes    [2]int
		Changes []struct{ Title, Was, Is string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &d))
	assert.Zero(t, d.Goes[1])
	assert.NotEmpty(t, d.Changes)
	for args, say := range map[string]string{
		"--what-if as=exfat":                               "choose it with --target",
		"--target North\x00stick --what-if sa=exfat":       `did you mean "as"?`,
		"--target North\x00stick --what-if space":          "has no value",
		"--target North\x00stick --what-if cluster=3KiB":   "a power of two",
		"--target North\x00stick --what-if covers=perhaps": "write yes, no, or a limit",
		"--target North\x00stick --accept":                 "needs --bench, and --distribute or --what-if",
	} {
		var all []string
		for _, a := range strings.Fields(args) {
			all = append(all, strings.ReplaceAll(a, "\x00", " "))
		}
		status, _, stderr := polytome(t, append([]string{"fit", "--bench", w.Bench}, all...)...)
		assert.Equal(t, 2, status, args)
		assert.Contains(t, stderr, say)
	}
	status, out, stderr = polytome(t, "fit", "--bench", w.Bench, "--target", "North stick", "--what-if",
		"capacity=116GiB", "--accept")
	assert.Zero(t, status, stderr)
	assert.Contains(t, out, "Saved in")
	b, err = bench.Load(w.Bench)
	require.NoError(t, err)
	assert.EqualValues(t, 116*size.GiB, b.Targets[0].Capacity)
	assert.Len(t, b.Targets, 4, "the others are as they were")

	status, out, stderr = polytome(t, "fit", "--bench", w.Bench, "--target", "North stick", "--what-if",
		"rule:companion.3.path=SET/{id}.tune", "--accept")
	assert.Zero(t, status, stderr)
	assert.Contains(t, out, "1 of the selected titles fit, as now")
	_, out, _ = polytome(t, "plan", "--bench", w.Bench, "--target", "North stick", "--json")
	assert.Contains(t, out, "SET/VSP-21377.tune", "the rule holds from then on")
	status, out, stderr = polytome(t, "fit", "--bench", w.Bench, "--target", "North stick", "--what-if",
		"second=south-stick", "--accept")
	assert.Zero(t, status, stderr)
	assert.Contains(t, out, "North stick with a second one like it at south-stick")
	status, out, stderr = polytome(t, "fit", "--bench", w.Bench, "--target", "Hall pocket", "--what-if", "without",
		"--accept")
	assert.Zero(t, status, stderr)
	assert.Contains(t, out, "Hall pocket removed from the bench: 0 of the selected titles fit instead of")
	b, err = bench.Load(w.Bench)
	require.NoError(t, err)
	var names []string
	for _, p := range b.Targets {
		names = append(names, p.Name)
	}
	assert.Equal(t, []string{"North stick", "Ferry share", "Corvane disk", "North stick 2"}, names)
}

func TestATargetThatCannotBeWorkedOnDoesNotStopTheOthers(t *testing.T) {
	w := halls(t)
	text, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	broken := strings.Replace(string(text), "loader = 'gantry'", "loader = 'gantri'", 1)
	require.NoError(t, os.WriteFile(w.Bench, []byte(broken), 0o644))
	status, out, stderr := polytome(t, "plan", "--bench", w.Bench)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, stderr, "skipped: the target Corvane disk:")
	assert.Contains(t, stderr, `did you mean "gantry"?`)
	assert.Contains(t, out, "North stick: 44 files to write")
	assert.Contains(t, out, "Hall pocket: ")

	require.NoError(t, os.WriteFile(w.Bench, []byte(strings.Replace(string(text), "everything = true",
		"evrything = true", 1)), 0o644))
	status, _, stderr = polytome(t, "plan", "--bench", w.Bench)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, ":31:1: unknown key")
	assert.Contains(t, stderr, "The last good version is kept as")
}

func TestAPulledTargetIsPlannedWithWhatWasOnIt(t *testing.T) {
	file, stick := smallBench(t)
	_, out, _ := polytome(t, "plan", "--bench", file)
	require.Contains(t, out, "Stick: 6 files to write")
	require.NoError(t, os.Rename(stick, stick+"-pulled"))
	status, out, stderr := polytome(t, "plan", "--bench", file)
	assert.Equal(t, statusPartial, status)
	assert.Contains(t, stderr, "Stick is not connected")
	assert.Contains(t, out, "note: Stick is not connected")
	status, _, stderr = polytome(t, "fill", "--bench", file)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, stderr, "Stick is not connected, so nothing can be written to it")
}

// TestTwoInstancesOnOneBench opens the screen twice, as a person would with two terminals.
func TestTwoInstancesOnOneBench(t *testing.T) {
	file, _ := smallBench(t)
	first := open(t, 120, 36, binary+" --bench "+file)
	first.wait("1 Games 3", "saved")
	second := open(t, 120, 36, binary+" --bench "+file)
	second.wait("1 Games 3", "READ-ONLY")
	second.keys("2")
	second.wait("Title 0 on Stick: copy.")
	second.keys("Space")
	second.wait("has this bench open, so this one is read-only")
	first.keys("2")
	first.wait("Title 0 on Stick: copy.")
	first.keys("Space")
	first.wait("Title 0 deselected on Stick")
	first.keys("q")
	first.wait("ready>")
	b, err := bench.Load(file)
	require.NoError(t, err)
	assert.False(t, b.Targets[0].Wants("VSP-00000"))
}
