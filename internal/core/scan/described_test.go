package scan_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// TestGamesOfAPlatformThatReportsNoName are named as their files and folders are, and not as the file by which they are
// known.
func TestGamesOfAPlatformThatReportsNoName(t *testing.T) {
	r := described(t, `format = 1
name = "tern"
shown = "Tern"
forms = ["image", "folder"]
extensions = [".iso"]
[[marker]]
file = "tern.set"
syntax = "key=value"
[field.id]
key = "code"
`, func(dir string) {
		for _, name := range []string{"Salt Mill", "Ropewalk (Disc 2)"} {
			image, err := demo.Volume("", "tern.set", []byte("code=T-"+name[:1]+"\n"))
			require.NoError(t, err)
			coretest.Write(t, dir, name+".iso", image)
		}
		coretest.Write(t, dir, "Tern Rock/tern.set", []byte("code=T-3\n"))
	})
	var names []string
	for i := range r.Titles {
		names = append(names, r.Titles[i].Name)
		assert.NotContains(t, r.Titles[i].Name, "TERN")
	}
	assert.ElementsMatch(t, []string{"Salt Mill", "Ropewalk", "Tern Rock"}, names)
}

// TestAPatternThatIsTooStrict is named as what may be wrong, with the file in which it stands; the game may be sound.
func TestAPatternThatIsTooStrict(t *testing.T) {
	r := described(t, `format = 1
name = "tern"
shown = "Tern"
forms = ["image"]
extensions = [".iso"]
[[marker]]
file = "tern.set"
syntax = "key=value"
[field.id]
key = "code"
pattern = '^T-[0-9]$'
required = true
`, func(dir string) {
		image, err := demo.Volume("", "tern.set", []byte("code=T-12\n"))
		require.NoError(t, err)
		coretest.Write(t, dir, "Salt Mill.iso", image)
	})
	require.Len(t, r.Titles, 1)
	f := r.Titles[0].Fault()
	require.NotNil(t, f)
	assert.Contains(t, f.Say, `"T-12" does not fit how the ID of a Tern is described: ^T-[0-9]$`)
	assert.Contains(t, f.Remedy, "if the game works on the console, [field.id] in ")
	assert.Contains(t, f.Remedy, "tern.toml does not fit it: correct that, or set the ID by hand")
	assert.Equal(t, "ID", f.Wants)
}

func described(t *testing.T, platform string, games func(dir string)) scan.Result {
	own, dir := t.TempDir(), t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(own, "platforms"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(own, "platforms/tern.toml"), []byte(platform), 0o644))
	set, err := loader.Known(own)
	require.NoError(t, err)
	require.Empty(t, set.Broken)
	games(dir)
	r, err := scan.Scan(t.Context(), []string{dir}, scan.Options{Set: set})
	require.NoError(t, err)
	return r
}
