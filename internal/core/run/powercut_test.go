package run_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/target/remote"
	"polytome/internal/target/smb"
	"polytome/internal/testkit/judge"
)

// TestAPowerCutOfARealFilesystem fills a folder on a mounted ext4 volume, and copies the image below it whenever some
// files are reported to be done: that is what the medium has at that moment, without what the system still holds in
// memory. The copy is made whole as after a power cut, and has to have each of those files whole. The same without
// flushing has to lose some, or nothing would have been shown.
func TestAPowerCutOfARealFilesystem(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	for _, kind := range []string{"a folder", "a folder that is not flushed", "a share"} {
		unsynced := kind == "a folder that is not flushed"
		lengths := []int{5 << 20, 3_000_000}
		for i := range 40 {
			lengths = append(lengths, 1000+i*777)
		}
		p, want := files(t, append(lengths, 2<<20)...)
		dir := t.TempDir()
		img := filepath.Join(dir, "medium.img")
		medium := mounted(t, img, true)
		var to target.Target
		if kind == "a share" {
			s := judge.SMB(t, medium)
			share, err := smb.Open(t.Context(), remote.Address{Host: "127.0.0.1", Port: s.Port, Root: "games"},
				remote.Settings{User: s.User, Password: s.Password})
			require.NoError(t, err)
			defer share.Close()
			to = share
		} else {
			to = openTarget(t, medium, folder.Options{Unsynced: unsynced})
		}
		var done []string
		type cut struct {
			img  string
			done []string
		}
		var cuts []cut
		r := run.Run(context.Background(), p, to, run.Options{Verify: run.VerifyNone}, func(e run.Event) {
			if e.Kind != run.Done || p.Steps[e.Step].Kind != plan.Copy {
				return
			}
			if done = append(done, p.Steps[e.Step].Path); len(done) <= 3 || len(done)%20 == 0 ||
				len(done) == len(want) {
				c := cut{filepath.Join(dir, fmt.Sprintf("cut-%d.img", len(done))), slices.Clone(done)}
				judge.Run(t, "cp", "--sparse=always", img, c.img)
				cuts = append(cuts, c)
			}
		})
		require.Empty(t, r.Failed)
		require.Len(t, done, len(want))
		lost := 0
		for _, c := range cuts {
			said, err := judge.Try(t, "e2fsck", "-fy", c.img)
			if err != nil {
				require.Contains(t, said, "FILE SYSTEM WAS MODIFIED", "it could not be made whole")
			}
			got := onTarget(t, mounted(t, c.img, false))
			for _, name := range c.done {
				if got[name] != string(want[name]) {
					lost++
					if !unsynced {
						t.Errorf("%s: %s was reported to be done; after a power cut it has %d of %d bytes", kind, name,
							len(got[name]), len(want[name]))
					}
				}
			}
		}
		assert.Equal(t, unsynced, lost > 0, kind)
	}
}

// mounted mounts an image until the test ends; a new one gets a filesystem.
func mounted(t *testing.T, img string, again bool) string {
	dir := t.TempDir()
	if again {
		require.NoError(t, os.WriteFile(img, nil, 0o600))
		require.NoError(t, os.Truncate(img, 64<<20))
		judge.Run(t, "mkfs.ext4", "-q", img)
	}
	judge.Root(t, "mount", "-o", "loop", img, dir)
	t.Cleanup(func() { judge.Root(t, "umount", dir) })
	require.NoError(t, os.Chmod(dir, 0o777))
	return dir
}
