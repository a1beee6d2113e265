package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/testkit/coretest"
)

func TestLinesAreBrokenBetweenWords(t *testing.T) {
	var b bytes.Buffer
	c := &cleaner{to: &b, width: 24}
	_, _ = c.Write([]byte("  STOPS   the file is missing, so nothing is listed\nshort\nask? "))
	_, _ = c.Write([]byte("an answer\n\n    a-word-that-is-longer-than-the-line x\n"))
	assert.Equal(t, "  STOPS   the file is\n    missing, so nothing\n    is listed\nshort\nask? an answer\n\n"+
		"    a-word-that-is-longer-than-the-line\n      x\n", b.String())
	b.Reset()
	_, _ = plain(c).Write([]byte(`{"text": "of programs is not broken, however long it is"}`))
	assert.Equal(t, `{"text": "of programs is not broken, however long it is"}`, b.String())
}

// TestNoWordIsLostWhereLinesAreBroken, in whatever pieces the text is written.
func TestNoWordIsLostWhereLinesAreBroken(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringOf(rapid.SampledFrom([]rune("ab é銅  \n"))).Draw(t, "text")
		var b bytes.Buffer
		c := &cleaner{to: &b, width: rapid.IntRange(1, 30).Draw(t, "width"), colours: rapid.Bool().Draw(t, "colours")}
		whole := rapid.Bool().Draw(t, "at once")
		for rest := text; rest != ""; {
			n := len(rest)
			if !whole {
				n = rapid.IntRange(1, n).Draw(t, "piece")
			}
			_, _ = c.Write([]byte(rest[:n]))
			rest = rest[n:]
		}
		got := ansi.Strip(b.String())
		if strings.Join(strings.Fields(got), " ") != strings.Join(strings.Fields(text), " ") {
			t.Fatalf("%q became %q", text, got)
		}
		for _, line := range strings.Split(got, "\n") {
			if whole && ansi.StringWidth(line) > c.width && len(strings.Fields(line)) > 1 {
				t.Fatalf("%q is wider than %d", line, c.width)
			}
		}
	})
}

func TestWhatIsPrintedIsAsAsked(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	coretest.Write(t, dir, "games/a.iso", coretest.Image(t, coretest.Inf("VSP-20001", "Mosswick", "1/1", "full")))
	fill := func(more ...string) (status int, out, errs string) {
		return polytome(t, append([]string{"fill", "--from", filepath.Join(dir, "games"), "--loader", "rowan", "--to",
			t.TempDir(), "--as", "fat32", "--capacity", "1GiB", "--log", filepath.Join(dir, "log.txt")}, more...)...)
	}
	status, out, errs := fill("--quiet")
	assert.Equal(t, statusPartial, status, "the kit is missing")
	assert.Empty(t, out+errs)
	_, out, _ = fill("--quiet", "--json")
	assert.Contains(t, out, `"event"`)
	_, out, _ = fill()
	assert.NotContains(t, out, "\x1b")
	assert.Contains(t, out, "  STOPS   ")
	_, out, _ = fill("--color", "always")
	assert.Contains(t, out, "\x1b[31mSTOPS\x1b[m ")
	status, _, errs = fill("--color", "alwys")
	assert.Equal(t, statusUsage, status)
	assert.Contains(t, errs, `did you mean "always"?`)
	t.Setenv("COLUMNS", "60")
	_, out, _ = fill()
	for _, line := range strings.Split(out, "\n") {
		if strings.Count(strings.TrimSpace(line), " ") > 1 {
			assert.LessOrEqual(t, len(line), 60, line)
		}
	}
	log, err := os.ReadFile(filepath.Join(dir, "log.txt"))
	require.NoError(t, err)
	for _, want := range []string{"msg=begin", `msg="run begins"`, `msg="run ends"`, "failed=0", "msg=end"} {
		assert.Contains(t, string(log), want)
	}

	status, _, errs = polytome(t, "scan", dir, "--log", filepath.Join(dir, "games", "a.iso", "log.txt"))
	assert.Equal(t, statusFailed, status)
	assert.Contains(t, errs, "the log: ")
	_, _, errs = polytome(t, "scan", dir, "--password-env", "NOT_SET_ANYWHERE", "--password", "sesame",
		"--password=tide")
	assert.NotContains(t, errs, "the log")
	log, err = os.ReadFile(logFileIn(t))
	require.NoError(t, err, "the usual one")
	assert.Contains(t, string(log), "NOT_SET_ANYWHERE")
	assert.NotContains(t, string(log), "sesame", "nor the password of an archive")
	assert.NotContains(t, string(log), "tide")
}

func TestAListFromStandardInput(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	coretest.Write(t, dir, "a.iso", coretest.Image(t, coretest.Inf("VSP-20001", "MOSSWICK", "1/1", "full")))
	cmd := exec.Command(binary, "scan", dir, "--list", "-")
	cmd.Stdin = strings.NewReader("id,name\nVSP-20001,Mosswick by Night\n")
	status, out, errs := finish(t, cmd)
	assert.Equal(t, statusDone, status, errs)
	assert.Contains(t, out, "Mosswick by Night")
}

// logFileIn is the log of a test that has folders of its own.
func logFileIn(t *testing.T) string {
	return filepath.Join(os.Getenv("XDG_STATE_HOME"), "polytome", "log.txt")
}

// TestTheProgressOnATerminal is one line with a bar, files, bytes, speed and time left, as wide as the terminal.
func TestTheProgressOnATerminal(t *testing.T) {
	ownFolders(t)
	dir := t.TempDir()
	for i, name := range []string{"Mosswick", "Gannet Patrol", "Copper Tide"} {
		coretest.Write(t, dir, "games/"+name+".iso",
			coretest.Image(t, coretest.Inf([]string{"VSP-20001", "VSP-20002", "VSP-20003"}[i], name, "1/1", "full")))
	}
	cmd := exec.Command("script", "-qfec", "stty cols 100; "+binary+" fill --from "+filepath.Join(dir, "games")+
		" --loader rowan --to "+t.TempDir()+" --as fat32 --capacity 1GiB --limit 32KiB", "/dev/null")
	cmd.Env = append(os.Environ(), "TERM=xterm")
	out, _ := cmd.CombinedOutput() // its status is that of a kit that is missing
	assert.Regexp(t, `\[#*\.*\] +\d+ %  \d of 6 files  [\d.]+ \w+  [\d.]+ \w+/s  about .* left  (copy|check|write) `,
		string(out))
	for _, drawn := range strings.Split(string(out), "\r\x1b[K") {
		line, _, _ := strings.Cut(drawn, "\n")
		assert.Less(t, ansi.StringWidth(line), 101, line)
	}
}
