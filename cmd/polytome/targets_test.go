package main

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// collection makes sound games of the given sizes, in MiB, that are no sparse
// files.
func collection(t *testing.T, mib ...int) string {
	dir := t.TempDir()
	for i, n := range mib {
		image := coretest.Image(t, coretest.Inf(fmt.Sprintf("VSP-%05d", i), fmt.Sprintf("Title %d", i), "1/1", "short"))
		coretest.Write(t, dir, fmt.Sprintf("%d.iso", i), append(image, bytes.Repeat([]byte("padding!"), n<<17)...))
	}
	return dir
}

// files lists what is below a folder.
func files(t *testing.T, dir string) []string {
	var out []string
	for line := range strings.Lines(tree(t, dir)) {
		out = append(out, line[:strings.LastIndexByte(line[:strings.LastIndexByte(line, ' ')], ' ')])
	}
	return out
}

func TestATargetThatFillsUpAndOneThatIsWriteProtected(t *testing.T) {
	games, stick := collection(t, 20, 20, 2), judge.Mount(t, "size=32m")
	// it promises more than it holds
	args := []string{"fill", "--from", games, "--loader", "rowan", "--to", stick, "--as", "fat32", "--capacity", "1GiB"}

	status, out, stderr := polytome(t, args...)
	assert.Equal(t, statusPartial, status, out+stderr)
	assert.Contains(t, out, "FAILED: SHORT/VSP-00001 - Title 1.iso: ")
	assert.Contains(t, out, "the target is full")
	assert.Contains(t, out, "free some space on it, or deselect titles, and run again")
	assert.Contains(t, out, "4 files copied, read back")
	assert.ElementsMatch(t, []string{"SHORT/VSP-00000 - Title 0.iso", "SHORT/VSP-00002 - Title 2.iso",
		"TUNE/VSP-00000.tune", "TUNE/VSP-00002.tune"}, files(t, stick), "the others are done, nothing is half-written")
	assert.Contains(t, out, "STOPS", "and the check says that the loader's own files are missing")

	require.NoError(t, os.Remove(filepath.Join(stick, "SHORT/VSP-00000 - Title 0.iso")))
	judge.Remount(t, stick, "ro")
	status, out, stderr = polytome(t, args...)
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, out, "the target is read-only")
	assert.Contains(t, out, "2 steps not tried", "one such failure is enough")
	assert.Contains(t, stderr, "nothing could be written to "+stick)

	judge.Remount(t, stick, "rw,size=64m")
	coretest.Write(t, stick, "ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
	status, out, _ = polytome(t, args...)
	assert.Zero(t, status, out)
	assert.Equal(t, []string{"VSP-00000 Title 0", "VSP-00001 Title 1", "VSP-00002 Title 2"}, simulatorList(t, stick))
}

func TestABenchWithTwoTargets(t *testing.T) {
	dir := t.TempDir()
	games := collection(t, 1, 2, 3)
	b := bench.New(filepath.Join(dir, "two.toml"))
	b.Sources = []bench.Source{{Path: games}}
	for _, name := range []string{"North stick", "East stick"} {
		coretest.Write(t, dir, name+"/ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
		b.Targets = append(b.Targets, bench.Target{Name: name, At: name, Loader: "rowan", Via: "usb", As: "fat32",
			Capacity: 1 << 30, Everything: true})
	}
	b.Targets[1].Want(false, "VSP-00001")
	require.NoError(t, b.Save())

	status, out, _ := polytome(t, "fit", "--bench", b.File(), "--target", "east stick")
	assert.Zero(t, status)
	assert.NotContains(t, out, "North stick")

	term := open(t, 140, 40, binary+" --bench "+b.File())
	term.wait("1 Games 3")
	term.keys("2")
	term.wait("North stick", "East stick", "Title 0 on North stick: copy.")
	term.keys("Right", "Down")
	term.wait("Title 1 on East stick: copy. Not selected.")
	term.keys("Space", "Down", "Space")
	term.wait("Title 2 deselected on East stick")
	term.keys("W")
	term.wait("Write to East stick?", "write to all 2 targets")
	term.keys("Enter")
	term.wait("Done: 2 titles written", "East stick: 4 files copied, read back")
	term.keys("q")
	term.wait("ready>")
	assert.Equal(t, []string{"VSP-00000 Title 0", "VSP-00001 Title 1"},
		simulatorList(t, filepath.Join(dir, "East stick")))
	assert.Empty(t, simulatorList(t, filepath.Join(dir, "North stick")), "the other target is left alone")

	status, out, stderr := polytome(t, "fill", "--bench", b.File())
	assert.Zero(t, status, out+stderr)
	assert.Len(t, simulatorList(t, filepath.Join(dir, "North stick")), 3)
	assert.Len(t, simulatorList(t, filepath.Join(dir, "East stick")), 2)
}

func TestASourceThatVanishesBetweenLookAndCopy(t *testing.T) {
	games, stick := collection(t, 30, 1, 1), t.TempDir()
	coretest.Write(t, stick, "ROWAN/rowan.cfg", []byte("look=stick\nfaces=yes\n"))
	term := open(t, 120, 40, fmt.Sprintf("%s fill --from %s --loader rowan --to %s --as fat32 --limit 20MiB", binary,
		games, stick))
	term.wait("copy SHORT/VSP-00000")
	require.NoError(t, os.Remove(filepath.Join(games, "1.iso"))) // while the first is being written
	s := term.wait("At the console:", "ready>")
	assert.Contains(t, s, "2 steps failed", "the game, and its settings")
	assert.Equal(t, []string{"VSP-00000 Title 0", "VSP-00002 Title 2"}, simulatorList(t, stick))
}
