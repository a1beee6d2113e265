package saves_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/run"
	"polytome/internal/core/saves"
	"polytome/internal/core/scan"
	"polytome/internal/core/survey"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/sim/ftpd"
	"polytome/internal/sim/samba"
	"polytome/internal/target"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// collection is a folder with small games for the loaders that keep saves.
func collection(t *testing.T) []title.Title {
	dir := t.TempDir()
	coretest.Write(t, dir, "Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk"))
	coretest.Write(t, dir, "Tide Mill.w8", demo.Cartridge("WREN", "Tide Mill"))
	coretest.Write(t, dir, "Reed Runner.fin", demo.Cartridge("FNCH", "Reed Runner"))
	coretest.Write(t, dir, "a/main.run", demo.MainRun("CVN00117", "Hollow Lane", "N"))
	coretest.Write(t, dir, "b/main.run", demo.MainRun("CVN00130", "Salt Mill", "E"))
	coretest.Write(t, dir, "skua.iso", demo.SkuaDisc("SKUADISC", "SKU-00417", 1, "Winter Ferry"))
	coretest.Write(t, dir, "tide.iso", coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")))
	coretest.Write(t, dir, "circuit.iso", coretest.Image(t, coretest.Inf("VSP-21002", "Saffron Circuit", "1/1",
		"short")))
	coretest.Write(t, dir, "c/heron.cue",
		[]byte("FILE \"heron.bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n"))
	coretest.Write(t, dir, "c/heron.bin", coretest.Volume(t, "LAP_04412"))
	r, err := scan.Scan(t.Context(), []string{dir}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	return r.Titles
}

// A journey is what becomes of two sticks of one console, step by step.
type journey struct {
	t       *rapid.T
	dir     string
	set     *loader.Set
	bench   *bench.Bench
	titles  []title.Title
	vault   saves.Vault
	played  int
	reached map[string]string // what a player has -> where it was written
}

func (j *journey) stick(k int) string { return filepath.Join(j.dir, "stick "+fmt.Sprint(k)) }

func (j *journey) look(k int) *survey.Survey {
	s, err := survey.Take(context.Background(), j.bench, k, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(j.t, err)
	return s
}

// play has the simulated loaders write what somebody reaches in one of the games that they list and save.
func (j *journey) play() {
	type choice struct {
		k int
		g sim.Game
	}
	var all []choice
	for k := range j.bench.Targets {
		name, of := j.bench.Targets[k].Loader, os.DirFS(j.stick(k))
		l, err := sim.Loaders[name].List(of)
		require.NoError(j.t, err)
		for _, g := range l.Games {
			if file, _ := sim.Play(name, of, g, ""); file != "" {
				all = append(all, choice{k, g})
			}
		}
	}
	if len(all) == 0 {
		return
	}
	c := rapid.SampledFrom(all).Draw(j.t, "game")
	j.played++
	file, content := sim.Play(j.bench.Targets[c.k].Loader, os.DirFS(j.stick(c.k)), c.g, fmt.Sprint("state ", j.played))
	at := filepath.Join(j.stick(c.k), file)
	if old, err := os.ReadFile(at); err == nil {
		delete(j.reached, sim.Reached(old)) // the player writes over it, and may
	}
	require.NoError(j.t, os.MkdirAll(filepath.Dir(at), 0o755))
	require.NoError(j.t, os.WriteFile(at, content, 0o644))
	j.reached[sim.Reached(content)] = at
}

// fill carries the plan out; killed after so many events, or pulled after so many operations, or to its end.
func (j *journey) fill(k int) {
	s := j.look(k)
	job := s.Job(j.bench, s.Plan())
	ctx, kill := context.WithCancel(context.Background())
	defer kill()
	switch rapid.SampledFrom([]string{"whole", "whole", "killed", "pulled"}).Draw(j.t, "how") {
	case "killed":
		events := rapid.IntRange(1, 20).Draw(j.t, "killed after")
		job.Emit = func(run.Event) {
			if events--; events == 0 {
				kill()
			}
		}
	case "pulled":
		open, after := job.Open, rapid.IntRange(0, 20).Draw(j.t, "pulled after")
		job.Open = func(ctx context.Context) (target.Target, error) {
			to, err := open(ctx)
			if err != nil {
				return nil, err
			}
			return &failing{to, after}, nil
		}
		job.Patience = -1
	}
	if job.Emit == nil {
		job.Emit = func(run.Event) {}
	}
	run.Start(ctx, job).Wait()
}

// rename gives a game on a stick another name by hand, with its save or without.
func (j *journey) rename(k int) {
	var games []string
	_ = filepath.WalkDir(j.stick(k), func(p string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() && slices.Contains([]string{".w8", ".fin"}, filepath.Ext(p)) {
			games = append(games, p)
		}
		return nil
	})
	if len(games) == 0 {
		return
	}
	was := rapid.SampledFrom(games).Draw(j.t, "file")
	is := strings.TrimSuffix(was, filepath.Ext(was)) + " x" + filepath.Ext(was)
	require.NoError(j.t, os.Rename(was, is))
	hold := func(p string) string { return strings.TrimSuffix(p, filepath.Ext(p)) + ".hold" }
	if _, err := os.Lstat(hold(is)); err != nil && rapid.Bool().Draw(j.t, "with its save") {
		_ = os.Rename(hold(was), hold(is)) // where there is one
	}
}

// restore puts any version on any stick.
func (j *journey) restore(k int) {
	all, err := j.vault.Versions()
	require.NoError(j.t, err)
	if len(all) == 0 {
		return
	}
	s := j.look(k)
	to, err := s.Open(context.Background())
	require.NoError(j.t, err)
	defer to.Close()
	place := saves.Place{Target: &failing{to, rapid.IntRange(0, 12).Draw(j.t, "pulled after")}, Name: s.Config.Name,
		ID: j.stick(k)}
	_, _ = j.vault.Restore(context.Background(), place, &all[rapid.IntRange(0, len(all)-1).Draw(j.t, "version")], "")
}

// prepare empties a stick, as preparing does: its saves are kept before.
func (j *journey) prepare(k int) {
	if _, _, err := j.look(k).KeepSaves(context.Background(), "before it was prepared"); err != nil {
		return
	}
	require.NoError(j.t, os.RemoveAll(j.stick(k)))
	require.NoError(j.t, os.Mkdir(j.stick(k), 0o755))
}

// holds compares what players have reached with what is on the sticks and in the vault.
func (j *journey) holds() {
	have := map[string]bool{}
	for k := range j.bench.Targets {
		_ = filepath.WalkDir(j.stick(k), func(p string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				if b, err := os.ReadFile(p); err == nil {
					have[sim.Reached(b)] = true
				}
			}
			return nil
		})
	}
	versions, err := j.vault.Versions()
	require.NoError(j.t, err)
	for _, v := range versions {
		for _, f := range v.Files {
			b, err := os.ReadFile(j.vault.File(f))
			require.NoError(j.t, err)
			have[sim.Reached(b)] = true
		}
	}
	for state, at := range j.reached {
		if !have[state] {
			j.t.Fatalf("%q, which was at %s, is neither on a stick nor in the vault", state, at)
		}
	}
}

// TestNoSaveIsLostOnAnyJourney: whatever is prepared, filled, played, renamed, removed, moved to the other stick, put
// back, killed and pulled, in any order, what a player has reached is on a stick or in the vault.
func TestNoSaveIsLostOnAnyJourney(t *testing.T) {
	titles := collection(t)
	require.Len(t, titles, 9)
	set := coretest.Set(t)
	fills, followed := 0, 0
	judge.Times(t, 40, func(t *rapid.T) {
		dir, err := os.MkdirTemp("", "")
		require.NoError(t, err)
		defer os.RemoveAll(dir)
		j := &journey{t: t, dir: dir, set: set, bench: bench.New(""), titles: titles,
			vault: saves.Vault{Dir: filepath.Join(dir, "vault")}, reached: map[string]string{}}
		as := rapid.SampledFrom([][2]string{{"oxbow", "exfat"}, {"oxbow", "exfat"}, {"gantry", "ext4"},
			{"mica", "fat32"}, {"bellows", "fat32"}, {"rowan", "fat32"}}).Draw(t, "loader")
		for k := range 2 {
			require.NoError(t, os.Mkdir(j.stick(k), 0o755))
			j.bench.Targets = append(j.bench.Targets, bench.Target{Name: fmt.Sprint("Stick ", k), At: j.stick(k),
				Loader: as[0], As: as[1], Everything: true})
		}
		steps := rapid.IntRange(4, 14).Draw(t, "steps")
		for i := range steps {
			k := rapid.IntRange(0, 1).Draw(t, "stick")
			c := &j.bench.Targets[k]
			what := "fill"
			if i == 1 {
				what = "play"
			} else if i > 1 {
				what = rapid.SampledFrom([]string{"play", "play", "play", "fill", "fill", "rename", "deselect", "only",
					"keep", "restore", "prepare"}).Draw(t, "what")
			}
			switch what {
			case "fill":
				j.fill(k)
				fills++
			case "play":
				j.play()
			case "rename":
				j.rename(k)
			case "deselect":
				key := titles[rapid.IntRange(0, len(titles)-1).Draw(t, "title")].Key
				if n := slices.Index(c.Without, key); n >= 0 {
					c.Without = slices.Delete(c.Without, n, n+1)
				} else {
					c.Without = append(c.Without, key)
				}
			case "only":
				c.DeleteOthers = !c.DeleteOthers
			case "keep":
				_, _, err := j.look(k).KeepSaves(context.Background(), "")
				require.NoError(t, err)
			case "restore":
				j.restore(k)
			case "prepare":
				j.prepare(k)
			}
			j.holds()
		}
		followed += len(j.reached)
	})
	require.NotZero(t, fills)
	require.NotZero(t, followed, "nothing was ever reached")
}

// filled is a stick with everything on it, of a bench with so many; see [journey].
func filled(t *testing.T, as [2]string, sticks int) (j *journey, fill func(k int) *survey.Survey) {
	j = &journey{dir: t.TempDir(), set: coretest.Set(t), bench: bench.New(""), titles: collection(t)}
	j.vault.Dir = filepath.Join(j.dir, "vault")
	take := func(k int) *survey.Survey {
		s, err := survey.Take(t.Context(), j.bench, k, j.titles, survey.Options{Set: j.set, Vault: j.vault})
		require.NoError(t, err)
		return s
	}
	for k := range sticks {
		require.NoError(t, os.Mkdir(j.stick(k), 0o755))
		j.bench.Targets = append(j.bench.Targets, bench.Target{Name: fmt.Sprint("Stick ", k), At: j.stick(k),
			Loader: as[0], As: as[1], Everything: true})
	}
	return j, func(k int) *survey.Survey {
		s := take(k)
		job := s.Job(j.bench, s.Plan())
		job.Emit = func(run.Event) {}
		r := run.Start(t.Context(), job).Wait()
		require.True(t, r.All(), "%v", r)
		return take(k)
	}
}

func (j *journey) write(t *testing.T, k int, file, text string) {
	coretest.Write(t, j.stick(k), file, []byte(text))
}

func (j *journey) text(t *testing.T, k int, file string) string {
	b, err := os.ReadFile(filepath.Join(j.stick(k), file))
	require.NoError(t, err)
	return string(b)
}

func TestASaveFollowsItsTitleToItsName(t *testing.T) {
	j, fill := filled(t, [2]string{"oxbow", "exfat"}, 1)
	fill(0)
	play := "oxbow/play/wren8/"
	j.write(t, 0, play+"Ropewalk.hold", "reached")
	rename := func(from, to string) {
		require.NoError(t, os.Rename(filepath.Join(j.stick(0), play+from), filepath.Join(j.stick(0), play+to)))
	}
	rename("Ropewalk.w8", "old.w8")
	rename("Ropewalk.hold", "old.hold")
	s := fill(0)
	assert.Equal(t, "reached", j.text(t, 0, play+"Ropewalk.hold"))
	assert.NoFileExists(t, filepath.Join(j.stick(0), play+"old.hold"))
	all, err := j.vault.Versions()
	require.NoError(t, err)
	require.Len(t, all, 1, "it was kept before it was renamed")
	assert.Equal(t, play+"old.hold", all[0].Path)
	require.Len(t, s.Saves(), 1)
	require.Len(t, s.Saves()[0].Titles, 1)
	assert.Equal(t, "Ropewalk", s.Titles[s.Saves()[0].Titles[0]].Name)

	rename("Ropewalk.w8", "old.w8") // its save stays behind, and another one has the old name
	j.write(t, 0, play+"old.hold", "another")
	s, err = survey.Take(t.Context(), j.bench, 0, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(s.Plan().Notes, "\n"),
		"oxbow/play/wren8/old.hold keeps its name: there is a save at oxbow/play/wren8/Ropewalk.hold already")
	fill(0)
	assert.Equal(t, "reached", j.text(t, 0, play+"Ropewalk.hold"))
	assert.Equal(t, "another", j.text(t, 0, play+"old.hold"))
}

func TestASaveInTheFolderOfItsTitleMovesWithIt(t *testing.T) {
	j, fill := filled(t, [2]string{"bellows", "fat32"}, 1)
	s := fill(0)
	var own string
	for _, e := range s.There {
		if strings.HasSuffix(e.Path, ".cue") {
			own = filepath.Dir(e.Path)
		}
	}
	require.NotEmpty(t, own)
	j.write(t, 0, own+"/state/slot 1", "reached")
	old := filepath.Join(filepath.Dir(own), "Another Name")
	require.NoError(t, os.Rename(filepath.Join(j.stick(0), own), filepath.Join(j.stick(0), old)))
	s = fill(0)
	assert.Equal(t, "reached", j.text(t, 0, own+"/state/slot 1"))
	assert.True(t, s.Plan().Empty(), "%v", s.Plan().Steps)
}

func TestASaveComesAlongToAnotherTarget(t *testing.T) {
	j, fill := filled(t, [2]string{"oxbow", "exfat"}, 2)
	save := "oxbow/play/wren8/Ropewalk.hold"
	keep := func(k int) {
		s, err := survey.Take(t.Context(), j.bench, k, j.titles, survey.Options{Set: j.set, Vault: j.vault})
		require.NoError(t, err)
		_, _, err = s.KeepSaves(t.Context(), "")
		require.NoError(t, err)
	}
	fill(0)
	j.write(t, 0, save, "one")
	keep(0)
	s := fill(1)
	assert.Equal(t, "one", j.text(t, 1, save))
	require.Len(t, s.Saves(), 1)
	assert.Equal(t, saves.IsKept, s.Saves()[0].State)
	assert.Empty(t, s.Unkept())
	assert.True(t, s.Plan().Empty(), "%v", s.Plan().Steps)

	require.NoError(t, os.Remove(filepath.Join(j.stick(1), save)))
	fill(1)
	assert.NoFileExists(t, filepath.Join(j.stick(1), save), "what was deleted at the console is not put back")

	j.write(t, 1, save, "one and two") // played on from what was brought: the other is its ancestor
	keep(1)
	all, err := j.vault.Versions()
	require.NoError(t, err)
	tips := saves.Tips(all)
	require.Len(t, tips, 1)
	assert.Equal(t, "Stick 1", tips[0].Target)

	j.write(t, 0, save, "one and three") // and on the first as well
	keep(0)
	all, err = j.vault.Versions()
	require.NoError(t, err)
	require.Len(t, saves.Tips(all), 2)
	require.NoError(t, os.RemoveAll(filepath.Join(j.stick(1), "oxbow")))
	s, err = survey.Take(t.Context(), j.bench, 1, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(s.Plan().Notes, "\n"),
		"Ropewalk has 2 saves that somebody played on in: choose one under Saves.")
	j.bench.Targets[1].NoSaves = true
	s, err = survey.Take(t.Context(), j.bench, 1, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(t, err)
	assert.NotContains(t, strings.Join(s.Plan().Notes, "\n"), "choose one")
	j.bench.Targets[1].NoSaves = false
	fill(1)
	assert.NoFileExists(t, filepath.Join(j.stick(1), save), "the person chooses")
}

// TestASaveOnTheTargetStays although another one is kept: nobody had a say in which is to go on.
func TestASaveOnTheTargetStays(t *testing.T) {
	j, fill := filled(t, [2]string{"oxbow", "exfat"}, 2)
	save := "oxbow/play/wren8/Ropewalk.hold"
	fill(0)
	fill(1)
	j.write(t, 0, save, "kept")
	s, err := survey.Take(t.Context(), j.bench, 0, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(t, err)
	_, _, err = s.KeepSaves(t.Context(), "")
	require.NoError(t, err)
	j.write(t, 1, save, "not kept yet")
	s = fill(1)
	assert.Equal(t, "not kept yet", j.text(t, 1, save))
	assert.Len(t, s.Unkept(), 1)
	assert.True(t, s.Plan().Empty(), "%v", s.Plan().Steps)
}

func TestASaveThatHasNoSpaceStaysInTheVault(t *testing.T) {
	j, fill := filled(t, [2]string{"oxbow", "exfat"}, 2)
	fill(0)
	j.write(t, 0, "oxbow/play/wren8/Ropewalk.hold", strings.Repeat("x", 3<<20))
	j.write(t, 0, "oxbow/play/wren8/Tide Mill.hold", strings.Repeat("y", 3<<20))
	s, err := survey.Take(t.Context(), j.bench, 0, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(t, err)
	_, _, err = s.KeepSaves(t.Context(), "")
	require.NoError(t, err)
	j.bench.Targets[1].Capacity = 40 << 20
	s, err = survey.Take(t.Context(), j.bench, 1, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(t, err)
	j.bench.Targets[1].Capacity = bench.Size(40<<20 - s.Sheet.Free() + 4<<20)
	s, err = survey.Take(t.Context(), j.bench, 1, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(t, err)
	require.Greater(t, s.Sheet.Free(), int64(0))
	notes := strings.Join(s.Plan().Notes, "\n")
	assert.Equal(t, 1, strings.Count(notes, "There is no space for the save of "), "one of the two fits: %s", notes)
	assert.Len(t, s.Plan().Saves, 1)
}

// TestTips: what is newest goes by what came of what, not by dates.
func TestTips(t *testing.T) {
	at := func(n int, id, bytes string, put bool) saves.Version {
		return saves.Version{Number: n, ID: id, Path: "x.hold", PutBack: put, Files: []saves.File{{SHA256: bytes}}}
	}
	numbers := func(all ...saves.Version) (out []int) {
		for _, v := range saves.Tips(all) {
			out = append(out, v.Number)
		}
		return out
	}
	assert.Equal(t, []int{2}, numbers(at(1, "north", "a", false), at(2, "north", "b", false)))
	assert.Equal(t, []int{2, 1}, numbers(at(1, "north", "a", false), at(2, "south", "b", false)), "nobody knows")
	assert.Equal(t, []int{2}, numbers(at(1, "north", "a", false), at(2, "south", "a", true)), "the same bytes")
	assert.Equal(t, []int{3}, numbers(at(1, "north", "a", false), at(2, "south", "a", true), at(3, "south", "b",
		false)),
		"it came of what was put there")
	assert.Equal(t, []int{4, 3}, numbers(at(1, "north", "a", false), at(2, "south", "a", true),
		at(3, "south", "b", false), at(4, "north", "c", false)), "played on in both")
	assert.Equal(t, []int{3, 2}, numbers(at(1, "south", "z", false), at(2, "east", "z", true),
		at(3, "south", "a", true)), "what was put there did not come of what was there before")
	assert.Equal(t, []int{3}, numbers(at(1, "north", "a", false), at(2, "north", "b", false), at(3, "north", "a",
		false)),
		"somebody put the first one back by hand")
}

// TestASaveIsPutBackFarAway over FTP and SMB: with what was there kept first, and read back.
func TestASaveIsPutBackFarAway(t *testing.T) {
	for _, over := range []string{"ftp", "smb"} {
		t.Run(over, func(t *testing.T) {
			dir := t.TempDir()
			file := filepath.Join(dir, "ROWAN/cards/VSP-20417.crd")
			card := func(c string) string { return c + strings.Repeat("\x00", 6<<20-len(c)) }
			coretest.Write(t, dir, "ROWAN/cards/VSP-20417.crd", []byte(card("first")))
			at := ""
			if over == "ftp" {
				s, err := ftpd.Serve(dir, 0, ftpd.Habits{Sizes: true, Machine: true})
				require.NoError(t, err)
				t.Cleanup(s.Close)
				at = fmt.Sprintf("ftp://127.0.0.1:%d/", s.Port())
			} else {
				judge.NotWindows(t, "the server runs under Linux")
				s, err := samba.Serve(t.Context(), "rowan", dir, samba.Options{})
				require.NoError(t, err)
				t.Cleanup(s.Close)
				at = fmt.Sprintf("smb://127.0.0.1:%d/rowan", s.Port)
			}
			b := bench.New("")
			b.Targets = []bench.Target{{Name: "Far", At: at, Loader: "rowan", As: "fat32"}}
			v := saves.Vault{Dir: t.TempDir()}
			take := func() *survey.Survey {
				s, err := survey.Take(t.Context(), b, 0, nil, survey.Options{Set: coretest.Set(t), Vault: v})
				require.NoError(t, err)
				return s
			}
			all, fresh, err := take().KeepSaves(t.Context(), "")
			require.NoError(t, err)
			assert.Equal(t, [2]int{1, 1}, [2]int{all, fresh})
			assert.Empty(t, take().Unkept())
			require.NoError(t, os.WriteFile(file, []byte(card("second")), 0o644))
			require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(time.Hour)))
			assert.Len(t, take().Unkept(), 1)
			one, err := v.Version(1)
			require.NoError(t, err)
			r, err := take().PutBack(t.Context(), one, "")
			require.NoError(t, err)
			assert.Equal(t, 1, r.Written)
			got, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, "first", sim.Reached(got))
			require.NotNil(t, r.Before)
			kept, err := os.ReadFile(v.File(r.Before.Files[0]))
			require.NoError(t, err)
			assert.Equal(t, "second", sim.Reached(kept))
		})
	}
}

// TestWhatCameAlongIsNotedWhenItIsThere, and not before: of a run that was stopped, only what was done.
func TestWhatCameAlongIsNotedWhenItIsThere(t *testing.T) {
	j, fill := filled(t, [2]string{"oxbow", "exfat"}, 2)
	fill(0)
	j.write(t, 0, "oxbow/play/wren8/Ropewalk.hold", "one")
	j.write(t, 0, "oxbow/play/wren8/Tide Mill.hold", "two")
	s, err := survey.Take(t.Context(), j.bench, 0, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(t, err)
	_, _, err = s.KeepSaves(t.Context(), "")
	require.NoError(t, err)
	s, err = survey.Take(t.Context(), j.bench, 1, j.titles, survey.Options{Set: j.set, Vault: j.vault})
	require.NoError(t, err)
	p := s.Plan()
	require.Len(t, p.Saves, 2)
	job := s.Job(j.bench, p)
	assert.Nil(t, job.Before, "there is nothing to be kept first")
	noted := func() (out []string) {
		all, err := j.vault.Versions()
		require.NoError(t, err)
		for _, v := range all {
			if v.PutBack {
				out = append(out, v.Of)
			}
		}
		return out
	}
	require.NoError(t, job.After(t.Context(), func(int) bool { return false }))
	assert.Empty(t, noted())
	require.NoError(t, job.After(t.Context(),
		func(step int) bool { return strings.Contains(p.Steps[step].Path, "Tide") }))
	assert.Equal(t, []string{"Tide Mill"}, noted())

	job.Open = func(context.Context) (target.Target, error) { return nil, errPulled }
	job.Emit, job.Patience = func(run.Event) {}, -1
	run.Start(t.Context(), job).Wait()
	assert.Equal(t, []string{"Tide Mill"}, noted(), "a run that never began notes nothing")
	fill(1)
	assert.ElementsMatch(t, []string{"Tide Mill", "Ropewalk"}, noted())
}
