package run_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/run"
	"polytome/internal/sim/ftpd"
	"polytome/internal/target"
	"polytome/internal/target/claim"
	"polytome/internal/target/folder"
	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
)

// TestTwoFillsOfOneTarget: one of them fills it, the other says so and writes nothing; by whatever path they got there.
func TestTwoFillsOfOneTarget(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "stick")
	require.NoError(t, os.Mkdir(dir, 0o755))
	link := filepath.Join(t.TempDir(), "link")
	require.NoError(t, os.Symlink(dir, link))
	img := filepath.Join(t.TempDir(), "drive.img")
	blank(t, img, 512<<20)
	served := t.TempDir()
	s, err := ftpd.Serve(served, 0, ftpd.Habits{})
	require.NoError(t, err)
	defer s.Close()
	console := func(root string) func(context.Context) (target.Target, error) {
		return func(ctx context.Context) (target.Target, error) {
			return ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: s.Port(), Root: root},
				remote.Settings{})
		}
	}
	at := func(dir string) func(context.Context) (target.Target, error) {
		return func(context.Context) (target.Target, error) { return folder.Open(dir, folder.Options{}) }
	}
	for name, opens := range map[string][2]func(context.Context) (target.Target, error){
		"by a way round": {at(dir), at(dir + "/../stick")},
		"by a link":      {at(dir), at(link)},
		"an image": {func(context.Context) (target.Target, error) { return openDrive(t, img), nil },
			func(context.Context) (target.Target, error) {
				return openDrive(t, filepath.Dir(img)+"/./drive.img"), nil
			}},
		"a console": {console(""), console("/")},
	} {
		t.Run(name, func(t *testing.T) {
			p, _ := files(t, 300_000, 200_000, 100)
			titled(p)
			require.NoError(t, os.RemoveAll(filepath.Join(dir, "FULL")))
			started, finish := make(chan struct{}), make(chan struct{})
			var once sync.Once
			first := into(p, "", func(e run.Event) {
				if e.Kind == run.Began {
					once.Do(func() { close(started); <-finish })
				}
			})
			first.Open = opens[0]
			l := run.Start(t.Context(), first)
			select {
			case <-started:
			case <-l.Ended():
				t.Fatalf("%+v", l.Wait())
			}
			second := into(p, "", nil)
			second.Open = opens[1]
			r := run.Start(t.Context(), second).Wait()
			close(finish)
			require.Len(t, r.Failed, 1)
			assert.Contains(t, r.Failed[0].Say, "another run of this Polytome is filling it")
			assert.Zero(t, r.Put)
			assert.Equal(t, len(p.Steps), r.Untried)
			done := l.Wait()
			assert.True(t, done.All(), "%+v", done.Failed)
			third := into(p, "", nil)
			third.Open = opens[1]
			r = run.Start(t.Context(), third).Wait()
			for _, f := range r.Failed {
				assert.NotContains(t, f.Say, "filling it", "it was released")
			}
		})
	}
}

// TestAnotherProcessIsReportedByItsNumber.
func TestAnotherProcessIsReportedByItsNumber(t *testing.T) {
	dir := t.TempDir()
	held := exec.Command("flock", "--no-fork", dir, "cat")
	in, err := held.StdinPipe()
	require.NoError(t, err)
	require.NoError(t, held.Start())
	defer func() { _ = in.Close(); _ = held.Wait() }()
	p, _ := files(t, 100)
	require.Eventually(t, func() bool {
		f, err := folder.Open(dir, folder.Options{})
		require.NoError(t, err)
		defer f.Close()
		release, err := f.Claim()
		if err == nil {
			release()
		}
		return err != nil
	}, time.Minute, time.Millisecond)
	r := run.Start(t.Context(), into(p, dir, nil)).Wait()
	require.Len(t, r.Failed, 1)
	assert.Contains(t, r.Failed[0].Say, fmt.Sprintf("another Polytome (pid %d) is filling it", held.Process.Pid))
	assert.Empty(t, onTarget(t, dir))
}

// TestAFileUnderWayIsNobodyElses: without any claim, too, no one writes over what someone else is writing just now.
func TestAFileUnderWayIsNobodyElses(t *testing.T) {
	a, b := openTarget(t, t.TempDir(), folder.Options{}), (*folder.Target)(nil)
	b = openTarget(t, a.Dir(), folder.Options{})
	w, err := a.Create(t.Context(), "game.iso", 4)
	require.NoError(t, err)
	_, err = w.Write([]byte("game"))
	require.NoError(t, err)
	_, err = b.Create(t.Context(), "game.iso", 4)
	require.ErrorIs(t, err, target.ErrExists)
	_, err = b.Resume(t.Context(), "game.iso", 4, false)
	require.ErrorIs(t, err, target.ErrExists)
	require.NoError(t, w.Commit())
	got, err := os.ReadFile(filepath.Join(a.Dir(), "game.iso"))
	require.NoError(t, err)
	assert.Equal(t, "game", string(got))
}

// TestClaimsByName are had by one at a time.
func TestClaimsByName(t *testing.T) {
	id := "a test " + strconv.Itoa(os.Getpid())
	release, err := claim.Named(id)
	require.NoError(t, err)
	_, err = claim.Named(id)
	var taken *claim.TakenError
	require.ErrorAs(t, err, &taken)
	assert.Equal(t, os.Getpid(), taken.PID)
	release()
	release, err = claim.Named(id)
	require.NoError(t, err)
	release()
}
