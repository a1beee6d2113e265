package ui

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/testkit/judge"
	"polytome/internal/ui/connectionsview"
)

// onPaper draws what is proposed, or a kind that is written instead, to a file.
func onPaper(a *app, kind, file string) {
	press(a, "O")
	if kind != "" {
		a.input.SetValue(kind)
	}
	press(a, "enter")
	if a.mode == answering {
		a.input.SetValue(file)
		press(a, "enter")
	}
}

// TestOneKeyDrawsInEveryStage draws from each stage and panel what it proposes, and has foreign programs look at the
// files.
func TestOneKeyDrawsInEveryStage(t *testing.T) {
	a, w := demoApp(t, Options{})
	a.state.System = bare(t)
	a.state.Images = []string{filepath.Join(w.Dir, "drives", "north-58.img")}
	dir := t.TempDir()
	for _, c := range []struct{ keys, kind, says string }{
		{"1", "card", "Contents of gullwing-season"}, {"2", "fit", "What goes where"},
		{"3", "tree", "The tree of North stick"}, {"4", "run", "How it ran"},
		{"5", "checklist", "Switch the console on"}, {"C", "card", "Contents of North stick"},
		{"L", "tree", "The tree of North stick"}, {"H", "connections", "What is plugged into what"},
		{"D", "map", "What is stored where on north-58.img"},
	} {
		press(a, "esc", "esc", "esc")
		if c.keys == "H" {
			a.panel = panelOf[*connectionsview.Model](a) // which looks at the links again and again
		} else {
			press(a, c.keys)
		}
		press(a, "O")
		require.Equal(t, c.kind, a.input.Value(), "proposed on %s", c.keys)
		assert.Contains(t, text(a), "Draw on paper: "+c.kind)
		assert.Contains(t, text(a), "rack, map, tree, connections, card, run, fit, checklist")
		press(a, "enter")
		require.Equal(t, answering, a.mode)
		assert.True(t, strings.HasSuffix(a.input.Value(), " "+c.kind+".pdf"), a.input.Value())
		file := filepath.Join(dir, "from "+c.keys+".pdf")
		a.input.SetValue(file)
		press(a, "enter")
		require.FileExists(t, file, a.state.Notice)
		assert.Contains(t, a.state.Notice, " is in "+file)
		assert.Contains(t, a.state.Notice, "page")
		assert.Contains(t, judge.Run(t, "pdftotext", "-layout", file, "-")+judge.Run(t, "pdfinfo", file), c.says)
		judge.Run(t, "qpdf", "--check", file)
	}
}

// TestConnectionsAreDrawnAsTried draws links after they were tried on the screen.
func TestConnectionsAreDrawnAsTried(t *testing.T) {
	a, _, _ := joined(t)
	pump(a, a.state.LookAtLinks())
	a.panel = panelOf[*connectionsview.Model](a)
	file := filepath.Join(t.TempDir(), "connections.pdf")
	onPaper(a, "", file)
	require.FileExists(t, file, a.state.Notice)
	s := flatText(judge.Run(t, "pdftotext", "-raw", file, "-"))
	for _, want := range []string{"Corvane disk 127.0.0.1, port", "tried: answers", "folder /hd1", "eth0",
		"192.168.77.9/24", "on: the Corvane, with its FTP server running on port"} {
		assert.Contains(t, s, want)
	}
}

func TestAnotherKindCanBeDrawn(t *testing.T) {
	a, _ := demoApp(t, Options{})
	a.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	file := filepath.Join(t.TempDir(), "the rack.svg")
	press(a, "3")
	onPaper(a, "rack", file)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(data), ">The rack<")
	assert.Contains(t, string(data), ">North stick<")
	assert.Contains(t, text(a), "The rack is in")
}

func TestPaperAndFoldAreWrittenBehindTheKind(t *testing.T) {
	a, _ := demoApp(t, Options{})
	dir := t.TempDir()
	for wish, says := range map[string]string{"card letter eighth": "70 x 108 mm", "card half": "148 x 210 mm",
		"CARD": "105 x 148 mm", "tree whole LETTER": "Where every title is"} {
		file := filepath.Join(dir, wish+".pdf")
		press(a, "3")
		onPaper(a, wish, file)
		require.FileExists(t, file, a.state.Notice)
		assert.Contains(t, flatText(judge.Run(t, "pdftotext", file, "-")), says, wish)
		assert.Equal(t, strings.Contains(strings.ToLower(wish), "letter"),
			strings.Contains(judge.Run(t, "pdfinfo", file), "letter"), wish)
	}
	for wish, says := range map[string]string{"card third": `Unknown fold "third"`, "rack a3": `Unknown paper "a3"`} {
		onPaper(a, wish, "")
		assert.Contains(t, a.state.Notice, says)
	}
}

func TestADrawingThatCannotBe(t *testing.T) {
	a, w := demoApp(t, Options{})
	dir := t.TempDir()
	there := filepath.Join(dir, "mine.pdf")
	require.NoError(t, os.WriteFile(there, []byte("mine"), 0o644))
	for _, c := range []struct{ kind, file, says string }{
		{"poster", "", `unknown drawing "poster"; use one of: rack`},
		{"fit", there, "already exists"},
		{"fit", filepath.Join(dir, "x.doc"), "a drawing must be a .pdf or .svg file"},
		{"fit", filepath.Join(dir, "no such", "x.pdf"), "does not exist; create it first"},
		{"fit", dir, "a drawing must be a .pdf or .svg file"},
		{"fit", "", "Nothing was drawn"},
		{"map", filepath.Join(dir, "map.pdf"), "only the map of a drive or image can be drawn"},
	} {
		press(a, "2")
		onPaper(a, c.kind, c.file)
		assert.Contains(t, strings.ToLower(a.state.Notice), strings.ToLower(c.says), "%s to %s", c.kind, c.file)
		press(a, "esc")
	}
	data, err := os.ReadFile(there)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(data))
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 1, "no half file")
	_ = w
}

// TestABenchWithoutTargetsIsDrawn draws from a bench that has nothing yet.
func TestABenchWithoutTargetsIsDrawn(t *testing.T) {
	a, _ := demoWith(t, Options{}, 0)
	dir := t.TempDir()
	for _, kind := range []string{"rack", "fit", "tree", "connections", "run", "checklist", "map"} {
		file := filepath.Join(dir, kind+".pdf")
		onPaper(a, kind, file)
		require.FileExists(t, file, a.state.Notice)
		assert.Regexp(t, "no target|no run|no volume", flatText(judge.Run(t, "pdftotext", file, "-")), kind)
	}
}

func flatText(s string) string { return strings.Join(strings.Fields(s), " ") }
