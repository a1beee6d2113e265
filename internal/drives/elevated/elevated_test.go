package elevated

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/core/prepare"
	"polytome/internal/drives"
	"polytome/internal/lockfile"
	"polytome/internal/testkit/judge"
)

var ctx = context.Background()

// beside starts the helper within the test.
func beside(sys drives.System) Starter {
	return func(_ context.Context, args []string) (func() error, error) {
		done := make(chan error, 1)
		go func() { done <- Help(ctx, sys, args[len(args)-2], args[len(args)-1]) }()
		return func() error { return <-done }, nil
	}
}

// image is a drive that the helper opens: it is a drive here, too.
func image(t testing.TB, n int) *drives.Drive {
	path := filepath.Join(t.TempDir(), "stick.img")
	require.NoError(t, os.WriteFile(path, make([]byte, n), 0o600))
	d, err := drives.Here.Look(ctx, path)
	require.NoError(t, err)
	return d
}

// TestADriveIsReadAndWrittenThroughTheHelper, and the helper's guard decides.
func TestADriveIsReadAndWrittenThroughTheHelper(t *testing.T) {
	var said []string
	h := New(beside(drives.Here), func(text string) { said = append(said, text) })
	d := image(t, 4<<20)
	is, err := h.Start(ctx, d)
	require.NoError(t, err)
	again, err := h.Start(ctx, d)
	require.NoError(t, err)
	assert.Same(t, is, again, "nobody is asked twice")
	require.Len(t, said, 1)
	assert.Contains(t, said[0], "rights of an administrator, to open stick.img, 4.00 MiB")

	seen, err := is.Look(ctx)
	require.NoError(t, err)
	assert.Equal(t, d.Identity(), seen.Identity())

	r, err := is.Read(ctx, d)
	require.NoError(t, err)
	_, err = r.WriteAt([]byte("no"), 0)
	assert.Error(t, err, "what is opened for reading is not written to")
	_, err = is.Open(ctx, d, drives.Erasing, drives.Consent{Typed: "another.img"})
	assert.True(t, drives.IsRefused(err))
	assert.ErrorContains(t, err, "that is not its name")

	w, err := is.Open(ctx, d, drives.Erasing, drives.Consent{Typed: "stick.img"})
	require.NoError(t, err)
	text := bytes.Repeat([]byte("Copper Tide "), 200_000)
	_, err = w.WriteAt(text, 1000)
	require.NoError(t, err)
	require.NoError(t, w.Zero(2000, 50))
	require.NoError(t, w.Sync())
	require.NoError(t, w.Close())
	copy(text[1000:], make([]byte, 50))
	b := make([]byte, len(text))
	_, err = r.ReadAt(b, 1000)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(text, b))
	require.NoError(t, r.Close())

	other := *d
	_, err = is.Open(ctx, other.Marked("another table"), drives.Filling, drives.Consent{})
	assert.ErrorContains(t, err, "its partition table is different", "it is compared with what this process has seen")

	release, err := is.LetGo(ctx, d, true, func(string) {})
	require.NoError(t, err)
	assert.True(t, release.Safe)
	h.Close()
	_, err = is.Look(ctx)
	assert.ErrorIs(t, err, errEnded)
}

// TestWhatIsClosedIsClosed: who comes next may open the drive at once, though it is another process that has it open.
func TestWhatIsClosedIsClosed(t *testing.T) {
	h := New(beside(drives.Here), func(string) {})
	defer h.Close()
	d := image(t, 4<<20)
	is, err := h.Start(ctx, d)
	require.NoError(t, err)
	for range 50 {
		w, err := is.Open(ctx, d, drives.Erasing, drives.Consent{Typed: "stick.img"})
		require.NoError(t, err)
		_, err = w.WriteAt([]byte("here"), 1<<20)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		f, err := os.Open(d.Path)
		require.NoError(t, err)
		taken, err := lockfile.Take(f)
		require.NoError(t, err)
		require.NoError(t, f.Close())
		require.False(t, taken, "the helper has it open still")
	}
}

// TestWhoAsksAndGoesEndsNothing: the helper is there for the next one.
func TestWhoAsksAndGoesEndsNothing(t *testing.T) {
	h := New(beside(drives.Here), func(string) {})
	defer h.Close()
	d := image(t, 4<<20)
	is, err := h.Start(ctx, d)
	require.NoError(t, err)
	for range 3 {
		require.NoError(t, (<-is.(*helper).conns).Close())
	}
	_, err = is.Look(ctx)
	require.NoError(t, err)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = is.Look(gone)
	require.ErrorIs(t, err, context.Canceled)
}

// TestAChangeJustBeforeTheFirstWriteIsSaid, though it is the helper that notices it.
func TestAChangeJustBeforeTheFirstWriteIsSaid(t *testing.T) {
	h := New(beside(drives.Here), func(string) {})
	defer h.Close()
	d := image(t, 4<<20)
	is, err := h.Start(ctx, d)
	require.NoError(t, err)
	w, err := is.Open(ctx, d, drives.Erasing, drives.Consent{Typed: "stick.img"})
	require.NoError(t, err)
	defer w.Close()
	require.NoError(t, os.Truncate(d.Path, 5<<20))
	_, err = w.WriteAt([]byte("here"), 1000)
	assert.True(t, drives.IsRefused(err))
	assert.ErrorContains(t, err, "it changed just before the first write")
	b, err := os.ReadFile(d.Path)
	require.NoError(t, err)
	assert.NotContains(t, string(b), "here")
}

// TestAHelperThatDoesNotCome: the user says no, it ends at once, or nobody answers.
func TestAHelperThatDoesNotCome(t *testing.T) {
	d := image(t, 1<<20)
	no := errors.New("that was not given")
	for name, start := range map[string]Starter{
		"not started": func(context.Context, []string) (func() error, error) { return nil, no },
		"refused":     func(context.Context, []string) (func() error, error) { return func() error { return no }, nil },
	} {
		_, err := New(start, func(string) {}).Start(ctx, d)
		assert.ErrorContains(t, err, "only an administrator may open it, and that was not given", name)
		assert.True(t, drives.IsRefused(err), name)
	}
	_, err := New(func(context.Context, []string) (func() error, error) { return func() error { return nil }, nil },
		func(string) {}).Start(ctx, d)
	assert.ErrorContains(t, err, "the helper ended at once")

	stopped, stop := context.WithCancel(ctx)
	ever := make(chan struct{})
	defer close(ever)
	_, err = New(func(context.Context, []string) (func() error, error) {
		stop()
		return func() error { <-ever; return nil }, nil
	}, func(string) {}).Start(stopped, d)
	assert.ErrorContains(t, err, "context canceled", "whoever waits may stop")
}

// TestAHelperThatIsKilled: what was begun fails, and the next one asks again.
func TestAHelperThatIsKilled(t *testing.T) {
	d := image(t, 4<<20)
	var kill context.CancelFunc
	starts := 0
	h := New(func(_ context.Context, args []string) (func() error, error) {
		starts++
		c, cancel := context.WithCancel(ctx)
		kill = cancel
		done := make(chan error, 1)
		go func() { done <- Help(c, drives.Here, args[0], args[1]) }()
		return func() error { return <-done }, nil
	}, func(string) {})
	defer h.Close()
	is, err := h.Start(ctx, d)
	require.NoError(t, err)
	w, err := is.Open(ctx, d, drives.Erasing, drives.Consent{Typed: "stick.img"})
	require.NoError(t, err)
	kill()
	_, err = w.WriteAt([]byte("here"), 0)
	if err == nil {
		err = w.Sync()
	}
	assert.Error(t, err)
	_ = w.Close()
	<-is.(*helper).over
	_, err = h.Start(ctx, d)
	require.NoError(t, err)
	assert.Equal(t, 2, starts)
}

// TestNonsenseInThePipe: whatever the other side says, it ends in an error.
func TestNonsenseInThePipe(t *testing.T) {
	for _, line := range []string{"", "\n", "{}", "[]\n", "{\"do\":\"format\"}\n", strings.Repeat("x", mostLine+2)} {
		l, address, tidy, err := listen()
		require.NoError(t, err)
		ended := make(chan error, 1)
		go func() { ended <- Help(ctx, drives.Here, address, image(t, 1<<20).Path) }()
		conn, err := l.Accept()
		require.NoError(t, err)
		_, _ = conn.Write([]byte(line)) // the helper may hang up before the end of a long one
		if line == "{\"do\":\"format\"}\n" {
			var a answer
			require.NoError(t, receive(conn, &a))
			assert.ErrorContains(t, a.err(), "does not know format")
		}
		_ = l.Close()
		_ = conn.Close()
		require.NoError(t, <-ended, line)
		tidy()
	}
}

// TestWhoMayNotOpenADrivePreparesItThroughTheHelper: this test runs as root, and another part of it as somebody who may
// not read the device. Nothing but the helper has opened it.
func TestWhoMayNotOpenADrivePreparesItThroughTheHelper(t *testing.T) {
	if dev := os.Getenv("POLYTOME_TEST_DENIED"); dev != "" {
		denied(t, dev)
		return
	}
	if !judge.AsRoot(t) {
		return
	}
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o755))
	for at := dir; at != "/"; at = filepath.Dir(at) { // the other part's socket is in a folder of its own
		require.NoError(t, os.Chmod(at, 0o777))
		if filepath.Dir(at) == os.TempDir() {
			break
		}
	}
	img := filepath.Join(dir, "stick.img")
	require.NoError(t, os.WriteFile(img, make([]byte, 64<<20), 0o600))
	dev := judge.Loop(t, img)
	require.NoError(t, os.Chmod(dev, 0o660))

	exe := filepath.Join(dir, "test")
	program, err := os.ReadFile(os.Args[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(exe, program, 0o755))
	other := exec.Command(
		"setpriv",
		"--reuid=65534",
		"--regid=65534",
		"--clear-groups",
		exe,
		"-test.run=^"+t.Name()+"$",
		"-test.v",
	)
	other.Dir = dir
	other.Env = append(os.Environ(), "POLYTOME_TEST_DENIED="+dev, "TMPDIR="+dir)
	var out, errs bytes.Buffer
	asks, err := other.StdoutPipe()
	require.NoError(t, err)
	other.Stderr = &errs
	require.NoError(t, other.Start())
	helped := 0
	for lines := bufio.NewScanner(asks); lines.Scan(); {
		fmt.Fprintln(&out, lines.Text())
		if address, ok := strings.CutPrefix(lines.Text(), "ASKS "); ok { // the user types the password
			helped++
			go func() { _ = Help(ctx, drives.Here, address, dev) }()
		}
	}
	require.NoError(t, other.Wait(), "%s%s", &out, &errs)
	assert.Equal(t, 1, helped, "once for all that is done with a drive")
	judge.Root(t, "fsck.fat", "-n", judge.Loop(t, cut(t, img, 4<<20)))
}

// cut is what of a file lies behind some bytes.
func cut(t testing.TB, img string, n int) string {
	b, err := os.ReadFile(img)
	require.NoError(t, err)
	part := filepath.Join(t.TempDir(), "part.img")
	require.NoError(t, os.WriteFile(part, b[n:], 0o600))
	return part
}

// denied prepares a drive that it may not open.
func denied(t *testing.T, dev string) {
	_, err := os.Open(dev)
	require.ErrorIs(t, err, os.ErrPermission)
	d, err := drives.Here.Look(ctx, dev)
	require.NoError(t, err)
	assert.False(t, d.Denied())
	require.NotNil(t, d.Refusal(), "without a helper, that is the end")

	sys := drives.Here
	over := make(chan struct{})
	defer close(over)
	h := New(func(_ context.Context, args []string) (func() error, error) {
		fmt.Println("ASKS " + args[0])
		return func() error { <-over; return nil }, nil
	}, func(string) {})
	sys.Elevate = h
	d, err = sys.Look(ctx, dev)
	require.NoError(t, err)
	assert.True(t, d.Denied())
	assert.Nil(t, d.Refusal())
	before := d
	set, err := loader.Shipped()
	require.NoError(t, err)
	profile, err := set.Profile("rowan")
	require.NoError(t, err)
	p, err := prepare.Make(ctx, sys, d, set, prepare.Request{Profile: profile})
	require.NoError(t, err)
	_, err = p.Do(ctx, sys, drives.Consent{Typed: "another"}, nil)
	require.ErrorContains(t, err, "that is not its name")
	p, err = prepare.Make(ctx, sys, d, set, prepare.Request{Profile: profile})
	require.NoError(t, err)
	r, err := p.Do(ctx, sys, drives.Consent{Typed: d.Name()}, nil)
	require.NoError(t, err)
	assert.True(t, r.Good(), "%v", r.Wrong)
	d, err = sys.Look(ctx, dev)
	require.NoError(t, err)
	assert.False(t, d.Denied(), "who has the rights now is not asked again for a glance")
	assert.Equal(t, "fat32", d.Volumes[0].Filesystem)

	m, err := sys.Open(ctx, before, drives.Erasing, drives.Consent{Typed: before.Name()})
	require.NoError(t, err, "what was listed before is that drive still")
	require.NoError(t, m.Close())
}
