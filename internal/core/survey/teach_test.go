//go:build !race

package survey_test

import (
	"fmt"
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
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// lesson is what was learnt from a stick.
type lesson struct {
	draft  *learn.Draft
	titles int // that are known now
	ids    int // of which the ID is right
	names  int // of which the name is right
	remade int // that would go where they are
}

// learnt fills a stick for a family, forgets all about it, and learns from the stick alone.
func learnt(t *testing.T, family string) (l lesson) {
	dir := t.TempDir()
	set, p := ownFamily(t, family, dir)
	games := filepath.Join(dir, "games")
	require.NoError(t, os.MkdirAll(games, 0o755))
	want := script(t, filepath.Join(family, "make.py"), games)
	r, err := scan.Scan(t.Context(), []string{games}, scan.Options{Set: set})
	require.NoError(t, err)
	w := oneStick(t, dir, set, p.Name, p.Attachments[0].Filesystems[0], r.Titles)
	if lies := filepath.Join(family, "stick"); exists(lies) {
		require.NoError(t, os.CopyFS(w.at("Stick", ""), os.DirFS(lies)))
	}
	w.fill(0)
	to, err := w.look(0).Open(t.Context())
	require.NoError(t, err)
	defer to.Close()
	l.draft, err = learn.FromTarget(t.Context(), w.at("Stick", ""), to, coretest.Set(t), learn.Sources{})
	require.NoError(t, err)
	at := filepath.Join(dir, "learnt")
	_, err = l.draft.Save(filepath.Join(at, "profiles", "x.toml"), at, coretest.Set(t))
	require.NoError(t, err)
	now, err := loader.Known(at)
	require.NoError(t, err)
	for _, x := range l.draft.Taught {
		assert.NotNil(t, now.Platform(x.Name), "%s\n%v", x.TOML(), now.Broken)
	}
	again, err := scan.Scan(t.Context(), []string{w.at("Stick", "")}, scan.Options{Set: now})
	require.NoError(t, err)
	own := slices.IndexFunc(now.Profiles, func(p *loader.Profile) bool { return p.Own })
	var tree *layout.Tree
	if own >= 0 {
		q := now.Profiles[own]
		tree = layout.Lay(again.Titles, q, coretest.Destination(t, q, "usb", p.Attachments[0].Filesystems[0]))
	}
	for i := range again.Titles {
		tt := &again.Titles[i]
		if tt.Platform == "" {
			continue
		}
		l.titles++
		is := func(k int, value string) bool {
			return slices.ContainsFunc(want, func(g [3]string) bool { return strings.EqualFold(g[k], value) })
		}
		if is(0, tt.ID) {
			l.ids++
		}
		if is(1, tt.Name) {
			l.names++
		}
		if tree != nil && tree.Placements[i].Refusal == nil && exists(w.at("Stick", tree.Placements[i].Items[0].Path)) {
			l.remade++
		}
	}
	return l
}

// TestLearningSticksOfConsolesThatNobodyKnows learns the families as a person's own console is met: with neither
// platform nor loader known. Nothing certain is wrong.
func TestLearningSticksOfConsolesThatNobodyKnows(t *testing.T) {
	families, err := filepath.Glob("../loader/testdata/families/*")
	require.NoError(t, err)
	var known, identified, whole []string
	for _, family := range families {
		name := filepath.Base(family)
		t.Run(name, func(t *testing.T) {
			l := learnt(t, family)
			t.Logf("%d titles, %d IDs, %d names, %d would go where they are", l.titles, l.ids, l.names, l.remade)
			if l.titles > 0 {
				known = append(known, name)
			}
			if l.titles > 0 && (l.ids == l.titles || l.names == l.titles) {
				identified = append(identified, name)
			}
			if l.titles > 0 && l.remade == l.titles {
				whole = append(whole, name)
			}
			for _, p := range l.draft.Taught {
				for field, right := range map[string]int{"id": l.ids, "name": l.names} {
					if p.Fields[field].Sure && len(l.draft.Taught) == 1 {
						assert.Equal(t, l.titles, right, "%s is certain: %s", field, p.Fields[field].Evidence)
					}
				}
			}
			for _, f := range l.draft.Findings {
				if f.Confidence == learn.Certain && strings.Contains(f.Say, " go to ") {
					assert.Equal(t, l.titles, l.remade, f.Say)
				}
			}
		})
	}
	assert.Len(t, known, len(families), "games are recognised in all")
	assert.GreaterOrEqual(t, len(identified), 10, "%v", identified)
	assert.GreaterOrEqual(t, len(whole), 6, "%v", whole)
}

// TestLearningSticksThatAreNoConsoles: pictures, music, texts and programs are nobody's games.
func TestLearningSticksThatAreNoConsoles(t *testing.T) {
	dir := t.TempDir()
	for n := range 6 {
		coretest.Write(t, dir, fmt.Sprintf("DCIM/100/IMG_%04d.JPG", n), append([]byte("\xff\xd8\xff\xe0"),
			make([]byte, 9000+n)...))
		coretest.Write(t, dir, fmt.Sprintf("Music/Album/%02d Track.mp3", n),
			append([]byte("ID3"), make([]byte, 7000+n)...))
		coretest.Write(t, dir, fmt.Sprintf("tools/lib%d.dll", n), append([]byte("MZ"), make([]byte, 3000+n)...))
		coretest.Write(t, dir, fmt.Sprintf("papers/letter %d.doc", n), make([]byte, 4000+n))
	}
	to, err := folder.Open(dir, folder.Options{Filesystem: "fat32", Capacity: 1 << 30})
	require.NoError(t, err)
	defer to.Close()
	d, err := learn.FromTarget(t.Context(), dir, to, coretest.Set(t), learn.Sources{})
	assert.ErrorContains(t, err, "nothing in")
	assert.Empty(t, d.Taught)
}
