package drives_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/drives"
	"polytome/internal/testkit/judge"
)

// TestAStickThatIsMountedIsNoticedAtOnce, and one that is pulled; the end of the context ends it.
func TestAStickThatIsMountedIsNoticedAtOnce(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	changes := drives.Here.Changes(ctx)
	comes := func(what string) {
		t.Helper()
		select {
		case _, ok := <-changes:
			require.True(t, ok, what)
		case <-time.After(time.Minute):
			t.Fatal("nothing came: " + what)
		}
	}
	stick := judge.NewStick(t, 40, "GULL", "11110001")
	at := filepath.Join(t.TempDir(), "GULL")
	stick.Plug(at)
	comes("it was mounted")
	stick.Pull()
	comes("it was pulled")
	cancel()
	for range changes { //nolint:revive // until it is closed
	}
}

// TestWhatIsPutInItsPlaceHasAnotherIdentity: an image and a device.
func TestWhatIsPutInItsPlaceHasAnotherIdentity(t *testing.T) {
	ctx := context.Background()
	img := filepath.Join(t.TempDir(), "stick.img")
	_, ok := drives.Here.Presence(ctx, img)
	assert.False(t, ok)
	require.NoError(t, os.WriteFile(img, make([]byte, 1<<20), 0o644))
	first, ok := drives.Here.Presence(ctx, img)
	require.True(t, ok)
	require.NoError(t, os.WriteFile(img, make([]byte, 2<<20), 0o644))
	again, _ := drives.Here.Presence(ctx, img)
	assert.Equal(t, first, again, "it was written to, and is the same")
	other := filepath.Join(t.TempDir(), "other.img")
	require.NoError(t, os.WriteFile(other, make([]byte, 1<<20), 0o644))
	require.NoError(t, os.Rename(img, img+".drawer"))
	require.NoError(t, os.Rename(other, img))
	second, _ := drives.Here.Presence(ctx, img)
	assert.NotEqual(t, first, second)
}
