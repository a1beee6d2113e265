package check_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/fix"
	"polytome/internal/core/loader"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/drives"
	"polytome/internal/format/fat"
	"polytome/internal/format/partition"
	"polytome/internal/format/volume"
	"polytome/internal/medium"
	"polytome/internal/sim"
	"polytome/internal/target"
	"polytome/internal/target/drive"
	"polytome/internal/target/folder"
	"polytome/internal/target/ftp"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// fits asks whose target a set of files is.
func fits(t *testing.T, f files) (fit, rest []check.Fit) {
	dir := t.TempDir()
	for name, data := range f {
		coretest.Write(t, dir, name, data)
	}
	p, err := folder.Open(dir, folder.Options{Filesystem: "fat32"})
	require.NoError(t, err)
	defer p.Close()
	entries, err := p.List(t.Context(), nil)
	require.NoError(t, err)
	facts, err := p.Facts(t.Context(), entries)
	require.NoError(t, err)
	return check.Fits(entries, facts.Filesystem.Fold, coretest.Set(t))
}

func TestWhoseTargetItIs(t *testing.T) {
	base := right(t)
	for name, f := range base {
		f = maps.Clone(f)
		delete(f, "FULL/other.iso")
		fit, _ := fits(t, f)
		require.NotEmpty(t, fit, name)
		assert.Equal(t, name, fit[0].Profile.Name)
		assert.Len(t, fit, 1, "%s and no other: %v", name, fit)
	}
	both := maps.Clone(base["bellows"])
	maps.Copy(both, base["plover"])
	fit, _ := fits(t, both)
	require.Len(t, fit, 2, "two trees that lie beside each other")
	assert.ElementsMatch(t, []string{"bellows", "plover"}, []string{fit[0].Profile.Name, fit[1].Profile.Name})

	fit, rest := fits(t, files{"FULLS/VSP-20417 - Copper Tide.iso": []byte("x"), "notes.txt": nil})
	assert.Empty(t, fit)
	assert.Equal(t, "rowan", rest[0].Profile.Name, "the nearest")
	assert.Contains(t, rest[0].Words(), "FULLS (almost right)")
	assert.Contains(t, rest[0].Words(), "not found: ROWAN/rowan.run")
	e := &check.UnknownError{Target: "/media/x", Nearest: &rest[0]}
	assert.Contains(t, e.Error(), "/media/x does not belong to any known loader; the nearest is Rowan")
	fit, rest = fits(t, files{"a/holiday.jpg": nil})
	assert.Empty(t, fit)
	assert.Zero(t, rest[0].Games+len(rest[0].Near), "nothing comes near")
}

func TestAFolderThatCannotBeReadIsReportedAndTheRestGoesOn(t *testing.T) {
	dir := t.TempDir()
	for name, data := range right(t)["rowan"] {
		coretest.Write(t, dir, name, data)
	}
	p, err := folder.Open(dir, folder.Options{Filesystem: "fat32"})
	require.NoError(t, err)
	defer p.Close()
	r, err := check.Audit(t.Context(), &broken{Target: p, path: "SHORT"}, []*loader.Profile{coretest.Rowan(t)},
		coretest.Set(t), check.Options{Via: "usb"})
	require.NoError(t, err)
	assert.Contains(t, reported(r), "fault unreadable SHORT []")
	assert.NotEmpty(t, r.Listed)
	assert.False(t, r.Good())
}

// broken is a target on which one path cannot be read.
type broken struct {
	target.Target
	path string
}

func (b *broken) List(ctx context.Context, problem func(string, error)) ([]target.Entry, error) {
	all, err := b.Target.List(ctx, problem)
	var out []target.Entry
	for _, e := range all {
		if e.Path == b.path || strings.HasPrefix(e.Path, b.path+"/") {
			continue
		}
		out = append(out, e)
	}
	problem(b.path, errors.New("input/output error"))
	return out, err
}

func (b *broken) Open(ctx context.Context, path string) (target.Content, error) {
	c, err := b.Target.Open(ctx, path)
	if err != nil || !strings.HasPrefix(path, "FULL/VSP-20417") {
		return c, err
	}
	return &dying{c}, nil
}

// dying is a file of which the second half cannot be read.
type dying struct{ target.Content }

func (d *dying) ReadAt(b []byte, off int64) (int, error) {
	if off+int64(len(b)) > d.Size()-1000 {
		return 0, &fs.PathError{Op: "read", Path: "x", Err: errors.New("input/output error")}
	}
	return d.Content.ReadAt(b, off)
}

func TestABadSpotIsFoundOnlyByReadingEverything(t *testing.T) {
	dir := t.TempDir()
	for name, data := range right(t)["rowan"] {
		coretest.Write(t, dir, name, data)
	}
	p, err := folder.Open(dir, folder.Options{Filesystem: "fat32"})
	require.NoError(t, err)
	defer p.Close()
	look := func(depth check.Depth) []string {
		r, err := check.Audit(t.Context(), &broken{Target: p, path: "nothing"}, []*loader.Profile{coretest.Rowan(t)},
			coretest.Set(t), check.Options{Via: "usb", Depth: depth})
		require.NoError(t, err)
		return reported(r)
	}
	want := "fault damaged FULL/VSP-20417 - Copper Tide.iso []"
	assert.NotContains(t, look(check.Inside), want)
	assert.Contains(t, look(check.Whole), want)
}

// TestAFragmentedFileIsMadeContiguous checks a FAT32 image with a file fragmented, against the simulator too, and fixes
// it.
func TestAFragmentedFileIsMadeContiguous(t *testing.T) {
	image := coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full"))
	at := filepath.Join(t.TempDir(), "stick.img")
	put := onImage(t, at, "NORTH", 64<<20)
	put("ROWAN/rowan.cfg", []byte(kit), 1)
	put("ROWAN/rowan.run", []byte("run"), 1)
	put("FULL/VSP-20417 - Copper Tide.iso", image, 3)
	put("", nil, 0)

	b := bench.New("")
	b.Targets = []bench.Target{{Name: "stick", At: "drive:" + at, Loader: "rowan", Via: "usb"}}
	look := func() (*survey.Survey, *check.Report) {
		s, err := survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t)})
		require.NoError(t, err)
		r, err := s.Check(t.Context(), check.Inside)
		require.NoError(t, err)
		return s, r
	}
	stand := func() *sim.Listing {
		p, err := survey.OpenTarget(t.Context(), "drive:"+at, b.Targets[0], coretest.Rowan(t), true)
		require.NoError(t, err)
		defer p.Close()
		l, err := sim.Rowan{}.List(sim.Volume{FS: p.(*drive.Target).Volume().FS(), Filesystem: "fat32",
			Fragments: func(path string) int {
				n, err := p.(target.FragmentCounter).Fragments(t.Context(), path)
				require.NoError(t, err)
				return n
			}})
		require.NoError(t, err)
		return l
	}
	s, r := look()
	assert.Contains(t, reported(r), "fault fragmented FULL/VSP-20417 - Copper Tide.iso [defragment]")
	require.Len(t, r.Listed, 1)
	assert.False(t, r.Listed[0].Starts)
	assert.False(t, stand().Games[0].Starts, "the simulator says so too")

	b.Targets[0].Fix(r.Fixes(check.Fragmented)...)
	require.NoError(t, s.Rejudge(t.Context(), b, 0))
	to, err := s.Open(t.Context())
	require.NoError(t, err)
	report := run.Run(t.Context(), s.Plan(), to, run.Options{}, func(run.Event) {})
	require.NoError(t, to.Close())
	require.Empty(t, report.Failed)
	require.Equal(t, 1, report.Put)
	_, r = look()
	assert.NotContains(t, strings.Join(reported(r), "\n"), "fragmented")
	assert.True(t, r.Listed[0].Starts)
	assert.True(t, stand().Games[0].Starts)
	all, err := os.ReadFile(at)
	require.NoError(t, err)
	d, err := drives.Here.Look(t.Context(), at)
	require.NoError(t, err)
	require.Len(t, d.Volumes, 1)
	part := at + ".part"
	require.NoError(t, os.WriteFile(part, all[d.Volumes[0].Start:], 0o644))
	judge.Run(t, "fsck.fat", "-n", part)
}

// TestTheLabelDecides checks sticks with the right label and with another one.
func TestTheLabelDecides(t *testing.T) {
	f := right(t)["bellows"]
	for label, lists := range map[string]bool{"PIPIT": true, "HOLIDAY": false} {
		at := filepath.Join(t.TempDir(), "stick.img")
		put := onImage(t, at, label, 64<<20)
		for _, name := range slices.Sorted(maps.Keys(f)) {
			put(name, f[name], 1)
		}
		put("", nil, 0)
		p, err := survey.OpenTarget(t.Context(), "drive:"+at, bench.Target{}, coretest.Profile(t, "bellows"), false)
		require.NoError(t, err)
		r, err := check.Audit(t.Context(), p, []*loader.Profile{coretest.Profile(t, "bellows")}, coretest.Set(t),
			check.Options{Via: "usb"})
		require.NoError(t, err)
		l, err := sim.Bellows{}.List(sim.Volume{FS: p.(*drive.Target).Volume().FS(), Filesystem: "fat32", Label: label})
		require.NoError(t, err)
		assert.Equal(t, lists, len(r.Listed) > 0, label)
		assert.Len(t, l.Games, len(r.Listed))
		if !lists {
			assert.Equal(t, check.Label, r.Findings[0].Kind)
			assert.Contains(t, r.Findings[0].Say, "the volume is labelled HOLIDAY, but Bellows needs the label PIPIT")
		}
		require.NoError(t, p.Close())
	}
}

// TestOverFTPEachFolderIsListedOnce counts what a quick check of a console asks for.
func TestOverFTPEachFolderIsListedOnce(t *testing.T) {
	dir := t.TempDir()
	for i := range 12 {
		coretest.Write(t, dir, fmt.Sprintf("hd1/Games/Game %02d/main.run", i), demo.MainRun("CVN00117", "Game", "N"))
	}
	for i := range 40 {
		coretest.Write(t, dir, fmt.Sprintf("hd1/gantry/shelf/wren8/Mill %02d.w8", i), demo.Cartridge("WREN", "Mill"))
	}
	console, err := sim.Consoles["corvane"].Serve(dir, 0, 1<<30)
	require.NoError(t, err)
	defer console.Close()
	ftp.Forget()
	c := bench.Target{At: fmt.Sprintf("ftp://127.0.0.1:%d/hd1", console.Port())}
	p, err := survey.OpenTarget(t.Context(), c.At, c, coretest.Profile(t, "gantry"), false)
	require.NoError(t, err)
	defer p.Close()
	before := console.Counted()
	r, err := check.Audit(t.Context(), p, []*loader.Profile{coretest.Profile(t, "gantry")}, coretest.Set(t),
		check.Options{Via: "ftp"})
	require.NoError(t, err)
	after := console.Counted()
	folders := 0
	require.NoError(t, filepath.WalkDir(filepath.Join(dir, "hd1"), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			folders++
		}
		return err
	}))
	assert.Equal(t, check.Names, r.Depth, "over FTP names and sizes are usual")
	assert.Len(t, r.Listed, 52)
	assert.LessOrEqual(t, after["LIST"]-before["LIST"], folders, "one listing for each folder")
	assert.Zero(t, after["RETR"]-before["RETR"], "nothing is fetched")
	full, err := check.Audit(t.Context(), p, []*loader.Profile{coretest.Profile(t, "gantry")}, coretest.Set(t),
		check.Options{Via: "ftp", Depth: check.Inside})
	require.NoError(t, err)
	assert.True(t, full.Good(), "%q", reported(full))
	assert.Greater(t, console.Counted()["RETR"], after["RETR"])
}

// TestLoadersThatShareAFolder has two profiles look into one folder, each for its own games.
func TestLoadersThatShareAFolder(t *testing.T) {
	parse := func(name, platform, ext string) *loader.Profile {
		p, err := loader.ParseProfile(name+".toml", fmt.Appendf(nil, `format = 1
name = %q
shown = %q
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]
[[accept]]
platforms = [%q]
forms = ["cartridge"]
path = "GAMES/{title}%s"
`, name, name, platform, ext))
		require.NoError(t, err)
		return p
	}
	dir := t.TempDir()
	coretest.Write(t, dir, "GAMES/Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	coretest.Write(t, dir, "GAMES/Reed Runner.fin", demo.Cartridge("FNCH", "Reed Runner"))
	coretest.Write(t, dir, "GAMES/Stray.k64", demo.Cartridge("KSTR", "Stray"))
	p, err := folder.Open(dir, folder.Options{Filesystem: "fat32"})
	require.NoError(t, err)
	defer p.Close()
	r, err := check.Audit(t.Context(), p, []*loader.Profile{parse("one", "wren8", ".w8"),
		parse("two", "finch", ".fin")}, coretest.Set(t), check.Options{Via: "usb"})
	require.NoError(t, err)
	assert.Len(t, r.Listed, 2)
	for _, f := range r.Findings {
		assert.Equal(t, "GAMES/Stray.k64", f.Path, "only what neither of them takes is reported: %s", f.Say)
	}
}

// TestAListOfTitlesIsHeldAgainstWhatIsHere checks an exported volume, from which only what the list tells is shown.
func TestAListOfTitlesIsHeldAgainstWhatIsHere(t *testing.T) {
	f := right(t)["rowan"]
	delete(f, "LONG/VSP-20431/parts.toml")
	delete(f, "LONG/VSP-20431/001.rwn")
	delete(f, "LONG/VSP-20431/002.rwn")
	f["FACES/front/VSP-20417.jpg"] = shot(t, "jpg", 10, 10)
	on := [2]string{"nbd", "exfat"}
	rowan := *coretest.Profile(t, "rowan")
	for _, x := range checkFor(t, f, on, check.Inside, &rowan).Findings {
		assert.NotEqual(t, check.List, x.Kind, "it lies apart")
	}
	rowan.Attachments = slices.Clone(rowan.Attachments)
	for i := range rowan.Attachments {
		rowan.Attachments[i].Apart = false
	}
	list := func(r *check.Report) *check.Finding {
		for i := range r.Findings {
			if r.Findings[i].Kind == check.List {
				return &r.Findings[i]
			}
		}
		return nil
	}
	missing := list(checkFor(t, f, on, check.Inside, &rowan))
	require.NotNil(t, missing)
	assert.Equal(t, "the list of 4 titles is missing", missing.Say)
	require.Len(t, missing.Fixes, 1)
	text := missing.Fixes[0].Text
	assert.Equal(t, "VSP-20417;full;Copper Tide;VSP-20417 - Copper Tide.iso\n", text[:strings.Index(text, "\n")+1])
	f["rowan-net.lst"] = []byte(text)
	assert.Nil(t, list(checkFor(t, f, on, check.Inside, &rowan)), "the list that fixes it is right")
	f["rowan-net.lst"] = []byte(text + "VSP-99999;full;Gone;x.iso\n")
	assert.Contains(t, list(checkFor(t, f, on, check.Inside, &rowan)).Say,
		`list has "VSP-99999;full;Gone;x.iso", which is not here`)
	f["rowan-net.lst"] = []byte(text[strings.Index(text, "\n")+1:])
	assert.Contains(t, list(checkFor(t, f, on, check.Inside, &rowan)).Say,
		`the list lacks "VSP-20417;full;Copper Tide;VSP-20417`)
}

// full is a target with nothing free.
type full struct{ target.Target }

func (p *full) Facts(ctx context.Context, listed []target.Entry) (target.Facts, error) {
	f, err := p.Target.Facts(ctx, listed)
	f.Free = 0
	return f, err
}

func TestAFullTargetIsRemarked(t *testing.T) {
	dir := t.TempDir()
	for name, data := range right(t)["plover"] {
		coretest.Write(t, dir, name, data)
	}
	p, err := folder.Open(dir, folder.Options{Filesystem: "fat32", Capacity: 1 << 30})
	require.NoError(t, err)
	defer p.Close()
	r, err := check.Audit(t.Context(), &full{p}, []*loader.Profile{coretest.Profile(t, "plover")}, coretest.Set(t),
		check.Options{Via: "usb"})
	require.NoError(t, err)
	assert.Equal(t, []string{"remark space  []"}, reported(r))
	assert.True(t, r.Good(), "a remark is nothing wrong")
}

// TestAFixIsNotMadeOnWhatHasChanged has someone change a file between the check and the run.
func TestAFixIsNotMadeOnWhatHasChanged(t *testing.T) {
	f := right(t)["plover"]
	f["boot/plover.prefs"] = []byte("saves=at-once\nleave=F9\nlogo=off\n")
	dir := t.TempDir()
	for name, data := range f {
		coretest.Write(t, dir, name, data)
	}
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "stick", At: dir, Loader: "plover", Via: "usb", As: "fat32", Capacity: 1 << 32}}
	s, err := survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	r, err := s.Check(t.Context(), check.Inside)
	require.NoError(t, err)
	b.Targets[0].Fix(r.Fixes(check.Setting)...)
	coretest.Write(t, dir, "boot/plover.prefs", []byte("; I changed this myself\nsaves=at-once\nleave=F9\nlogo=off\n"))
	s, err = survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	for _, st := range s.Plan().Steps {
		assert.NotEqual(t, "boot/plover.prefs", st.Path)
	}
	assert.Contains(t, strings.Join(s.Plan().Notes, "\n"),
		"boot/plover.prefs was not fixed: it was changed since it was found. Check the target again.")
	m := b.Targets[0].Fixes[0]
	assert.Equal(t, fix.Set, m.Do)
	assert.Equal(t, "set leave=F10 in boot/plover.prefs", m.Words())
}

// onImage makes a FAT32 image, and returns what puts a file on it in so many pieces; with an empty name it is closed.
func onImage(t *testing.T, at, label string, bytes int64) func(name string, data []byte, pieces int) {
	file, err := os.Create(at)
	require.NoError(t, err)
	require.NoError(t, file.Truncate(bytes))
	m, err := medium.Of(file)
	require.NoError(t, err)
	table, err := partition.New(partition.MBR, bytes, 512, partition.Wanted{Type: partition.TypeFor(partition.MBR,
		"fat32"), Name: label})
	require.NoError(t, err)
	require.NoError(t, table.Write(m))
	part := m.Part(table.Parts[0].Start, table.Parts[0].Size)
	require.NoError(t, fat.Format(part, part.Size(), fat.Options{Bits: 32, Cluster: 512, Label: label,
		Hidden: table.Parts[0].Start}))
	v, err := fat.Open(part, part.Size())
	require.NoError(t, err)
	return func(name string, data []byte, pieces int) {
		if name == "" {
			require.NoError(t, v.Close())
			require.NoError(t, file.Close())
			return
		}
		require.NoError(t, v.MakeFolder(t.Context(), filepath.ToSlash(filepath.Dir(name))))
		putFragmented(t, v, name, data, pieces)
	}
}

// putFragmented writes a file by turns with others that are removed afterwards, so that it is fragmented.
func putFragmented(t *testing.T, v *volume.Volume, name string, data []byte, pieces int) {
	w, err := v.Create(t.Context(), name, int64(len(data)/pieces/4096*4096), false)
	require.NoError(t, err)
	var between []string
	for i := range pieces {
		from, to := i*len(data)/pieces, (i+1)*len(data)/pieces
		_, err := w.Write(data[from:to])
		require.NoError(t, err)
		if i < pieces-1 {
			other := fmt.Sprintf("%s.%d", name, i)
			o, err := v.Create(t.Context(), other, 4096, false)
			require.NoError(t, err)
			_, err = o.Write(make([]byte, 4096))
			require.NoError(t, err)
			require.NoError(t, o.Commit())
			between = append(between, other)
		}
	}
	require.NoError(t, w.Commit())
	for _, other := range between {
		require.NoError(t, v.Remove(t.Context(), other))
	}
}
