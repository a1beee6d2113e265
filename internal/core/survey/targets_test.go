package survey_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/fit"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/scan"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/sim"
	"polytome/internal/size"
	"polytome/internal/testkit/coretest"
)

// workshop is a bench with targets on this computer.
type workshop struct {
	t      *testing.T
	dir    string
	bench  *bench.Bench
	titles []title.Title
	o      survey.Options
}

func newWorkshop(t *testing.T, games map[string][]byte, targets ...bench.Target) *workshop {
	w := &workshop{t: t, dir: t.TempDir(), bench: bench.New("")}
	for name, data := range games {
		coretest.Write(t, filepath.Join(w.dir, "games"), name, data)
	}
	for _, p := range targets {
		p.At = filepath.Join(w.dir, p.Name)
		require.NoError(t, os.MkdirAll(p.At, 0o755))
		w.bench.Targets = append(w.bench.Targets, p)
	}
	w.o.Set, w.o.Trees = coretest.Set(t), &layout.Shelf{}
	w.scanned()
	return w
}

// oneStick is a bench with an empty stick for a loader in a folder, which takes all titles.
func oneStick(t *testing.T, dir string, set *loader.Set, loaderName, filesystem string,
	titles []title.Title) *workshop {
	w := &workshop{t: t, dir: dir, bench: bench.New(""), titles: titles,
		o: survey.Options{Set: set, Trees: &layout.Shelf{}}}
	w.bench.Targets = []bench.Target{{Name: "Stick", At: filepath.Join(dir, "Stick"), Loader: loaderName, Via: "usb",
		As: filesystem, Capacity: 1 << 30, Everything: true}}
	require.NoError(t, os.MkdirAll(w.bench.Targets[0].At, 0o755))
	return w
}

func (w *workshop) scanned() {
	r, err := scan.Scan(context.Background(), []string{filepath.Join(w.dir, "games")}, scan.Options{Set: w.o.Set,
		Edits: w.bench.ResolvedEdits()})
	require.NoError(w.t, err)
	w.titles = r.Titles
}

// edit sets something by hand for the title of a file.
func (w *workshop) edit(file string, change func(*title.Edit)) {
	w.bench.Edit(filepath.Join(w.dir, "games", file), "", change)
	w.scanned()
}

func (w *workshop) at(target string, path string) string {
	return filepath.Join(w.dir, target, filepath.FromSlash(path))
}

func (w *workshop) look(n int) *survey.Survey {
	s, err := survey.Take(context.Background(), w.bench, n, w.titles, w.o)
	require.NoError(w.t, err)
	return s
}

func (w *workshop) board() (b survey.Board) {
	for n := range w.bench.Targets {
		b = append(b, w.look(n))
	}
	b.Relate(nil)
	return b
}

func (w *workshop) fill(n int) (*plan.Plan, run.Report) {
	s := w.look(n)
	to, err := s.Open(context.Background())
	require.NoError(w.t, err)
	defer to.Close()
	foreseen := map[check.Depth]*check.Report{}
	if s.Carries() == "" {
		for _, depth := range []check.Depth{check.Names, check.Inside} {
			foreseen[depth], err = s.CheckPlanned(context.Background(), s.Plan(), depth)
			require.NoError(w.t, err)
		}
	}
	r := run.Run(context.Background(), s.Plan(), to, run.Options{}, func(run.Event) {})
	require.Empty(w.t, r.Failed)
	s.Wrote(w.o.Cache, r.Wrote)
	for depth, before := range foreseen {
		after, err := s.Check(context.Background(), depth)
		require.NoError(w.t, err)
		assert.Equal(w.t, checkWords(after), checkWords(before),
			"what a check says is known before the run, at depth %s", depth)
	}
	return s.Plan(), r
}

// checkWords are what a check says, without what nobody can know before: when, and how small what is packed becomes.
func checkWords(r *check.Report) (out []string) {
	for _, l := range r.Listed {
		out = append(
			out,
			fmt.Sprintf("listed %s: %s %s %q %t %d %s %q %d %t", l.Loader, l.Path, l.ID, l.Name, l.Starts, l.Discs,
				l.Cover, l.Section, l.Place, l.Favourite),
		)
	}
	for _, f := range r.Findings {
		out = append(out, fmt.Sprintf("%s %s %s: %s", f.Grade, f.Kind, f.Path, f.Say))
	}
	return out
}

func vesperImage(t *testing.T, id, name string) []byte {
	return coretest.Image(t, coretest.Inf(id, name, "1/1", "full"))
}

var fatStick = bench.Target{Name: "stick", Loader: "rowan", As: "fat32", Capacity: bench.Size(size.GiB),
	Everything: true}

func TestATitleUnderAnotherNameIsRenamedAndNotCopied(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide"),
		"nine.iso": vesperImage(t, "VSP-20431", "The Ninth Orchard")}, fatStick)
	coretest.Write(t, w.dir, "stick/ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
	coretest.Write(t, w.dir, "stick/FULL/copper_tide_final.iso", vesperImage(t, "VSP-20417", "Copper Tide"))
	other := vesperImage(t, "VSP-99999", "Another of that length")
	coretest.Write(t, w.dir, "stick/FULL/another.iso", other)
	before, err := os.Stat(w.at("stick", "FULL/copper_tide_final.iso"))
	require.NoError(t, err)

	s := w.look(0)
	kinds := map[string]fit.Kind{}
	for i := range s.Titles {
		kinds[s.Titles[i].Name] = s.Sheet.Verdict(i).Kind
		if s.Titles[i].Name == "Copper Tide" {
			assert.Contains(t, s.Sheet.Explain(i).Say,
				"is already there as FULL/copper_tide_final.iso, and is renamed to FULL/VSP-20417 - Copper Tide.iso "+
					"without copying")
		}
	}
	assert.Equal(t, map[string]fit.Kind{"Copper Tide": fit.Renamed, "The Ninth Orchard": fit.Copy}, kinds,
		"what only has the same length is not taken for it")
	p, r := w.fill(0)
	assert.Equal(t, 1, r.Moved)
	assert.Less(t, p.Bytes, int64(60_000), "one game and two settings")
	after, err := os.Stat(w.at("stick", "FULL/VSP-20417 - Copper Tide.iso"))
	require.NoError(t, err)
	assert.True(t, os.SameFile(before, after))
	listing, err := sim.Rowan{}.List(os.DirFS(w.at("stick", "")))
	require.NoError(t, err)
	assert.Len(t, listing.Games, 2)
	assert.True(t, w.look(0).Plan().Empty())
	left, err := os.ReadFile(w.at("stick", "FULL/another.iso"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(other, left))
}

func TestATargetThatIsAwayShowsWhatWasOnIt(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide")}, fatStick)
	store, err := scancache.Open(filepath.Join(t.TempDir(), "seen.sqlite"))
	require.NoError(t, err)
	defer store.Close()
	_, err = survey.Take(context.Background(), w.bench, 0, w.titles, survey.Options{Set: w.o.Set})
	require.NoError(t, err)
	w.o.Cache = store
	w.fill(0)
	s := w.look(0)
	require.Equal(t, fit.Present, s.Sheet.Verdict(0).Kind)

	gone := w.at("stick", "") + "-unplugged"
	require.NoError(t, os.Rename(w.at("stick", ""), gone))
	s = w.look(0)
	require.Error(t, s.Away)
	assert.Equal(t, fit.Present, s.Sheet.Verdict(0).Kind, "as it was when it was looked at last")
	assert.Contains(t, strings.Join(s.Plan().Notes, " "), "is not connected")
	_, err = s.Open(t.Context())
	assert.ErrorContains(t, err, "no folder")

	w.bench.Targets[0].Name = "never seen"
	w.bench.Targets[0].At += "-2"
	_, err = survey.Take(context.Background(), w.bench, 0, w.titles, w.o)
	assert.Error(t, err, "of a target that was never looked at there is nothing to show")
}

func TestAListingServesAgainUntilSomethingChanges(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide")}, fatStick)
	store, err := scancache.Open(filepath.Join(t.TempDir(), "seen.sqlite"))
	require.NoError(t, err)
	defer store.Close()
	w.o.Cache = store
	coretest.Write(t, w.dir, "stick/mine/rota.txt", []byte("Mon North Hall"))
	long := time.Now().Add(-time.Hour)
	for _, p := range []string{"mine/rota.txt", "mine", ""} {
		require.NoError(t, os.Chtimes(w.at("stick", p), long, long))
	}
	has := func(path string) bool {
		for _, e := range w.look(0).There {
			if e.Path == path {
				return true
			}
		}
		return false
	}
	assert.True(t, has("mine/rota.txt"))
	assert.True(t, has("mine/rota.txt"))
	coretest.Write(t, w.dir, "stick/mine/new.txt", []byte("x"))
	assert.True(t, has("mine/new.txt"), "a file that came is seen at once")
	require.NoError(t, os.Remove(w.at("stick", "mine/new.txt")))
	assert.False(t, has("mine/new.txt"), "and one that went")
}

func TestSeveralLoadersShareATarget(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide"),
		"bell.iso": coretest.Siskin(t, "SK-8812", "Bell Buoy")},
		bench.Target{Name: "disk", Loader: "rowan", Also: []string{"trellis"}, As: "fat32",
			Capacity: bench.Size(size.GiB), Everything: true})
	coretest.Write(t, w.dir, "disk/ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
	s := w.look(0)
	assert.Equal(t, "Rowan and Trellis", s.Shown())
	assert.Equal(t, 2, s.Sheet.Mine)
	w.fill(0)
	assert.FileExists(t, w.at("disk", "FULL/VSP-20417 - Copper Tide.iso"))
	assert.FileExists(t, w.at("disk", "IMG-S/Bell Buoy.iso"))
	again := w.look(0)
	assert.True(t, again.Plan().Empty(), "%v", again.Plan().Steps)
	r, err := again.Check(context.Background(), "")
	require.NoError(t, err)
	assert.Len(t, r.Listed, 2, "what each of them lists")
	assert.Equal(t, "rowan and trellis", r.Loader)
	for name, list := range map[string]sim.Loader{"rowan": sim.Rowan{}, "trellis": sim.Trellis{}} {
		l, err := list.List(os.DirFS(w.at("disk", "")))
		require.NoError(t, err)
		assert.Len(t, l.Games, 1, name)
	}
}

func TestAMarkOnAWantedTitleIsReportedAndStays(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide")}, fatStick)
	w.fill(0)
	w.bench.Targets[0].Mark(true, "FULL/VSP-20417 - Copper Tide.iso")
	s := w.look(0)
	assert.Contains(t, strings.Join(s.Notes, " "), "belongs to Copper Tide, which is selected there: it stays")
	assert.True(t, s.Plan().Empty())
	w.bench.Targets[0].Want(false, w.titles[0].Key)
	assert.Equal(t, 1, w.look(0).Plan().Removes)
}

func TestCoversThatLieBesideGoAlong(t *testing.T) {
	var cover bytes.Buffer
	require.NoError(t, png.Encode(&cover, image.NewRGBA(image.Rect(0, 0, 400, 600))))
	games := map[string][]byte{"Copper Tide.iso": vesperImage(t, "VSP-20417", "Copper Tide"),
		"Copper Tide.png": cover.Bytes()}
	w := newWorkshop(t, games, fatStick)
	w.fill(0)
	b, err := os.ReadFile(w.at("stick", "FACES/front/VSP-20417.jpg"))
	require.NoError(t, err)
	head, kind, err := image.DecodeConfig(bytes.NewReader(b))
	require.NoError(t, err)
	assert.Equal(t, "jpeg", kind)
	assert.Equal(t, [2]int{245, 368}, [2]int{head.Width, head.Height}, "as large as the loader's box allows")
	assert.True(t, w.look(0).Plan().Empty())

	s := w.look(0)
	without, err := s.With(t.Context(), w.bench, 0, func(p *bench.Target) { p.NoCovers = true })
	require.NoError(t, err)
	assert.Positive(t, s.Sheet.Covers().There)
	assert.Zero(t, without.Sheet.Covers().There, "they are no covers of ours any more")
	assert.True(t, without.Plan().Empty(), "and stay")
}

func TestWhatIf(t *testing.T) {
	games := map[string][]byte{}
	for i := range 6 {
		games[fmt.Sprintf("%d.iso", i)] = vesperImage(t, fmt.Sprintf("VSP-0000%d", i), fmt.Sprint("Title ", i))
	}
	small := fatStick
	small.Capacity = bench.Size(250 * size.KiB)
	w := newWorkshop(t, games, small)
	s := w.look(0)
	require.Positive(t, s.Sheet.Count)
	require.Less(t, s.Sheet.Count, 6)
	before := tree(t, w.dir)
	larger, err := s.With(t.Context(), w.bench, 0, func(p *bench.Target) { p.Capacity = bench.Size(size.GiB) })
	require.NoError(t, err)
	d := survey.Compare("larger", s, larger)
	assert.Equal(t, [2]int{s.Sheet.Count, 6}, d.Goes)
	assert.Equal(t, 6-s.Sheet.Count, d.More)
	assert.Len(t, d.Changes, d.More)
	assert.Contains(t, d.Say(), "6 of the selected titles fit instead of")
	assert.Contains(t, d.Say(), "more free space")
	exfat, err := s.With(t.Context(), w.bench, 0, func(p *bench.Target) { p.As = "exfat" })
	require.NoError(t, err)
	d = survey.Compare("exfat", s, exfat)
	assert.Equal(t, 0, d.Goes[1])
	assert.Equal(t, s.Sheet.Count, d.Fewer)
	for _, c := range d.Changes {
		assert.Equal(t, fit.Unsupported, c.Is)
	}
	second, err := s.Another(t.Context(), w.bench, 0)
	require.NoError(t, err)
	assert.Equal(t, 6-s.Sheet.Count, second.Sheet.Count,
		"what is left over goes to a second one like it, as far as it fits")
	_, err = s.With(t.Context(), w.bench, 0, func(p *bench.Target) { p.Loader = "nobody" })
	assert.ErrorContains(t, err, "nobody")
	change, err := survey.Supposition("rule:attachment.stick.largest-file=10KiB, rule:accept.1.too-large.do=refuse")
	require.NoError(t, err)
	strict, err := s.With(t.Context(), w.bench, 0, change)
	require.NoError(t, err)
	assert.Equal(t, fit.TooBig, strict.Sheet.Verdict(0).Kind, "a rule of the loader is another one")
	assert.Equal(t, fit.Copy, s.Sheet.Verdict(0).Kind)
	change, err = survey.Supposition("rule:accept.1.too-large.do=refsue")
	require.NoError(t, err)
	_, err = s.With(t.Context(), w.bench, 0, change)
	assert.ErrorContains(t, err, `did you mean "refuse"?`)
	_, err = s.With(t.Context(), w.bench, 0, func(p *bench.Target) { p.As = "fat99" })
	assert.Error(t, err)

	assert.Equal(t, before, tree(t, w.dir), "nothing is written")
	assert.Equal(t, small.Capacity, w.bench.Targets[0].Capacity, "and nothing is kept")
	assert.Equal(t, s.Sheet.Count, w.look(0).Sheet.Count)
}

// tree lists what is below a folder.
func tree(t *testing.T, dir string) string {
	var out strings.Builder
	require.NoError(t, filepath.Walk(dir, func(p string, info os.FileInfo, err error) error {
		if err == nil {
			fmt.Fprintln(&out, p, info.Size(), info.ModTime())
		}
		return err
	}))
	return out.String()
}

func TestDistributingOverTargets(t *testing.T) {
	games := map[string][]byte{"bell.iso": coretest.Siskin(t, "SK-8812", "Bell Buoy")}
	for i := range 6 {
		games[fmt.Sprintf("%d.iso", i)] = vesperImage(t, fmt.Sprintf("VSP-0000%d", i), fmt.Sprint("Title ", i))
	}
	games["broken.iso"] = vesperImage(t, "VSP-00007", "Broken")[:50_000]
	slow, quick := fatStick, bench.Target{Name: "share", Loader: "rowan", Via: "smb", As: "fat32",
		Capacity: bench.Size(250 * size.KiB)}
	w := newWorkshop(t, games, slow, quick)
	w.bench.Targets[1].Want(true, "VSP-00003")
	w.fill(1)
	w.bench.Favour(true, "VSP-00005")
	b := w.board()
	sh := b.Distribute(w.bench, b.Wanted())
	homes := map[string]survey.Home{}
	for _, h := range sh.Homes {
		homes[h.Label] = h
	}
	assert.Equal(t, "share", homes["Title 3"].Name)
	assert.Equal(t, "it is already there", homes["Title 3"].Why)
	assert.Equal(t, "share", homes["Title 5"].Name, "a favourite gets the quick connection while there is space")
	assert.Contains(t, homes["Title 5"].Why, "a moment, as it would be on stick")
	assert.Equal(t, -1, homes["broken.iso"].Target)
	assert.Contains(t, homes["broken.iso"].Why, "stick: bad; share: bad")
	assert.NotContains(t, homes, "Bell Buoy", "no loader has anything to do with it")
	onStick := 0
	for _, h := range sh.Homes {
		if h.Name == "stick" {
			onStick++
			assert.Contains(t, h.Why, "quicker would be share", h.Label)
		}
	}
	assert.Positive(t, onStick, "not all find space on the quick one")
	assert.Equal(t, len(sh.Homes), sh.Here+sh.Going+sh.Left)

	before, err := json.Marshal(sh)
	require.NoError(t, err)
	again, err := json.Marshal(w.board().Distribute(w.bench, b.Wanted()))
	require.NoError(t, err)
	assert.Equal(t, string(before), string(again), "the same each time")

	sh.Apply(w.bench, b)
	after := w.board()
	for n, s := range after {
		for _, h := range sh.Homes {
			assert.Equal(t, h.Target == n, s.Sheet.Chosen[h.Title], "%s at %s", h.Label, s.Config.Name)
			if h.Target == n {
				assert.True(t, s.Sheet.Verdict(h.Title).Kind.Goes(), "%s at %s: %s", h.Label, s.Config.Name,
					s.Sheet.Explain(h.Title).Say)
			}
		}
	}
	d, lost := after.Without(0)
	assert.Len(t, lost, onStick, "what would have no home without the stick")
	assert.Equal(t, [2]int{after[0].Sheet.Count, 0}, d.Goes)
}

func TestATitleThatIsCopiedToTheConsolesOwnDisk(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide")},
		bench.Target{Name: "stick", Loader: "trellis", Via: "usb", As: "exfat", Capacity: bench.Size(size.GiB),
			Everything: true},
		bench.Target{Name: "disk", Loader: "trellis", Via: "ftp", As: "ext4", Capacity: bench.Size(64 * size.MiB)})
	alone := w.look(0)
	assert.Equal(t, fit.Copy, alone.Sheet.Verdict(0).Kind)
	assert.Contains(t, alone.Sheet.Explain(0).Say,
		"the console copies it to its own disk, so 52.00 KiB must be free there as well")
	assert.Equal(t, fit.Copy, w.board()[0].Sheet.Verdict(0).Kind)
	w.bench.Targets[1].Reserve = bench.Size(63 * size.MiB)
	b := w.board()
	assert.Equal(t, fit.NeedsDisk, b[0].Sheet.Verdict(0).Kind)
	e := b.Explain(0, 0)
	assert.Contains(t, e.Say, "the console copies it to its own disk first, but disk has")
	assert.Equal(t, "deselect titles on disk", e.Ways[0].Say)
}

func TestWaysOutNameOtherTargets(t *testing.T) {
	tiny := fatStick
	tiny.Capacity = bench.Size(60 * size.KiB)
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide")}, tiny,
		bench.Target{Name: "share", Loader: "rowan", Via: "smb", As: "ext4", Capacity: bench.Size(size.GiB)})
	e := w.board().Explain(0, 0)
	require.Equal(t, fit.NoSpace, e.Verdict)
	assert.Equal(t, []string{"share copies it, a moment over SMB", "use a larger target"}, e.Words(),
		"the cheapest comes first")
}

func TestATitleThatWasFixedSinceIsNotThere(t *testing.T) {
	old := vesperImage(t, "VSP-20417", "Copper Tide")
	w := newWorkshop(t, map[string][]byte{"tide.iso": old, "falcons.iso": vesperImage(t, "VSP-20502", "Paper Falcons")},
		fatStick)
	w.fill(0)
	file := "FULL/VSP-20417 - Copper Tide.iso"
	later := time.Now().Add(time.Hour)
	fixed := bytes.Clone(old)
	fixed[len(fixed)/2] ^= 0xFF
	coretest.Write(t, filepath.Join(w.dir, "games"), "tide.iso", fixed)
	for _, name := range []string{"tide.iso", "falcons.iso"} {
		require.NoError(t, os.Chtimes(filepath.Join(w.dir, "games", name), later, later))
	}
	w.scanned()
	s := w.look(0)
	verdicts := map[string]fit.Kind{}
	for i := range s.Titles {
		verdicts[s.Titles[i].Label()] = s.Sheet.Verdict(i).Kind
	}
	assert.Equal(t, map[string]fit.Kind{"Copper Tide": fit.Differs, "Paper Falcons": fit.Present}, verdicts,
		"one that was only touched is there")
	for i := range s.Titles {
		if s.Titles[i].Label() == "Copper Tide" {
			e := s.Sheet.Explain(i)
			assert.Contains(t, e.Say, "an older file of the same length with other content is already at its path")
			assert.Contains(t, e.Words(), "mark it in Tree to be replaced")
		}
	}
	w.bench.Targets[0].Replace = []string{file}
	p, r := w.fill(0)
	assert.Equal(t, 1, p.Loses())
	assert.Empty(t, r.Failed)
	got, err := os.ReadFile(w.at("stick", file))
	require.NoError(t, err)
	assert.Equal(t, fixed, got)
}

// TestWhatAPersonEditedStaysWhenTheRuleChanges: texts are merged three ways, and what both have changed is asked.
func TestWhatAPersonEditedStaysWhenTheRuleChanges(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide"),
		"falcons.iso": vesperImage(t, "VSP-20502", "Paper Falcons")}, fatStick)
	store, err := scancache.Open(filepath.Join(t.TempDir(), "seen.db"))
	require.NoError(t, err)
	defer store.Close()
	w.o.Cache = store
	w.fill(0)
	tune := w.at("stick", "TUNE/VSP-20417.tune")
	edit := func(text string) { require.NoError(t, os.WriteFile(tune, []byte(text), 0o644)) }
	is := func(want string) {
		t.Helper()
		got, err := os.ReadFile(tune)
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
	}
	is("timing=a\ntray=shut\n")
	edit("# by hand\ntiming=c\ntray=shut\n")
	assert.True(t, w.look(0).Plan().Empty(), "what was edited is left alone while the rule is the same")

	// The rule wants another tray, and something new.
	rule := func(text string) {
		w.bench.Targets[0].Rules = map[string]string{"companion.3.text": text, "companion.3.switch": "[]"}
	}
	rule("timing=a\ntray=open\nfan=on\n")
	p, _ := w.fill(0)
	assert.Zero(t, p.Loses(), "nothing is lost")
	assert.Len(t, p.Steps, 2, "and one for the title that nobody edited")
	is("# by hand\ntiming=c\ntray=open\nfan=on\n")
	assert.True(t, w.look(0).Plan().Empty())

	// Both change the same key.
	edit("# by hand\ntiming=c\ntray=half\nfan=on\n")
	rule("timing=a\ntray=shut\nfan=off\n")
	s := w.look(0)
	require.Len(t, s.Conflicts, 1)
	assert.Contains(t, s.Plan().Notes[0],
		`TUNE/VSP-20417.tune: tray was "open", was changed by hand to "half", and would become "shut". Yours `+
			`stays; mark it to be replaced to get the new one.`)
	w.fill(0)
	is("# by hand\ntiming=c\ntray=half\nfan=off\n")
	w.bench.Targets[0].Replace = []string{"TUNE/VSP-20417.tune"}
	edit("# by hand\ntiming=c\ntray=ajar\nfan=off\n")
	rule("timing=a\ntray=wide\nfan=off\n")
	assert.Empty(t, w.look(0).Conflicts)
	w.fill(0)
	is("# by hand\ntiming=c\ntray=wide\nfan=off\n")

	w.o.Cache = nil // another computer: no one knows what was written, so nothing is touched
	rule("timing=b\ntray=open\n")
	assert.True(t, w.look(0).Plan().Empty())
}

func TestStartFilesAreWrittenAndKept(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"Tollgate/start.prog": []byte("run"),
		"Tollgate/a.about": []byte("Tollgate\n")},
		bench.Target{Name: "stick", Loader: "plover", As: "fat32", Capacity: bench.Size(size.GiB), Everything: true})
	if len(w.titles) == 0 {
		t.Fatal("no title was found")
	}
	before := w.look(0)
	before.Plan()
	w.fill(0)
	prefs, err := os.ReadFile(w.at("stick", "boot/plover.prefs"))
	require.NoError(t, err)
	assert.Equal(t, "saves=at-once\nleave=F10\nlogo=off\n", string(prefs))
	assert.FileExists(t, w.at("stick", "boot/plover.script"))
	after := w.look(0)
	assert.Equal(t, before.Sheet.Free(), after.Facts.Free, "their space was foretold")
	assert.True(t, after.Plan().Empty())
	coretest.Write(t, filepath.Join(w.dir, "stick"), "boot/plover.prefs", []byte("mine=1\n"))
	assert.True(t, w.look(0).Plan().Empty(), "the user's own edits stay")
}

// skuaDisc is a disc of so many bytes whose first ones are used, and hold noise.
func skuaDisc(t *testing.T, id string, size, used int) []byte {
	b := make([]byte, size)
	copy(b, "SKUADISC")
	copy(b[0x10:], id)
	b[0x18] = 1
	copy(b[0x40:], "Long Water")
	for i := range (used + 2047) / 2048 {
		b[0x8000+i/8] |= 1 << (i % 8)
	}
	rng := rand.New(rand.NewPCG(3, uint64(size)))
	for i := 0x9000; i < used; i++ {
		b[i] = byte(rng.Uint32())
	}
	return b
}

// TestPackedImagesInParts packs a disc on its way into several files: what was accounted for is enough, a second look
// finds it there with its exact size, and the check and the simulator agree, also about damage.
func TestPackedImagesInParts(t *testing.T) {
	disc := skuaDisc(t, "SKU-0007", 3<<20, 1_500_000)
	stick := bench.Target{Name: "stick", Loader: "mica", As: "fat32", Capacity: bench.Size(size.GiB), Everything: true,
		Rules: map[string]string{"accept.1.too-large.over": "400KiB", "accept.1.too-large.part-size": "400KiB"}}
	w := newWorkshop(t, map[string][]byte{"water.skd": disc}, stick)
	s := w.look(0)
	v := s.Sheet.Verdict(0)
	require.Equal(t, fit.Packed, v.Kind)
	assert.Equal(t, "pack, 4", v.Word())
	assert.True(t, v.AtMost)
	assert.Contains(t, s.Sheet.Explain(0).Say,
		"Mica starts packed images: what the image does not use is left out, from 3.00 MiB to skua/SKU-0007/Long "+
			"Water.pkd, and takes at most 1.4")
	p, r := w.fill(0)
	assert.Equal(t, "pack", p.Steps[len(p.Steps)-1].Words())
	assert.LessOrEqual(t, r.Bytes, p.Bytes)

	again := w.look(0)
	assert.True(t, again.Plan().Empty(), "%v", again.Plan().Steps)
	assert.Equal(t, fit.Present, again.Sheet.Verdict(0).Kind)
	assert.False(t, again.Sheet.Verdict(0).AtMost, "its size is exact now")
	assert.GreaterOrEqual(t, again.Facts.Free, s.Sheet.Free(), "what was accounted for was enough")
	agree := func(starts bool, say string) {
		t.Helper()
		audit, err := w.look(0).Check(context.Background(), "")
		require.NoError(t, err)
		list, err := sim.Loaders["mica"].List(os.DirFS(filepath.Join(w.dir, "stick")))
		require.NoError(t, err)
		require.Len(t, audit.Listed, 1)
		require.Len(t, list.Games, 1)
		assert.Equal(t, starts, audit.Listed[0].Starts)
		assert.Equal(t, starts, list.Games[0].Starts, list.Games[0].Why)
		if say != "" {
			found := false
			for _, f := range audit.Findings {
				found = found || strings.Contains(f.Say, say)
			}
			assert.True(t, found, "%v", audit.Findings)
		}
	}
	agree(true, "")

	// A part that is gone is put again, and the others stay.
	third := w.at("stick", "skua/SKU-0007/Long Water.4.pkd")
	require.NoError(t, os.Remove(third))
	agree(false, "a part of it is not there")
	p, _ = w.fill(0)
	assert.Equal(t, 1, p.Files)
	agree(true, "")
	assert.True(t, w.look(0).Plan().Empty())

	// Another disc under its path is reported, and replaced only when that is said.
	coretest.Write(t, filepath.Join(w.dir, "games"), "water.skd", skuaDisc(t, "SKU-0007", 3<<20, 1_200_000))
	w.scanned()
	assert.Equal(t, fit.Differs, w.look(0).Sheet.Verdict(0).Kind)
}

// TestWhatIsKnownOfOneStickIsNotTakenForAnother: alike sticks have their trees in common, and a packed image that is on
// one of them has its exact size there alone.
func TestWhatIsKnownOfOneStickIsNotTakenForAnother(t *testing.T) {
	stick := bench.Target{Name: "one", Loader: "mica", As: "fat32", Capacity: bench.Size(size.GiB), Everything: true}
	other := stick
	other.Name, other.Capacity = "other", bench.Size(2*size.GiB)
	w := newWorkshop(t, map[string][]byte{"water.skd": skuaDisc(t, "SKU-0007", 3<<20, 1_500_000)}, stick, other)
	before := w.look(1)
	require.True(t, before.Sheet.Verdict(0).AtMost)
	assert.Same(t, &before.Sheet.Placement(0).Items[0], &w.look(0).Sheet.Placement(0).Items[0], "they are alike")
	w.fill(0)
	assert.False(t, w.look(0).Sheet.Verdict(0).AtMost, "its size is exact now")
	assert.True(t, before.Sheet.Placement(0).Items[0].AtMost)
	after := w.look(1)
	assert.True(t, after.Sheet.Verdict(0).AtMost, "and not that of the other")
	assert.Equal(t, before.Sheet.Placement(0).Items, after.Sheet.Placement(0).Items)
}

// TestAPackThatIsInterrupted stops, fails and fills up in the middle of packing: nothing stands under a final name but
// whole parts, and the next run makes it whole.
func TestAPackThatIsInterrupted(t *testing.T) {
	disc := skuaDisc(t, "SKU-0007", 8<<20, 7<<20)
	stick := bench.Target{Name: "stick", Loader: "mica", As: "fat32", Capacity: bench.Size(size.GiB), Everything: true,
		Rules: map[string]string{"accept.1.too-large.over": "2MiB", "accept.1.too-large.part-size": "2MiB"}}
	w := newWorkshop(t, map[string][]byte{"water.skd": disc}, stick)
	s := w.look(0)
	to, err := s.Open(context.Background())
	require.NoError(t, err)
	defer to.Close()
	ctx, cancel := context.WithCancel(context.Background())
	r := run.Run(ctx, s.Plan(), to, run.Options{}, func(e run.Event) {
		if e.Kind == run.Done && strings.HasSuffix(e.Path, "Long Water.pkd") {
			cancel()
		}
	})
	assert.True(t, r.Stopped)
	left := tree(t, filepath.Join(w.dir, "stick"))
	assert.NotContains(t, left, "polytome-")
	assert.NotContains(t, left, ".3.pkd")
	p, _ := w.fill(0)
	assert.Positive(t, p.Files)
	audit, err := w.look(0).Check(context.Background(), "")
	require.NoError(t, err)
	require.Len(t, audit.Listed, 1)
	assert.True(t, audit.Listed[0].Starts)

	// The source is cut short since it was looked at.
	w = newWorkshop(t, map[string][]byte{"water.skd": disc}, stick)
	s = w.look(0)
	file := filepath.Join(w.dir, "games", "water.skd")
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(file, 5<<20))
	require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	to2, err := s.Open(t.Context())
	require.NoError(t, err)
	defer to2.Close()
	r = run.Run(context.Background(), s.Plan(), to2, run.Options{}, func(run.Event) {})
	require.NotEmpty(t, r.Failed)
	assert.Contains(t, r.Failed[0].Say, "scan again")
	now, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, disc[:5<<20], now, "the source is not touched")
}
