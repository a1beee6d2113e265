//go:build !race

package survey_test

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// shelf is a folder of games that are made up, other ones for each seed.
type shelf struct {
	*rand.Rand
	t   *testing.T
	dir string
	had map[string]bool
}

var nameWords = strings.Fields("Alder Amber Anchor Beacon Bramble Cinder Cove Drift Ember Fathom Ferry Gale Harbour " +
	"Heron Inlet Jetty Kelp Lantern Lichen Marram Meadow Nettle Oar Orchard Pebble Plover Quay Reed Ridge Rudder " +
	"Sedge Shoal Sluice Spindle Tallow Thistle Tide Umber Weir Willow Wren Zephyr")

// name is one that no other game has.
func (s *shelf) name() string {
	for {
		words := nameWords[s.IntN(len(nameWords))] + " " + nameWords[s.IntN(len(nameWords))]
		switch s.IntN(6) {
		case 0:
			words += " " + nameWords[s.IntN(len(nameWords))]
		case 1:
			words += fmt.Sprint(" ", 2+s.IntN(7))
		}
		if !s.had[words] {
			s.had[words] = true
			return words
		}
	}
}

func (s *shelf) put(name string, data []byte) { coretest.Write(s.t, s.dir, name, data) }

// make makes a number of games of each platform.
func (s *shelf) make(count int) {
	for i := range count {
		kind := []string{"full", "short"}[i%2]
		n := 100 + s.IntN(90)*100 + i
		s.put(fmt.Sprintf("v%d.iso", i), coretest.Image(s.t, coretest.Inf(fmt.Sprintf("VSP-%05d", 20000+n), s.name(),
			"1/1", kind)))
		s.put(fmt.Sprintf("s%d.iso", i), coretest.Siskin(s.t, fmt.Sprintf("SK-%04d", n), s.name()))
		s.put(fmt.Sprintf("c%d/main.run", i), demo.MainRun(fmt.Sprintf("CVN%05d", n), s.name(), "N"))
		s.put(fmt.Sprintf("c%d/art/a.dat", i), []byte("art"))
		s.put(fmt.Sprintf("m%d/SYS/TITLE.JSON", i), fmt.Appendf(nil,
			`{"id":"MRD-%04d","name":%q,"region":"N","version":"1"}`, n, s.name()))
		s.put(fmt.Sprintf("m%d/data/level.dat", i), make([]byte, 100+i))
		s.put(fmt.Sprintf("d%d/p%d.prog", i, i), []byte("prog"))
		s.put(fmt.Sprintf("d%d/game.about", i), []byte(s.name()+"\nmore\n"))
		s.put(fmt.Sprintf("d%d/disk.1", i), []byte("disk"))
		s.put(fmt.Sprintf("k%d.w8", i), demo.Cartridge("WREN", s.name()))
		s.put(fmt.Sprintf("k%d.k64", i), demo.Cartridge("KSTR", s.name()))
		s.put(fmt.Sprintf("k%d.fin", i), demo.Cartridge("FNCH", s.name()))
		s.put(s.name()+".dtl", []byte(fmt.Sprint("cart", n)))
		s.cue(s.name(), fmt.Sprintf("LAP_%05d", n))
		disc := demo.SkuaDisc("SKUADISC", fmt.Sprintf("SKU%05d", n), 1, s.name())
		binary.LittleEndian.PutUint32(disc[0x8800:], uint32(n))
		s.put(fmt.Sprintf("u%d.img", i), disc)
	}
	several := s.name()
	for d := 1; d <= 2; d++ {
		s.cue(fmt.Sprintf("%s (Disc %d)", several, d), "LAP_90001")
	}
}

func (s *shelf) cue(base, volume string) {
	s.put(base+".cue",
		fmt.Appendf(nil, "FILE \"%s.bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n", base))
	s.put(base+".bin", coretest.Volume(s.t, volume))
}

// shelfOf is a new folder of games.
func shelfOf(t *testing.T, seed uint64, count int) string {
	s := &shelf{Rand: rand.New(rand.NewPCG(seed, 1)), t: t, dir: t.TempDir(), had: map[string]bool{}}
	s.make(count)
	return s.dir
}

// TestLearningShippedLoadersWithPlatformsUnknown fills a target for each shipped loader, and learns it from that alone,
// without knowing any platform. Another target, filled with other games by what was learnt, is looked at by the
// simulated loader, which lists all of them.
func TestLearningShippedLoadersWithPlatformsUnknown(t *testing.T) {
	one, two := shelfOf(t, 1, 9), shelfOf(t, 2, 7)
	for _, c := range []struct {
		loader, as string
	}{{"rowan", "fat32"}, {"gantry", "exfat"}, {"trellis", "exfat"}, {"bellows", "fat32"}, {"oxbow", "exfat"},
		{"plover", "fat32"}, {"mica", "fat32"}} {
		t.Run(c.loader, func(t *testing.T) {
			dir := t.TempDir()
			if at := os.Getenv("POLYTOME_TEST_KEEP"); at != "" {
				dir = filepath.Join(at, c.loader)
				require.NoError(t, os.RemoveAll(dir))
				require.NoError(t, os.MkdirAll(dir, 0o755))
			}
			var from learn.Sources
			if c.loader == "plover" { // what became of files' names is seen only where they are there from before
				from.Games = []string{one}
			}
			draft, known := learntFromShipped(t, dir, c.loader, c.as, one, from)
			r, err := scan.Scan(t.Context(), []string{two}, scan.Options{Set: known})
			require.NoError(t, err)
			certainlyRight(t, draft, r.Titles, two)
			own := slices.IndexFunc(known.Profiles, func(p *loader.Profile) bool { return p.Own })
			require.GreaterOrEqual(t, own, 0, "%v", known.Broken)
			again := filepath.Join(dir, "again")
			w := oneStick(t, again, known, known.Profiles[own].Name, c.as, r.Titles)
			w.bench.Targets[0].Via = known.Profiles[own].Attachments[0].Via
			w.fill(0)
			kitFor(t, w.at("Stick", ""))
			now, err := sim.Loaders[c.loader].List(os.DirFS(w.at("Stick", "")))
			require.NoError(t, err)
			want := listedFor(t, filepath.Join(dir, "want"), c.loader, c.as, two)
			require.NotEmpty(t, want.Games)
			var missing, got []string
			for _, g := range now.Games {
				if g.Starts {
					got = append(got, g.Title)
				}
			}
			for _, g := range want.Games {
				require.True(t, g.Starts, g.Why)
				if !slices.Contains(got, g.Title) {
					missing = append(missing, g.Path)
				}
			}
			t.Logf("%d of %d are listed", len(want.Games)-len(missing), len(want.Games))
			assert.Empty(t, missing, "ignored: %v", now.Passed)
		})
	}
}

// certainlyRight asserts that IDs and names that were called certain are those that the games have.
func certainlyRight(t *testing.T, d *learn.Draft, titles []title.Title, games string) {
	r, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: coretest.Set(t)})
	require.NoError(t, err)
	is := map[string]*title.Title{}
	for i := range r.Titles {
		for _, disc := range r.Titles[i].Discs {
			is[disc.File.Path] = &r.Titles[i]
		}
	}
	for i := range titles {
		x := &titles[i]
		p := slices.IndexFunc(d.Taught, func(p *teach.Platform) bool { return p.Name == x.Platform })
		if p < 0 || is[x.Discs[0].File.Path] == nil {
			continue
		}
		right := is[x.Discs[0].File.Path]
		if d.Taught[p].Fields["id"].Sure {
			assert.Equal(t, right.ID, x.ID, x.Discs[0].File.Path)
		}
		if d.Taught[p].Fields["name"].Sure {
			assert.Equal(t, right.Name, x.Name, x.Discs[0].File.Path)
		}
	}
}

// filledFor fills a stick with games for a shipped loader.
func filledFor(t *testing.T, dir, name, as, games string) *workshop {
	set := coretest.Set(t)
	r, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	w := oneStick(t, dir, set, name, as, r.Titles)
	p := coretest.Profile(t, name)
	w.bench.Targets[0].Via = p.Attachments[0].Via
	for _, f := range layout.FirstBoot(p) {
		require.NoError(t, os.MkdirAll(w.at("Stick", f), 0o755))
	}
	w.fill(0)
	kitFor(t, w.at("Stick", ""))
	return w
}

// kitFor puts what the loaders' own makers hand out on a stick.
func kitFor(t *testing.T, stick string) {
	if exists(filepath.Join(stick, "FULL")) {
		coretest.Write(t, stick, "ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
	}
	if exists(filepath.Join(stick, "boot/plover.script")) {
		coretest.Write(t, stick, "system/images/dulcimer-one.rom", demo.SystemImage(1, 256<<10))
	}
	for _, own := range []string{"bellows/start.bin", "gantry/start.bin", "tools/mica/start.app",
		"tools/mica/about.xml", "tools/mica/badge.png"} {
		if exists(filepath.Join(stick, filepath.Dir(own))) || strings.HasPrefix(own, "tools") {
			coretest.Write(t, stick, own, []byte("the loader's own"))
		}
	}
}

// listedFor is what a simulated loader lists of games when its shipped profile put them there.
func listedFor(t *testing.T, dir, name, as, games string) *sim.Listing {
	w := filledFor(t, dir, name, as, games)
	l, err := sim.Loaders[name].List(os.DirFS(w.at("Stick", "")))
	require.NoError(t, err)
	return l
}

// learntFromShipped fills a stick for a shipped loader, and learns from it. What is known then is the draft, and the
// platforms of its own.
func learntFromShipped(t *testing.T, dir, name, as, games string, from learn.Sources) (*learn.Draft,
	*loader.Set) {
	w := filledFor(t, dir, name, as, games)
	to, err := folder.Open(w.at("Stick", ""), folder.Options{Filesystem: as, Capacity: 1 << 30})
	require.NoError(t, err)
	defer to.Close()
	d, err := learn.FromTarget(t.Context(), w.at("Stick", ""), to, &loader.Set{}, from)
	require.NoError(t, err)
	if os.Getenv("POLYTOME_TEST_KEEP") != "" {
		for _, p := range d.Taught {
			t.Log(p.TOML())
		}
		t.Log(d.TOML())
		for _, q := range d.Open {
			t.Logf("? %s: %s", q.Key, q.Say)
		}
	}
	own := filepath.Join(dir, "learnt")
	_, err = d.Save(filepath.Join(own, "profiles", "x.toml"), own, &loader.Set{})
	require.NoError(t, err)
	set, err := loader.Known(own)
	require.NoError(t, err)
	set.Platforms = slices.DeleteFunc(set.Platforms, func(p *loader.Platform) bool { return !p.Own })
	return d, set
}
