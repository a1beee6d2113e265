package check_test

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
)

// about are the findings of saves and cards, by their paths.
func about(r *check.Report) map[string]check.Finding {
	out := map[string]check.Finding{}
	for _, f := range r.Findings {
		if f.Kind == check.Save || f.Kind == check.Card {
			out[f.Path] = f
		}
	}
	return out
}

func TestSavesBelongToTitles(t *testing.T) {
	card := make([]byte, 6<<20)
	f := maps.Clone(right(t)["rowan"])
	f["ROWAN/cards/VSP-20417.crd"] = card
	f["ROWAN/cards/VSP-20431.crd"] = card
	f["ROWAN/cards/shared-1.crd"] = card
	f["TUNE/VSP-21002.tune"] = []byte("timing=a\ntray=shut\ncard=shared-1\n")
	r := checkFiles(t, f, as["rowan"][0], check.Inside, "rowan")
	assert.Empty(t, about(r))
	assert.Empty(t, r.Others[:0])
	assert.NotContains(t, r.Others, "ROWAN/cards/VSP-20417.crd", "the loader knows it")

	f["ROWAN/cards/VSP-29999.crd"] = card
	f["ROWAN/cards/VSP-20431.crd"] = card[:100]
	f["ROWAN/cards/shared-2.crd"] = card
	f["TUNE/VSP-30001.tune"] = []byte("timing=a\ntray=shut\ncard=shared-7\n")
	r = checkFiles(t, f, as["rowan"][0], check.Inside, "rowan")
	found := about(r)
	require.Len(t, found, 4)
	assert.Equal(t, check.Remark, found["ROWAN/cards/VSP-29999.crd"].Grade)
	assert.Contains(t, found["ROWAN/cards/VSP-29999.crd"].Say, "no title here has that name")
	assert.Contains(t, found["ROWAN/cards/VSP-20431.crd"].Say, "not as long")
	assert.Equal(t, check.Fault, found["ROWAN/cards/VSP-20431.crd"].Grade)
	assert.Contains(t, found["ROWAN/cards/shared-2.crd"].Say, "no title here uses it")
	assert.Equal(t, check.Card, found["TUNE/VSP-30001.tune"].Kind)
	assert.Contains(t, found["TUNE/VSP-30001.tune"].Say,
		"set to use the card ROWAN/cards/shared-7.crd, which is not here")
	assert.False(t, r.Good())

	quick := about(checkFiles(t, f, as["rowan"][0], check.Names, "rowan"))
	assert.Len(t, quick, 2, "settings are not read, so that nothing is said of cards")
}

func TestASaveUnderAnotherNameIsRenamed(t *testing.T) {
	f := maps.Clone(right(t)["oxbow"])
	var game string
	for p := range f {
		if len(p) > 3 && p[len(p)-3:] == ".w8" {
			game = p
		}
	}
	require.NotEmpty(t, game)
	f[game[:len(game)-3]+".hold"] = []byte("reached")
	r := checkFiles(t, f, as["oxbow"][0], check.Inside, "oxbow")
	assert.Empty(t, about(r))
	assert.True(t, r.Good(), "%v", r.Findings)

	delete(f, game[:len(game)-3]+".hold")
	f[game[:len(game)-3]+" (1).hold"] = []byte("reached")
	r = checkFiles(t, f, as["oxbow"][0], check.Inside, "oxbow")
	found := about(r)[game[:len(game)-3]+" (1).hold"]
	assert.Equal(t, check.Fault, found.Grade)
	assert.Contains(t, found.Say, "will not find")
	require.Len(t, found.Fixes, 1)
	assert.Equal(t, game[:len(game)-3]+".hold", found.Fixes[0].To)

	f[game[:len(game)-3]+".hold"] = []byte("the title's own")
	found = about(checkFiles(t, f, as["oxbow"][0], check.Inside, "oxbow"))[game[:len(game)-3]+" (1).hold"]
	assert.Equal(t, check.Remark, found.Grade)
	assert.Empty(t, found.Fixes, "the title has its save already")
}

func TestAFolderOfSavesIsPartOfItsTitle(t *testing.T) {
	f := maps.Clone(right(t)["bellows"])
	f["Titles/Two Tides/state/slot 1"] = []byte("reached")
	f["Titles/+2/Mosswick/state/slot 1"] = []byte("reached")
	f["Titles/Two Tides/title.toml"] = []byte("name = \"Two Tides\"\ncard = \"big\"\n")
	f["bellows/cards/big.keep"] = make([]byte, 96<<10)
	r := checkFiles(t, f, as["bellows"][0], check.Inside, "bellows")
	assert.Empty(t, about(r))
	delete(f, "bellows/cards/big.keep")
	r = checkFiles(t, f, as["bellows"][0], check.Inside, "bellows")
	assert.Contains(t, about(r)["Titles/Two Tides/title.toml"].Say, "bellows/cards/big.keep, which is not here")
}
