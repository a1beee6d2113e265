package survey_test

import (
	"bytes"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/plan"
	"polytome/internal/core/scan"
	"polytome/internal/core/title"
	"polytome/internal/testkit/coretest"
)

// inSeries cuts what is long into parts that nothing lists; the first has another name than the rest.
const inSeries = `format = 1
name = "any"
shown = "Any"
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["fat32"]
[[accept]]
platforms = ["vesper"]
path = "{kind}/{title}.iso"
[accept.too-large]
do = "split"
over = "100KB"
part-size = "70KB"
parts = "{kind}/{title}{if index over 1}.{index|add:-2|pad:3}{else}.iso{end}"
[[companion]]
is = "settings"
platforms = ["vesper"]
path = "set/{title}.txt"
text = "loud"
`

// TestASeriesOfPartsMovesTogether: a title in parts that gets another name is renamed part by part, and nothing of it
// is copied; one of two of the same length is not taken for the other.
func TestASeriesOfPartsMovesTogether(t *testing.T) {
	dir := t.TempDir()
	for n, name := range []string{"Owl", "Reed"} {
		data := append(coretest.Image(t, coretest.Inf("VSP-0000"+string(rune('1'+n)), name, "1/1", "full")),
			bytes.Repeat([]byte{byte(n + 1)}, 200_000)...)
		coretest.Write(t, dir, "games/"+name+".iso", data)
	}
	set := knownTo(t, filepath.Join(dir, "known"), inSeries)
	r, err := scan.Scan(t.Context(), []string{filepath.Join(dir, "games")}, scan.Options{Set: set})
	require.NoError(t, err)
	w := oneStick(t, dir, set, "any", "fat32", r.Titles)
	w.fill(0)
	before := contents(t, w.at("Stick", ""))
	assert.Contains(t, before, "full/Owl.iso")
	assert.Contains(t, before, "full/Owl.002")

	w.edit("Owl.iso", func(e *title.Edit) { e.Name = "Zebra" })
	w.edit("Reed.iso", func(e *title.Edit) { e.Name = "Beacon" })
	p := w.look(0).Plan()
	for i := range p.Steps {
		assert.Contains(t, []plan.Kind{plan.Move, plan.MakeFolder}, p.Steps[i].Kind, p.Steps[i].Path)
	}
	w.fill(0)
	after := contents(t, w.at("Stick", ""))
	assert.Equal(t, before["full/Owl.001"], after["full/Zebra.001"])
	assert.Equal(t, before["full/Reed.iso"], after["full/Beacon.iso"])
	assert.Len(t, after, len(before))
	report, err := w.look(0).Check(t.Context(), check.Inside)
	require.NoError(t, err)
	assert.Empty(t, findings(report))
	assert.Len(t, report.Listed, 2)
}
