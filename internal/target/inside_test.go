package target_test

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/target"
)

func TestNamesInsideAreMadeLegal(t *testing.T) {
	fat, err := target.FilesystemNamed("fat32")
	require.NoError(t, err)
	got, changed := fat.Inside([]string{"a?b.dat", "a_b.dat", "SOUND/x", "sound/X", "sound/y", "con/NUL.txt", "trail. ",
		"dir:1/f", "dir:1/g", "fine/Étude.dat"}, nil)
	assert.Equal(t, []string{"a_b_2.dat", "a_b.dat", "SOUND/x", "sound_2/X", "sound_2/y", "con_/NUL_.txt", "trail_",
		"dir_1/f", "dir_1/g", "fine/Étude.dat"}, got)
	assert.Equal(t, 7, changed)
	ext, err := target.FilesystemNamed("ext4")
	require.NoError(t, err)
	names := []string{"a?b.dat", "SOUND/x", "sound/X"}
	got, changed = ext.Inside(names, nil)
	assert.Equal(t, names, got)
	assert.Zero(t, changed)
	short := func(n string) string {
		if len(n) > 8 {
			return "too long"
		}
		return ""
	}
	got, _ = fat.Inside([]string{"level one.dat", "level two.dat"}, short)
	assert.Equal(t, []string{"leve.dat", "le_2.dat"}, got)
}

func TestAnyNamesInsideAreLegalAndUnique(t *testing.T) {
	elem := rapid.StringMatching(`[a-cA-C?:. ж]{1,5}|CON|[a-z]{300}`)
	rapid.Check(t, func(rt *rapid.T) {
		f, err := target.FilesystemNamed(rapid.SampledFrom(target.FilesystemNames()).Draw(rt, "filesystem"))
		require.NoError(rt, err)
		var names []string
		dirs := map[string]bool{}
		for range rapid.IntRange(0, 12).Draw(rt, "files") {
			n := path.Join(elem.Draw(rt, "a"), elem.Draw(rt, "b"))
			if strings.HasPrefix(n, ".") || strings.Contains(n, "..") || dirs[n] {
				continue
			}
			names, dirs[path.Dir(n)] = append(names, n), true
		}
		got, _ := f.Inside(names, nil)
		again, _ := f.Inside(names, nil)
		require.Equal(rt, got, again)
		seen := map[string]bool{}
		for i, p := range got {
			for e := range strings.SplitSeq(p, "/") {
				require.Empty(rt, f.CheckName(e), "%q from %q", p, names[i])
			}
			require.False(rt, seen[f.Fold(p)], "%q twice", p)
			seen[f.Fold(p)] = true
		}
	})
}
