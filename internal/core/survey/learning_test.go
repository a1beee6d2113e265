//go:build !race

package survey_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/learn"
	"polytome/internal/core/survey"
	"polytome/internal/secret"
	"polytome/internal/target/drive"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// strangeStick has the stick of a console that was made up, filled with one of its two collections.
func strangeStick(t *testing.T, seed int, collection string) (dir, stick string) {
	dir = t.TempDir()
	require.NoError(t, exec.Command("/usr/bin/python3", "testdata/family.py", strconv.Itoa(seed), dir).Run())
	stick = filepath.Join(dir, "CONSOLE")
	require.NoError(t, os.MkdirAll(stick, 0o755))
	judged(t, dir, collection, stick, true)
	return dir, stick
}

// lookAt opens a target and looks at it.
func lookAt(t *testing.T, at string, from learn.Sources) learn.Look {
	p, err := survey.OpenTarget(t.Context(), drive.AddressOf(at), bench.Target{At: at}, nil, false)
	require.NoError(t, err)
	l, done, err := learn.LookAt(t.Context(), at, p, from)
	require.NoError(t, err)
	t.Cleanup(func() {
		done()
		assert.NoError(t, p.Close())
	})
	return l
}

func learntFrom(t *testing.T, at string, from learn.Sources) *learn.Draft {
	d, err := learn.Learn(t.Context(), lookAt(t, at, from), coretest.Set(t))
	require.NoError(t, err)
	return d
}

// rulesOf is a draft without what differs with where the target is.
func rulesOf(d *learn.Draft) string {
	var all []string
	for line := range strings.Lines(d.TOML()) {
		if !regexp.MustCompile(`^(#|name|shown|via|label|filesystems|case)`).MatchString(line) {
			all = append(all, line)
		}
	}
	for _, p := range d.Taught {
		all = append(all, p.TOML())
	}
	return strings.Join(all, "")
}

// served is the address of a server that has the files of a stick.
func served(t *testing.T, stick string) string {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(stick)))
	secret.Remember("127.0.0.1", "games", "games")
	return fmt.Sprintf("ftp://games@127.0.0.1:%d/", judge.ProFTP(t, dir, ""))
}

// shared is the address of a share that has the files of a stick.
func shared(t *testing.T, stick string) string {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(stick)))
	server := judge.SMB(t, dir)
	return fmt.Sprintf("smb://127.0.0.1:%d/open", server.Port)
}

// TestLearningTheSameFromWhereverTheStickIs: a folder, an image of a drive, a console's server and a share show the
// same.
func TestLearningTheSameFromWhereverTheStickIs(t *testing.T) {
	_, stick := strangeStick(t, 7, "one")
	folder := learntFrom(t, stick, learn.Sources{})
	require.NotEmpty(t, folder.Rules)
	require.NotEmpty(t, folder.Lists)

	image := filepath.Join(t.TempDir(), "stick.img")
	require.NoError(t, exec.Command("truncate", "-s", "64M", image).Run())
	require.NoError(t, exec.Command("mkfs.fat", "-F", "32", image).Run())
	top, err := filepath.Glob(filepath.Join(stick, "*"))
	require.NoError(t, err)
	out, err := exec.Command("mcopy", append([]string{"-s", "-i", image}, append(top, "::/")...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, rulesOf(folder), rulesOf(learntFrom(t, image, learn.Sources{})))

	at := served(t, stick)
	far := learntFrom(t, at, learn.Sources{})
	assert.Equal(t, "ftp", far.Via)
	assert.Equal(t, rulesOf(folder), rulesOf(far))

	share := learntFrom(t, shared(t, stick), learn.Sources{})
	assert.Equal(t, "smb", share.Via)
	assert.Equal(t, rulesOf(folder), rulesOf(share))
}

// TestLearningWhetherGamesMustLieContiguous: on a volume of which it is known in how many pieces files lie, games that
// all lie in one are asked about, and one that does not shows that it does not matter.
func TestLearningWhetherGamesMustLieContiguous(t *testing.T) {
	_, stick := strangeStick(t, 7, "one")
	games, err := filepath.Glob(filepath.Join(stick, "*"))
	require.NoError(t, err)
	for _, pieces := range []bool{false, true} {
		image := filepath.Join(t.TempDir(), "stick.img")
		require.NoError(t, exec.Command("truncate", "-s", "8M", image).Run())
		require.NoError(t, exec.Command("mkfs.fat", "-s", "1", image).Run())
		copyTo := func(args ...string) {
			out, err := exec.Command("mcopy", append(append([]string{"-s", "-i", image}, args...), "::/")...).
				CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
		if pieces { // the space that is free at the beginning is cut up
			gap := filepath.Join(t.TempDir(), "gap")
			require.NoError(t, os.WriteFile(gap, make([]byte, 4096), 0o644))
			for n := range 40 {
				out, err := exec.Command("mcopy", "-i", image, gap, fmt.Sprintf("::/gap%d", n)).CombinedOutput()
				require.NoError(t, err, "%s", out)
			}
			for n := 0; n < 40; n += 2 {
				require.NoError(t, exec.Command("mdel", "-i", image, fmt.Sprintf("::/gap%d", n)).Run())
			}
		}
		copyTo(games...)
		d := learntFrom(t, image, learn.Sources{})
		says := func(say string) bool {
			return slices.ContainsFunc(d.Findings, func(f learn.Finding) bool { return f.Say == say })
		}
		asked := slices.ContainsFunc(d.Open, func(q learn.Question) bool { return q.Key == "contiguous" })
		assert.Equal(t, pieces, says("games need not lie contiguous"))
		assert.Equal(t, !pieces, asked)
		assert.NotContains(t, d.TOML(), "contiguous = true")
		d = learntFrom(t, image, learn.Sources{Answers: learn.Answers{{Key: "contiguous", Answer: "yes"}}})
		assert.Equal(t, !pieces, strings.Contains(d.TOML(), "contiguous = true"))
	}
}

// TestLearningReadsNoMoreThanIsNeeded: of a file that is far larger than what is looked at, most is never read.
func TestLearningReadsNoMoreThanIsNeeded(t *testing.T) {
	_, stick := strangeStick(t, 7, "one")
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(stick)))
	coretest.Write(t, dir, "large.bin", nil)
	require.NoError(t, os.Truncate(filepath.Join(dir, "large.bin"), 8<<30))
	secret.Remember("127.0.0.1", "games", "games")
	l := lookAt(t, fmt.Sprintf("ftp://games@127.0.0.1:%d/", judge.ProFTP(t, dir, "")), learn.Sources{})
	out, err := exec.Command("du", "-s", "--block-size=1M", l.Dir).Output()
	require.NoError(t, err)
	n, err := strconv.Atoi(strings.Fields(string(out))[0])
	require.NoError(t, err)
	assert.Less(t, n, 16)
	info, err := os.Stat(filepath.Join(l.Dir, "large.bin"))
	require.NoError(t, err)
	assert.Equal(t, int64(8<<30), info.Size())
}

func TestLearningEndsWhenItIsCancelled(t *testing.T) {
	_, stick := strangeStick(t, 7, "one")
	at := served(t, stick)
	p, err := survey.OpenTarget(t.Context(), at, bench.Target{At: at}, nil, false)
	require.NoError(t, err)
	defer p.Close()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, _, err = learn.LookAt(ctx, at, p, learn.Sources{})
	assert.ErrorIs(t, err, context.Canceled)
}

// TestLearningFromASecondStick: a stick with other games agrees with what was learnt from the first, or contradicts it.
func TestLearningFromASecondStick(t *testing.T) {
	_, one := strangeStick(t, 7, "one")
	_, two := strangeStick(t, 7, "two")
	d, err := learn.Together(t.Context(), []learn.Look{lookAt(t, one, learn.Sources{}),
		lookAt(t, two, learn.Sources{})},
		coretest.Set(t))
	require.NoError(t, err)
	agrees := func(d *learn.Draft) bool {
		return slices.ContainsFunc(d.Findings, func(f learn.Finding) bool {
			return strings.Contains(f.Say, "is as by these rules") && f.Confidence == learn.Certain
		})
	}
	assert.True(t, agrees(d), "%s", d.TOML())
	assert.Empty(t, d.Against)

	_, other := strangeStick(t, 12, "one")
	d, err = learn.Together(t.Context(), []learn.Look{lookAt(t, one, learn.Sources{}),
		lookAt(t, other, learn.Sources{})},
		coretest.Set(t))
	require.NoError(t, err)
	assert.False(t, agrees(d), "another console's stick")

	moved := filepath.Join(t.TempDir(), "CONSOLE")
	require.NoError(t, os.CopyFS(moved, os.DirFS(two)))
	var game string
	require.NoError(t, filepath.WalkDir(moved, func(p string, e os.DirEntry, err error) error {
		if rel, _ := filepath.Rel(moved, p); strings.Count(rel, "/") > 1 && !e.IsDir() && game == "" {
			game = p
		}
		return err
	}))
	require.NoError(t, os.Rename(game, filepath.Join(moved, "lost"+filepath.Ext(game))))
	d, err = learn.Together(t.Context(), []learn.Look{lookAt(t, one, learn.Sources{}),
		lookAt(t, moved, learn.Sources{})},
		coretest.Set(t))
	require.NoError(t, err)
	assert.False(t, agrees(d), "one game lies elsewhere")
}

// TestLearningTakesAnswers: what a person says holds, is not asked again, and decides where a value is looked for.
func TestLearningTakesAnswers(t *testing.T) {
	_, stick := strangeStick(t, 7, "one")
	d := learntFrom(t, stick, learn.Sources{})
	keys := func(d *learn.Draft) (out []string) {
		for _, q := range d.Open {
			out = append(out, q.Key)
		}
		return out
	}
	require.Contains(t, keys(d), "names")
	platform := d.Taught[0]
	d = learntFrom(t, stick, learn.Sources{Answers: learn.Answers{
		{Key: "names", Answer: "Wharf House, Heron"}, {Key: "label", Answer: "WHARF"},
		{Key: "filesystems", Answer: "fat32"},
		{Key: "at the console", Answer: "Press rescan."}, {Key: "name " + platform.Name, Answer: learn.NoField}}})
	assert.Equal(t, []string{"wharf-house", "Wharf House", "Heron", "WHARF"}, []string{d.Name, d.Shown, d.Console,
		d.Label})
	assert.Equal(t, []string{"Press rescan"}, d.Checklist)
	assert.Equal(t, []string{"fat32"}, d.Filesystems)
	assert.NotContains(t, keys(d), "names")
	assert.NotContains(t, d.Taught[0].Fields, "name", "the person has said that there is none")

	d = learntFrom(t, stick, learn.Sources{Answers: learn.Answers{{Key: "label", Answer: "LONGER THAN A LABEL"}}})
	assert.True(t, slices.ContainsFunc(d.Open, func(q learn.Question) bool {
		return q.Key == "label" && strings.Contains(q.Say, "a label has at most 11 characters")
	}))

	// A person points at another text of one game as its ID: it is found in the others.
	said := fmt.Sprintf("%s: %s", platform.Such, platform.Fields["name"].Example)
	d = learntFrom(t, stick, learn.Sources{Answers: learn.Answers{{Key: "id " + platform.Name, Answer: said}}})
	assert.Equal(t, platform.Fields["name"].Example, d.Taught[0].Fields["id"].Example)
	assert.Contains(t, d.Taught[0].Fields["id"].Evidence, "as was said of")
	assert.True(t, d.Taught[0].Fields["id"].Sure)

	ignored := learntFrom(t, stick, learn.Sources{Answers: learn.Answers{{Key: "file " + platform.Such,
		Answer: learn.Ignored}}})
	assert.NotContains(t, ignored.Explained, platform.Such)
}

// TestLearningFromGamesAlone: a folder of games that nobody has described, without any stick.
func TestLearningFromGamesAlone(t *testing.T) {
	dir, stick := strangeStick(t, 7, "one")
	games := learn.Sources{Games: []string{filepath.Join(dir, "two")}}
	d, err := learn.Platforms(t.Context(), coretest.Set(t), games)
	require.NoError(t, err)
	require.Len(t, d.Taught, 1)
	assert.Contains(t, d.Taught[0].Fields, "name")
	both := learntFrom(t, stick, games)
	assert.Equal(t, rulesOf(learntFrom(t, stick, learn.Sources{})), rulesOf(both))
	_, err = learn.Platforms(t.Context(), coretest.Set(t), learn.Sources{Games: []string{t.TempDir()}})
	assert.ErrorContains(t, err, "is a game of a platform that is not known yet")
}

// TestLearningFromAMessyStick: pictures, notes, a half copy, a misnamed game and the games of another console do not
// spoil what the others show, and are said.
func TestLearningFromAMessyStick(t *testing.T) {
	_, stick := strangeStick(t, 7, "one")
	clean := learntFrom(t, stick, learn.Sources{})
	require.Len(t, clean.Rules, 1)
	_, other := strangeStick(t, 2, "one")

	messy := filepath.Join(t.TempDir(), "CONSOLE")
	require.NoError(t, os.CopyFS(messy, os.DirFS(stick)))
	require.NoError(t, os.CopyFS(filepath.Join(messy, "borrowed"), os.DirFS(other)))
	for n := range 9 {
		coretest.Write(t, messy, fmt.Sprintf("holiday/IMG_%03d.jpg", n), append([]byte("\xff\xd8\xff\xe0"),
			make([]byte, 50_000)...))
	}
	coretest.Write(t, messy, "to do.txt", []byte("ask about the second disc\n"))
	var games []string
	ext := clean.Taught[0].Exts[0]
	require.NoError(t, filepath.WalkDir(messy, func(p string, e os.DirEntry, err error) error {
		if strings.HasSuffix(p, ext) {
			games = append(games, p)
		}
		return err
	}))
	require.Greater(t, len(games), 6)
	half, err := os.ReadFile(games[0])
	require.NoError(t, err)
	coretest.Write(t, messy, "half"+ext, half[:len(half)/2])
	require.NoError(t, os.Rename(games[1], filepath.Join(messy, "mine"+ext)))

	d := learntFrom(t, messy, learn.Sources{})
	var rules []string
	for _, r := range d.Rules {
		rules = append(rules, r.Path)
	}
	assert.Contains(t, rules, clean.Rules[0].Path)
	said := d.TOML()
	assert.True(t, strings.Contains(said, "mine"+ext) || strings.Contains(said, "half"+ext), "what is astray is said")
	for _, f := range d.Findings {
		if strings.Contains(f.Say, " go to ") && f.Confidence == learn.Certain {
			assert.NotContains(t, f.Say, "mine")
			assert.NotContains(t, f.Say, "half")
		}
	}
	assert.NotContains(t, strings.Join(rules, "\n"), "holiday")
}
