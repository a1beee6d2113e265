package scan_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/format/iso9660"
	"polytome/internal/testkit/coretest"
)

// inf is the text of a short disc's VESPER.INF.
func inf(id, name, disc string) string { return coretest.Inf(id, name, disc, "short") }

func identify(t testing.TB, data []byte, name string) *title.Title {
	tt, err := scan.Identify(bytes.NewReader(data), int64(len(data)), name, coretest.Set(t))
	require.NoError(t, err)
	return tt
}

func TestWhatIsReadOutOfAnImage(t *testing.T) {
	tt := identify(t, coretest.Image(t,
		"\xEF\xBB\xBFID = VSP-20417 \r\nNAME=Quarry = Sons\r\nREGION=W\r\nDISC=2/3\r\nKIND=short\r\nID=VSP-99999\r\n"),
		"x.iso")
	require.True(t, tt.OK(), "%v", tt.Findings)
	assert.Equal(t, []any{"vesper", "VSP-20417", "Quarry = Sons", "West", 3, 2, "short"},
		[]any{tt.Platform, tt.ID, tt.Name, tt.Region, tt.Of, tt.Discs[0].Number, tt.Discs[0].Kind})
	assert.Contains(t, tt.Discs[0].Evidence, title.Evidence{Field: "name", Value: "Quarry = Sons",
		From: "VESPER.INF, line 2"})
}

func TestFaults(t *testing.T) {
	good := inf("VSP-20417", "Copper Tide", "1/1")
	for name, c := range map[string]struct {
		data []byte
		file string
		want string // "" for sound
	}{
		"sound":           {coretest.Image(t, good), "a.iso", ""},
		"other extension": {coretest.Image(t, good), "a.img", ""},
		"cut short":       {coretest.Image(t, good)[:50_000], "a.iso", "cut short"},
		"no marker": {coretest.Image(t, ""), "a.iso",
			"the image has none of main.run, SYS/TITLE.JSON, siskin.txt, VESPER.INF"},
		"no image": {[]byte("hello"), "a.iso", "there is no volume in the file: no ISO 9660, no UDF"},
		"empty":    {nil, "a.iso", "the file is empty"},
		"bad ID": {coretest.Image(t, inf("VSP-2041", "x", "1/1")), "a.iso",
			`"VSP-2041" does not fit how the ID of a Vesper is described`},
		"no name": {coretest.Image(t, "ID=VSP-20417\nKIND=full\n"), "a.iso", "has no NAME"},
		"unknown kind": {coretest.Image(t, strings.Replace(good, "short", "tall", 1)), "a.iso",
			`"tall" is not a kind of disc`},
		"endless marker": {coretest.Image(t, good+strings.Repeat("x", 70_000)), "a.iso", "more than 64.00 KiB"},
	} {
		t.Run(name, func(t *testing.T) {
			tt := identify(t, c.data, c.file)
			require.NotNil(t, tt)
			if c.want == "" {
				assert.True(t, tt.OK())
				return
			}
			require.NotNil(t, tt.Fault())
			assert.Contains(t, tt.Fault().Say, c.want)
			assert.NotEmpty(t, tt.Fault().Remedy)
		})
	}
	assert.Nil(t, identify(t, []byte("hello"), "a.txt"), "no business of ours")
	assert.Nil(t, identify(t, coretest.Image(t, ""), "a.img"), "an image, but no game")
	odd := identify(t, coretest.Image(t, inf("VSP-20417", "x", "3/2")), "a.iso")
	assert.True(t, odd.OK())
	assert.Contains(t, odd.Findings[0].Say, "is not a disc number")
}

func TestAScanOfFoldersAsPeopleHaveThem(t *testing.T) {
	dir := t.TempDir()
	put := func(name string, data []byte) { coretest.Write(t, dir, name, data) }
	put("a/Copper.iso", coretest.Image(t, inf("VSP-20417", "Copper Tide", "1/1")))
	put("b/Copper (1).iso", coretest.Image(t, inf("VSP-20417", "Copper Tide", "1/1")))
	put("a/ferry2.iso", coretest.Image(t, inf("VSP-21411", "Clockwork Ferry", "2/2")))
	put("b/ferry1.iso", coretest.Image(t, inf("VSP-21410", "Clockwork Ferry", "1/2")))
	put("b/alone.iso", coretest.Image(t, inf("VSP-30000", "Mistral Halt", "2/2")))
	put(".hidden/x.iso", coretest.Image(t, inf("VSP-40000", "Hidden", "1/1")))
	put("a/.x.iso", coretest.Image(t, inf("VSP-40001", "Hidden", "1/1")))
	put("readme.txt", []byte("notes"))
	require.NoError(t, os.Symlink(filepath.Join(dir, "gone"), filepath.Join(dir, "dangling.iso")))

	var updates int
	r, err := scan.Scan(context.Background(), []string{dir, filepath.Join(dir, "a"), filepath.Join(dir, "nowhere"),
		filepath.Join(dir, "readme.txt")}, scan.Options{Set: coretest.Set(t),
		Progress: func(scan.Result) { updates++ }})
	require.NoError(t, err)
	var got []string
	for _, tt := range r.Titles {
		got = append(got, fmt.Sprintf("%s %s %d/%d sound=%v", tt.Key, tt.Name, len(tt.Discs), tt.Of, tt.OK()))
	}
	assert.Equal(t, []string{
		"VSP-21410 Clockwork Ferry 2/2 sound=true",
		"VSP-20417 Copper Tide 1/1 sound=true",
		filepath.Join(dir, "b/Copper (1).iso") + " Copper Tide 1/1 sound=true",
		"VSP-30000 Mistral Halt 1/2 sound=false",
	}, got)
	assert.Contains(t, r.Titles[3].Fault().Say, "only disc 2 of 2 found")
	assert.Equal(t, 1, r.Passed)
	var problems []string
	for _, p := range r.Problems {
		problems = append(problems, filepath.Base(p.Path)+": "+p.Say)
	}
	assert.Equal(t, []string{
		"dangling.iso: no such file or folder; check the spelling, or plug in its drive",
		"nowhere: no such file or folder; check the spelling, or plug in its drive",
		"readme.txt: this is a file; a source must be a folder",
	}, problems)
}

func TestAStoppedScanEnds(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := scan.Scan(ctx, []string{t.TempDir()}, scan.Options{Set: coretest.Set(t)})
	assert.ErrorIs(t, err, context.Canceled)
}

func FuzzImage(f *testing.F) {
	const system = 16 * iso9660.SectorSize
	f.Add(coretest.Image(f, inf("VSP-20417", "Copper Tide", "1/2"))[system:])
	set := coretest.Set(f)
	f.Fuzz(func(t *testing.T, volume []byte) {
		data := append(make([]byte, system), volume...)
		tt, err := scan.Identify(bytes.NewReader(data), int64(len(data)), "f.iso", set)
		if err == nil && tt != nil && tt.OK() && (tt.ID == "" || tt.Name == "" || tt.Discs[0].Kind == "") {
			t.Fatalf("called sound without its values: %+v", tt)
		}
	})
}

// BenchmarkScan goes through a tree of small images, and through the same with
// find for comparison of the walk alone.
func BenchmarkScan(b *testing.B) {
	dir := b.TempDir()
	data := coretest.Image(b, inf("VSP-20417", "Copper Tide", "1/1"))
	for i := range 2000 {
		require.NoError(b, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%d.iso", i)), data, 0o644))
	}
	set := coretest.Set(b)
	for b.Loop() {
		_, _ = scan.Scan(context.Background(), []string{dir}, scan.Options{Set: set})
	}
	b.ReportMetric(float64(b.Elapsed().Microseconds())/float64(b.N)/2000, "µs/file")
}

func TestTheOrderOfFilesMakesNoDifference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var found []title.Title
		for i := range rapid.IntRange(0, 12).Draw(t, "files") {
			v := coretest.Vesper(rapid.IntRange(0, 4).Draw(t, "id"), rapid.SampledFrom([]string{"A", "B"}).
				Draw(t, "name"), "full", 1)
			v.Of = rapid.IntRange(1, 3).Draw(t, "of")
			v.Discs[0].Number = rapid.IntRange(1, v.Of).Draw(t, "number")
			v.Discs[0].File.Path = fmt.Sprintf("/games/%d.iso", i)
			found = append(found, v)
		}
		want := fmt.Sprint(scan.Group(slices.Clone(found)))
		mixed := rapid.Permutation(found).Draw(t, "order")
		if got := fmt.Sprint(scan.Group(mixed)); got != want {
			t.Fatalf("in another order:\n%s\ninstead of\n%s", got, want)
		}
		keys := map[string]bool{}
		discs := 0
		for _, tt := range scan.Group(slices.Clone(found)) {
			if keys[tt.Key] {
				t.Fatalf("two titles have the key %s", tt.Key)
			}
			keys[tt.Key] = true
			discs += len(tt.Discs)
			if len(tt.Discs) != tt.Of && tt.OK() {
				t.Fatalf("%d discs of %d, and sound", len(tt.Discs), tt.Of)
			}
		}
		if discs != len(found) {
			t.Fatalf("%d discs out of %d files", discs, len(found))
		}
	})
}

func TestAPipeDoesNotHoldTheScanUp(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe.iso"), 0o644))
	require.NoError(t, os.Symlink("pipe.iso", filepath.Join(dir, "link.iso")))
	coretest.Write(t, dir, "a.iso", coretest.Image(t, inf("VSP-20417", "Copper Tide", "1/1")))
	r, err := scan.Scan(context.Background(), []string{dir}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	assert.Len(t, r.Titles, 1)
}
