package survey_test

import (
	"os"
	"path"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/scan"
	"polytome/internal/testkit/coretest"
)

// byWhatTheyAre has a condition in every kind of rule.
const byWhatTheyAre = `format = 1
name = "any"
shown = "Any"
console = "Tern"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]
[[refuse]]
platforms = ["vesper"]
when = "tags is trial or id matches ^VSP-9"
say = "Any shows no trial versions"
[[accept]]
platforms = ["vesper"]
when = "kind is short and not discs"
path = "Small/{title|group:3}/{title}.iso"
[[accept]]
platforms = ["vesper"]
when = "size over 100KiB"
path = "Large/{title}.iso"
[[accept]]
platforms = ["vesper"]
when = "region in North, West"
path = "Rest/{region|table:North=N:West=W}/{title}{if disc} {disc|letters}{end}.iso"
[[companion]]
is = "launcher"
platforms = ["vesper"]
when = "kind is full and size under 100KiB"
path = "Run/{base}.run"
text = "{form} {parts} {file}"
[[list]]
path = "large.lst"
when = "size over 100KiB"
line = "{index|add:-1|hex:2} {title}\n"
`

// TestRulesHoldForWhatTitlesAre places titles by what they are, says why others have no place, and finds what lies
// where another kind belongs.
func TestRulesHoldForWhatTitlesAre(t *testing.T) {
	dir := t.TempDir()
	game := func(file, id, name, kind, disc, region string, more int) {
		data := coretest.Image(t, "REGION="+region+"\n"+coretest.Inf(id, name, disc, kind))
		coretest.Write(t, dir, "games/"+file+".iso", append(data, make([]byte, more)...))
	}
	game("a", "VSP-00001", "Beacon", "short", "1/1", "E", 0)
	game("b", "VSP-00002", "Copper Tide", "full", "1/1", "E", 64<<10)
	game("c", "VSP-00003", "Mr. Tin", "full", "1/1", "N", 0)
	game("d", "VSP-00004", "Owl", "full", "1/1", "E", 0)
	game("e (trial)", "VSP-00005", "Quarry", "full", "1/1", "N", 0)
	game("f", "VSP-90005", "Reed", "short", "1/1", "N", 0)
	game("g1", "VSP-00006", "Two Sails", "short", "1/2", "W", 0)
	game("g2", "VSP-00007", "Two Sails", "short", "2/2", "W", 0)
	set := knownTo(t, filepath.Join(dir, "known"), byWhatTheyAre)
	r, err := scan.Scan(t.Context(), []string{filepath.Join(dir, "games")}, scan.Options{Set: set})
	require.NoError(t, err)
	w := oneStick(t, dir, set, "any", "fat32", r.Titles)

	s := w.look(0)
	got := map[string]string{}
	for i := range s.Titles {
		if p := s.Sheet.Placement(i); p.Refusal != nil {
			got[s.Titles[i].Name] = "no: " + p.Refusal.Say
			assert.False(t, s.Sheet.Verdict(i).Kind.Goes())
		} else {
			for _, item := range p.Items {
				if path.Ext(item.Path) == ".iso" {
					got[s.Titles[i].Name] += item.Path + " "
				}
			}
		}
	}
	assert.Equal(t, map[string]string{"Beacon": "Small/A-C/Beacon.iso ", "Copper Tide": "Large/Copper Tide.iso ",
		"Mr. Tin": "Rest/N/Mr. Tin.iso ", "Two Sails": "Rest/W/Two Sails a.iso Rest/W/Two Sails b.iso ",
		"Owl":    "no: Any reads Vesper titles only when the kind is short and when it is on one disc",
		"Quarry": "no: Any shows no trial versions", "Reed": "no: Any shows no trial versions"}, got)

	w.fill(0)
	lies := contents(t, w.at("Stick", ""))
	assert.Equal(t, "00 Copper Tide\n", lies["large.lst"])
	assert.Equal(t, "image 1 Mr. Tin.iso", lies["Run/Mr. Tin.run"])
	assert.NoFileExists(t, w.at("Stick", "Run/Copper Tide.run"), "it is larger")
	assert.NoFileExists(t, w.at("Stick", "Run/Beacon.run"), "it is of another kind")
	report, err := w.look(0).Check(t.Context(), check.Inside)
	require.NoError(t, err)
	assert.Empty(t, report.Findings)
	assert.Len(t, report.Listed, 5)

	require.NoError(t, os.Rename(w.at("Stick", "Large/Copper Tide.iso"), w.at("Stick", "Small/A-C/Copper Tide.iso")))
	report, err = w.look(0).Check(t.Context(), check.Inside)
	require.NoError(t, err)
	said := findings(report)
	assert.Contains(t, said, "fault folder Small/A-C/Copper Tide.iso: it is listed, but does not start: it lies "+
		"where games "+
		"are only when the kind is short")
	f := report.Findings[0]
	for _, x := range report.Findings {
		if x.Path == "Small/A-C/Copper Tide.iso" {
			f = x
		}
	}
	require.Len(t, f.Fixes, 1)
	assert.Equal(t, "Large/Copper Tide.iso", f.Fixes[0].To, "and is brought to where it belongs")
}
