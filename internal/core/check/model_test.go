package check_test

import (
	"fmt"
	"maps"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/demo"
	"polytome/internal/sim"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// onModel audits a stick for a model of the Pipit Mini, and lists it as the simulated console does.
func onModel(t *testing.T, f files, model string, depth check.Depth) (*check.Report, *sim.Listing) {
	dir := t.TempDir()
	for name, data := range f {
		coretest.Write(t, dir, name, data)
	}
	p, err := folder.Open(dir, folder.Options{Filesystem: "fat32"})
	require.NoError(t, err)
	defer p.Close()
	r, err := check.Audit(t.Context(), p, []*loader.Profile{coretest.Profile(t, "bellows")}, coretest.Set(t),
		check.Options{Via: "usb", Depth: depth, Model: model})
	require.NoError(t, err)
	l, err := sim.BellowsModel{East: model == "east"}.List(os.DirFS(dir))
	require.NoError(t, err)
	return r, l
}

func TestBuiltInTitlesAreListedAsTheConsoleDoes(t *testing.T) {
	base := right(t)["bellows"]
	cue := []byte("FILE \"%s.bin\" BINARY\n  TRACK 01 MODE1/2048\n    INDEX 01 00:00:00\n")
	title := func(f files, name, id string) {
		f["Titles/"+name+"/"+name+".cue"] = fmt.Appendf(nil, string(cue), name)
		f["Titles/"+name+"/"+name+".bin"] = coretest.Volume(t, id)
	}
	hiding := maps.Clone(base)
	title(hiding, "Marsh Music", "LAP_04420") // as Saltmarsh Symphony, which the North has
	title(hiding, "Alder Weir", "LAP_09999")  // another one of a built-in title's name
	later := maps.Clone(base)                 // what came with an update, one line of which says nothing
	later["bellows/own.lst"] = []byte("LAP_05060 Harbour Lights\r\nnonsense\r\nLAP_05061 Zinc Parade\n")
	title(later, "My Lights", "LAP_05060")
	for _, model := range []string{"north", "east"} {
		for what, f := range map[string]files{"right": base, "hiding": hiding, "later": later, "empty": {
			"bellows/start.bin": []byte("bellows")}} {
			r, l := onModel(t, f, model, check.Inside)
			var promised, listed []string
			for _, x := range r.Listed {
				promised = append(promised, fmt.Sprint(x.Path, "|", x.Name, "|", x.Starts))
			}
			for _, g := range l.Games {
				listed = append(listed, fmt.Sprint(g.Path, "|", g.Title, "|", g.Starts))
			}
			assert.Equal(t, listed, promised, "%s, %s", model, what)
		}
	}
	r, _ := onModel(t, hiding, "north", check.Inside)
	assert.Equal(t, 17, r.BuiltIn())
	assert.Zero(t, r.Listed[0].Size)
	var says []string
	for _, f := range r.Findings {
		if f.Kind == check.Double {
			says = append(says, f.Path+": "+f.Say)
		}
	}
	assert.Equal(t, []string{"Titles/Alder Weir: Alder Weir is built into the Pipit Mini North, too",
		"Titles/Marsh Music: it has the ID of Saltmarsh Symphony, which is built into the Pipit Mini North, and " +
			"hides that"},
		says)
	r, _ = onModel(t, hiding, "north", check.Names)
	assert.Contains(t, r.Unchecked,
		"whether a title here hides one that is built in: the names alone do not show its ID")
	r, _ = onModel(t, base, "", check.Inside)
	assert.Zero(t, r.BuiltIn(), "no model was named")
}

func TestTheListOfAModelIsFull(t *testing.T) {
	f := files{"bellows/start.bin": []byte("bellows")}
	for i := range 150 {
		dir := "Carts/wren8/"
		if i >= 60 {
			dir += fmt.Sprintf("+%d/", i/60+1)
		}
		name := fmt.Sprintf("Mill %03d", i)
		f[dir+name+".w8"] = demo.Cartridge("WREN", name)
	}
	r, l := onModel(t, f, "east", check.Inside)
	require.Len(t, l.Games, 150)
	require.Len(t, r.Listed, 150)
	assert.Equal(t, 18, r.BuiltIn())
	assert.Equal(t, "Mill 131", r.Listed[149].Name)
	assert.Equal(t, l.Games[149].Title, r.Listed[149].Name)
	require.NotEmpty(t, r.Findings)
	assert.Equal(t, check.Crowded, r.Findings[0].Kind)
	assert.Contains(t, r.Findings[0].Say,
		"the list of the Pipit Mini East holds 150 titles, 18 of them built in: the last 18 are not shown, which are "+
			"Mill 132, Mill 133, Mill 134, …")
	r, _ = onModel(t, f, "", check.Inside)
	assert.Len(t, r.Listed, 150)
	assert.True(t, r.Good())
}
