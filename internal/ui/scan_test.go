package ui

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/testkit/versus"
)

// find filters the titles.
func find(a *app, text string) {
	press(a, "esc", "esc", "esc", "/")
	a.Update(tea.PasteMsg{Content: text})
	press(a, "enter")
}

// answer writes a text into the question at the foot.
func answer(a *app, text string) {
	a.input.SetValue("")
	a.Update(tea.PasteMsg{Content: text})
	press(a, "enter")
}

func has(t *testing.T, a *app, name string) *title.Title {
	t.Helper()
	for i := range a.state.Scan.Titles {
		if a.state.Scan.Titles[i].Label() == name {
			return &a.state.Scan.Titles[i]
		}
	}
	require.Fail(t, "no such title", name)
	return nil
}

func TestFiltersAndOrders(t *testing.T) {
	a, _ := demoApp(t, Options{})
	for filter, want := range map[string][]string{
		"platform:vesper size>4G":             {"Copper Tide", "The Ninth Orchard"},
		"bad":                                 {"Fog Signal", "Velvet Ballast", "Wicker Toll"},
		"packed":                              {"Bell Buoy"},
		"year<1990":                           {"Kite over Quarry Hill", "Ninepin Alley"},
		`publisher:"odile"`:                   {"The Ninth Orchard", "Quarry & Sons"},
		"platform:lapwing -region:north -bad": {"Heron's Watch", "Saltmarsh"},
	} {
		find(a, filter)
		s := text(a)
		for _, w := range want {
			assert.Contains(t, s, w, filter)
		}
		assert.NotContains(t, s, "Mosswick", filter)
	}
	find(a, "plattform:x")
	assert.Contains(t, text(a), `unknown field "plattform"`)
	press(a, "esc", "esc")
	first := func() string { return strings.Split(text(a), "\n")[4] }
	press(a, "o")
	assert.Contains(t, text(a), "WORST FIRST  59 titles")
	assert.Contains(t, first(), "bad")
	press(a, "o")
	assert.Contains(t, first(), "Clockwork Ferry", "the largest, with both discs")
	press(a, "o", "o", "o", "o")
	assert.Contains(t, text(a), "CORVANE", "grouped by platform again")
}

func TestATitleIsFixedOnTheScreen(t *testing.T) {
	a, w := demoApp(t, Options{})
	find(a, "disc_image_04")
	press(a, "e")
	assert.Contains(t, text(a), "enter edits, l locks, esc closes")
	press(a, "down", "down", "down", "enter") // the platform
	answer(a, "vespr")
	assert.Contains(t, text(a), `There is no platform "vespr"; the nearest is vesper`)
	press(a, "enter")
	answer(a, "vesper")
	press(a, "up", "up", "enter")
	answer(a, "20")
	assert.Contains(t, text(a), `"20" is not an ID of the Vesper`)
	press(a, "enter")
	answer(a, "VSP-21704")
	press(a, "up", "enter")
	answer(a, "Wicker Parade")
	fixed := has(t, a, "Wicker Parade")
	assert.True(t, fixed.OK(), "%v", fixed.Findings)
	assert.Equal(t, []string{"vesper", "VSP-21704", "VSP-21704"}, []string{fixed.Platform, fixed.ID, fixed.Key})
	find(a, "wicker parade")
	press(a, "e", "l")
	assert.Equal(t, []string{"name"}, has(t, a, "Wicker Parade").Locked)
	assert.Contains(t, text(a), "set by hand, locked")
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	require.Len(t, b.Edits, 1)
	assert.Equal(t, "games/new/disc_image_04.iso", filepath.ToSlash(b.Edits[0].File))
	press(a, "esc", "u", "u")
	assert.Equal(t, "", has(t, a, "disc_image_04.iso").Name, "undone, field by field")
	press(a, "U", "U")
	assert.True(t, has(t, a, "Wicker Parade").OK())
	find(a, "wicker parade")
	press(a, "e", "delete") // the name as the file tells: it tells none
	assert.Empty(t, has(t, a, "disc_image_04.iso").Locked)
}

func TestDiscsPasswordsAndDropping(t *testing.T) {
	a, w := demoApp(t, Options{})
	find(a, "wicker toll")
	assert.Contains(t, text(a), "p gives a password")
	press(a, "p")
	answer(a, demo.Password)
	assert.True(t, has(t, a, "Wicker Toll").OK())
	text1, err := os.ReadFile(w.Bench)
	require.NoError(t, err)
	assert.Contains(t, string(text1), demo.Password)

	find(a, "platform:siskin -packed")
	press(a, "space", "space", "+")
	assert.Contains(t, text(a), "2 discs joined")
	joined := has(t, a, "Ferry Queen")
	assert.Len(t, joined.Discs, 2)
	find(a, "ferry queen")
	press(a, "-")
	assert.Len(t, has(t, a, "Ferry Queen").Discs, 1)
	press(a, "+")
	assert.Contains(t, text(a), "Mark the discs with space first")

	list := filepath.Join(w.Dir, "mine.csv")
	require.NoError(t, os.WriteFile(list, []byte("id,name,year\nVSP-21655,Velvet Ballast the Second,2003\n"), 0o644))
	press(a, "t")
	answer(a, list+".none")
	assert.Contains(t, text(a), "There is no list")
	press(a, "t")
	answer(a, list)
	assert.Equal(t, "2003", has(t, a, "Velvet Ballast the Second").Year)
	assert.Contains(t, a.state.Bench.Lists, "mine.csv")
	press(a, "u")
	has(t, a, "Velvet Ballast")

	find(a, "velvet")
	press(a, "x")
	require.Len(t, a.state.Scan.Dropped, 1)
	assert.Contains(t, text(a), "left out; the files stay where they are")
	press(a, "X")
	assert.Empty(t, a.state.Scan.Dropped)
	has(t, a, "Velvet Ballast")
	find(a, "velvet")
	press(a, "y")
	assert.Contains(t, text(a), "needs no permission")
}

func TestVerifyOnTheScreen(t *testing.T) {
	a, _ := demoApp(t, Options{CacheFile: filepath.Join(t.TempDir(), "seen.sqlite")})
	find(a, "platform:wren8")
	press(a, "V")
	assert.Nil(t, a.state.Verifying)
	assert.Contains(t, text(a), "Verified 4 files: 1 differs, 3 agrees")
	find(a, "brackwater")
	s := text(a)
	assert.Contains(t, s, "wren8.sfv, line 5, says")
	assert.Contains(t, s, "from reading it all on")
	find(a, "verified")
	assert.Contains(t, text(a), "Ropewalk")
}

// BenchmarkFilter types a filter among 50,000 titles, and changes their order.
func BenchmarkFilter(b *testing.B) {
	a := many(b, 1)
	press(a, "1")
	for _, filter := range []string{"n", "platform:vesper ni", "size>1G -bad"} {
		b.Run(filter, func(b *testing.B) {
			versus.Goal(b, 3, 0.05, func() {
				a.stage().SetFilter("")
				a.stage().SetFilter(filter)
				_ = a.View()
			})
		})
	}
	a.stage().SetFilter("")
	b.Run("order", func(b *testing.B) {
		versus.Goal(b, 3, 0.05, func() {
			press(a, "o")
			_ = a.View()
		})
	})
}

func TestTheHelpShowsEveryKeyInASmallWindow(t *testing.T) {
	a, _ := demoApp(t, Options{})
	a.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	for _, stage := range []string{"1", "2", "3", "4", "5"} {
		press(a, stage)
		actions := a.stage().Actions()
		press(a, "?")
		s := text(a)
		for _, x := range actions {
			if key := x.Key.Help().Key; len(key) == 1 || key == "space" || key == "enter" {
				assert.Regexp(t, `(?m)^ `+regexp.QuoteMeta(key)+` +`+regexp.QuoteMeta(
					strings.Fields(x.Key.Help().Desc)[0]), s, "stage %s", stage)
			}
		}
		for _, x := range a.actions()[len(a.stages):] {
			assert.Regexp(t, `(?m) `+regexp.QuoteMeta(x.Key.Help().Key)+` +`+regexp.QuoteMeta(
				strings.Fields(x.Key.Help().Desc)[0]), s, "stage %s", stage)
		}
		press(a, "?")
	}
}
