package prepare

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAKitTakesWhatItsRulesMean: nothing hidden, nothing from folders that no rule names, whatever a profile of a
// stranger asks for.
func TestAKitTakesWhatItsRulesMean(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"start-1.2.app", "about.xml", ".ssh/id_rsa", "keys/id_rsa", ".hidden.app",
		"skins/blue/a.png", "deep/down/about.xml"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o644))
	}
	files, err := kitFiles(dir)
	require.NoError(t, err)
	rels := func(patterns ...string) (out []string) {
		for _, f := range matching(files, patterns) {
			out = append(out, f.rel)
		}
		return out
	}
	assert.Empty(t, rels("id_rsa"))
	assert.Empty(t, rels(".ssh"))
	assert.Empty(t, rels(".*"))
	assert.Equal(t, []string{"start-1.2.app"}, rels("*.app"))
	assert.Equal(t, []string{"start-1.2.app"}, rels("*"), "one file at the top, and no more")
	assert.Equal(t, []string{"about.xml"}, rels("about.xml"))
	assert.Equal(t, []string{"skins/blue/a.png"}, rels("skins"), "a folder that is named goes with what is in it")
	assert.Equal(t, []string{"keys/id_rsa"}, rels("keys/id_rsa"), "where the rule names the folder")
	whole := t.TempDir() // as an archive was unpacked
	require.NoError(t, os.MkdirAll(filepath.Join(whole, "mica-1.2", "x"), 0o755))
	for _, name := range []string{"mica-1.2/about.xml", "mica-1.2/x/id_rsa"} {
		require.NoError(t, os.WriteFile(filepath.Join(whole, name), nil, 0o644))
	}
	files, err = kitFiles(whole)
	require.NoError(t, err)
	assert.Equal(t, []string{"mica-1.2/about.xml"}, rels("about.xml"))
	assert.Empty(t, rels("id_rsa"))
}
