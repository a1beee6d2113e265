package ui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/testkit/coretest"
	"polytome/internal/ui/state"
	"polytome/internal/ui/teachview"
)

// strangeGame is a game of a console that nobody knows.
func strangeGame(id, name string) []byte {
	b := make([]byte, 3000)
	copy(b, "\x91\x17\xC4\x05")
	copy(b[16:], id)
	copy(b[40:], name)
	for i := 200; i < len(b); i++ {
		b[i] = byte(i*i + len(name))
	}
	return b
}

// strangeStick is the stick of a console that nobody knows, with a list and a file that nothing explains.
func strangeStick(t *testing.T) string {
	dir := t.TempDir()
	list := ""
	for n, name := range []string{"Alder Gate", "Brook Lane", "Copper Tide", "Dune Post", "Ember Lock"} {
		id := fmt.Sprintf("KST-%04d", 1200+n*37)
		coretest.Write(t, dir, fmt.Sprintf("PLAY/%s.krn", name), strangeGame(id, name))
		list += fmt.Sprintf("%s;%s.krn\n", id, name)
	}
	coretest.Write(t, dir, "PLAY/titles.lst", []byte(list))
	coretest.Write(t, dir, "holiday.jpg", []byte("a picture"))
	return dir
}

// teachApp is the program with a strange stick as its second target, in the panel that learns from it.
func teachApp(t *testing.T) (a *app, stick, own string) {
	own, stick = filepath.Join(t.TempDir(), "own"), strangeStick(t)
	a, _ = demoApp(t, Options{OwnDir: own})
	cmd := a.state.Teach(state.Teaching{At: stick, Name: "Strange stick", Config: bench.Target{Name: "Strange stick",
		At: stick, As: "fat32"}})
	_, next := a.Update(cmd())
	pump(a, next)
	t.Cleanup(panelOf[*teachview.Model](a).Close)
	return a, stick, own
}

func TestAConsoleIsTaught(t *testing.T) {
	a, stick, own := teachApp(t)
	s := text(a)
	for _, want := range []string{"▸N Teach 4", "what lies on Strange stick", "not explained: 1 file", "holiday.jpg",
		"Alder Gate.krn", "1  a game", "2  a list", "1  certain: krn cartridges go to",
		"certain: Krn games have their name in them, such as Alder Gate",
		"question 1 of 4", "y: "} {
		assert.Contains(t, s, want)
	}

	press(a, "v")
	assert.Contains(t, text(a), "None of your games is of a platform that this console plays.")
	press(a, "v")
	assert.Contains(t, text(a), `path = "PLAY/{title}{ext}"`, "the file is one key away")
	press(a, "v", "down", "up", "o")
	assert.NotContains(t, text(a), "not explained", "the picture is left out")
	press(a, "u")
	assert.Contains(t, text(a), "not explained")
	press(a, "U")
	assert.NotContains(t, text(a), "not explained")

	for range 4 {
		press(a, "y")
	}
	assert.Contains(t, text(a), "nothing is open")
	press(a, "y")
	assert.Contains(t, text(a), "Nothing is open: W writes the profile.")
	press(a, "W", "enter")
	assert.Contains(t, text(a), "Strange stick", "it is on the bench now")
	set, err := loader.Known(own)
	require.NoError(t, err)
	require.Empty(t, set.Broken)
	assert.NotNil(t, set.Platform("krn"))
	last := a.state.Bench.Targets[len(a.state.Bench.Targets)-1]
	assert.Equal(t, stick, a.state.Bench.Resolve(last.At))
	p, err := set.Profile(last.Loader)
	require.NoError(t, err)
	assert.True(t, p.Own)

	press(a, "W", "enter")
	set, err = loader.Known(own)
	require.NoError(t, err)
	assert.Empty(t, set.Broken, "one that is there is not written over")
}

// TestWhatTheConsoleMadeIsOffered: a target that was learnt, and that the console has used since.
func TestWhatTheConsoleMadeIsOffered(t *testing.T) {
	a, stick, _ := teachApp(t)
	press(a, "W", "enter")
	c := a.state.Bench.Targets[len(a.state.Bench.Targets)-1]
	for n := range 5 {
		coretest.Write(t, stick, fmt.Sprintf("KEEP/KST-%04d.set", 1200+n*37), []byte("volume=5\n"))
	}
	panelOf[*teachview.Model](a).Close()
	c.As = "fat32"
	cmd := a.state.Teach(state.Teaching{At: stick, Name: c.Name, Config: c})
	_, next := a.Update(cmd())
	pump(a, next)
	s := text(a)
	assert.Contains(t, s, "does not account for")
	assert.Contains(t, s, "+ add to its profile")
	assert.Contains(t, s, "each title has settings: KEEP/{id}.set")
	press(a, "v", "v")
	assert.Contains(t, text(a), "To add to the profile of")
	press(a, "v", "+", "enter")
	assert.Contains(t, text(a), "Added to ")
	assert.NotContains(t, text(a), "does not account for")
	p, err := a.state.Set.Profile(c.Loader)
	require.NoError(t, err)
	require.Len(t, p.Companions, 1, "the rule is the loader's now")
	assert.Equal(t, "KEEP/{id}.set", p.Companions[0].Path.String())
	assert.NotContains(t, text(a), "add to its profile", "there is nothing more")
}

func TestAPersonPointsAtTheID(t *testing.T) {
	a, _, _ := teachApp(t)
	press(a, "/", "alder", "enter", "x")
	s := text(a)
	assert.Contains(t, s, "4b 53 54 2d 31 32 30 30", "the bytes of its ID")
	for range 2 {
		press(a, "down")
	}
	for range 8 { // into the name
		press(a, "right")
	}
	assert.Contains(t, text(a), `"Alder Gate"`)
	press(a, "up", "up", "down", "left", "left", "left", "left", "left", "left", "left", "left")
	assert.Contains(t, text(a), `"KST-1200"`)
	press(a, "i")
	assert.Contains(t, text(a), "as was said of PLAY/Alder Gate.krn")
	press(a, "esc", "x", "esc")
	assert.NotContains(t, text(a), "point at a value")

	press(a, "m", "enter")
	assert.Contains(t, text(a), "as was said of", "the name, as that of the file")
	press(a, "enter", "WHARF", "enter")
	assert.Contains(t, text(a), "question")
}

func TestWhatCannotBeTaughtIsSaid(t *testing.T) {
	a, _ := demoApp(t, Options{})
	empty := t.TempDir()
	cmd := a.state.Teach(state.Teaching{At: empty, Name: "Empty", Config: bench.Target{At: empty}})
	_, next := a.Update(cmd())
	pump(a, next)
	assert.Contains(t, text(a), "shows where games go")
	press(a, "W")
	assert.Contains(t, text(a), "There is nothing to write yet.")
	press(a, "u")
	assert.Contains(t, text(a), "Nothing has been answered yet.")

	gone := filepath.Join(empty, "gone")
	cmd = a.state.Teach(state.Teaching{At: gone, Name: "Gone", Config: bench.Target{At: gone}})
	_, next = a.Update(cmd())
	pump(a, next)
	assert.Contains(t, text(a), "No folder")
	press(a, "x", "i", "o", "left", "right", "tab", "y")
	for _, size := range [][2]int{{80, 24}, {60, 16}, {240, 70}} {
		a.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		assert.Len(t, strings.Split(text(a), "\n"), size[1])
	}
}

// TestAnswersAreThereTheNextTime: what was answered counts when the program is started again, and can be undone then.
func TestAnswersAreThereTheNextTime(t *testing.T) {
	a, stick, own := teachApp(t)
	press(a, "down", "up", "o")
	assert.NotContains(t, text(a), "not explained")
	file := learn.AnswersFile(own, stick)
	answers, err := learn.ReadAnswers(file)
	require.NoError(t, err)
	assert.Equal(t, learn.Answers{{Key: "file holiday.jpg", Answer: learn.Ignored}}, answers)

	again := func() *app {
		a, _ := demoApp(t, Options{OwnDir: own})
		cmd := a.state.Teach(state.Teaching{At: stick, Name: "Strange stick",
			Config: bench.Target{Name: "Strange stick",
				At: stick, As: "fat32"}})
		_, next := a.Update(cmd())
		pump(a, next)
		t.Cleanup(panelOf[*teachview.Model](a).Close)
		return a
	}
	a = again()
	assert.NotContains(t, text(a), "not explained")
	assert.Contains(t, text(a), "Your 1 answer of the last time counts")
	press(a, "u")
	assert.Contains(t, text(a), "not explained")
	assert.NoFileExists(t, file, "there is nothing to keep")

	coretest.Write(t, filepath.Dir(file), filepath.Base(file), []byte("no = \"answers\"\n"))
	a = again()
	assert.Contains(t, text(a), "could not be read, and new ones are not kept")
	press(a, "down", "up", "o")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "no = \"answers\"\n", string(b), "what cannot be read stays")
}

// TestALateLessonIsNotTaken: what was begun for another stick, or before another answer, changes nothing.
func TestALateLessonIsNotTaken(t *testing.T) {
	a, _, _ := teachApp(t)
	m := panelOf[*teachview.Model](a)
	late := m.Open // the same stick: as it was left
	assert.Nil(t, late())
	press(a, "right")
	other := strangeStick(t)
	require.NoError(t, os.Rename(filepath.Join(other, "PLAY"), filepath.Join(other, "RUN")))
	first := a.state.Teach(state.Teaching{At: other, Name: "Other", Config: bench.Target{At: other, As: "fat32"}})
	_, looking := a.Update(first()) // not pumped yet
	second := a.state.Teach(state.Teaching{At: strangeStick(t), Name: "Third", Config: bench.Target{As: "fat32"}})
	_, next := a.Update(second())
	pump(a, next)
	pump(a, looking)
	assert.Contains(t, text(a), "what lies on Third")
	assert.NotContains(t, text(a), "RUN/")
}
