package ui

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/adrg/xdg"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/fit"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/demo"
	"polytome/internal/testkit/demoworld"
	"polytome/internal/testkit/judge"
	"polytome/internal/testkit/versus"
	"polytome/internal/ui/state"
)

// breaking is a stage with a mistake in it.
type breaking struct{ stage }

func (b breaking) Actions() []state.Action {
	return []state.Action{
		state.Do("x", "fail", func() tea.Cmd { panic("a mistake in a key") }),
		state.Do("y", "fail later", func() tea.Cmd { return func() tea.Msg { panic("a mistake in a command") } }),
	}
}

// TestMain lets the tests' own binary show a program that fails, for
// TestAFailureLeavesTheTerminalClean.
func TestMain(m *testing.M) {
	os.Setenv("LC_ALL", "C.UTF-8") // tmux shows no more than ASCII otherwise
	if dir := os.Getenv("POLYTOME_TEST_FAILING"); dir != "" {
		ctx, cancel := context.WithCancel(context.Background())
		set, err := loader.Shipped()
		if err != nil {
			panic(err)
		}
		b := bench.New("")
		b.Sources = []bench.Source{{Path: dir}}
		a := newApp(ctx, b, set, Options{})
		a.stages[0] = breaking{a.stages[0]}
		fmt.Println("it ended with:", show(ctx, cancel, a))
		return
	}
	data, err := os.MkdirTemp("", "polytome-data-") // where saves are kept, and the user's own stay as they are
	if err != nil {
		panic(err)
	}
	os.Setenv("XDG_DATA_HOME", data)
	xdg.Reload()
	code := m.Run()
	_ = os.RemoveAll(data)
	demoworld.Remove()
	os.Exit(code)
}

func TestAFailureLeavesTheTerminalClean(t *testing.T) {
	for _, key := range []string{"x", "y"} {
		socket := filepath.Join(t.TempDir(), "tmux")
		judge.Run(t, "tmux", "-S", socket, "-f", "/dev/null", "new-session", "-d", "-x", "100", "-y", "30",
			fmt.Sprintf("POLYTOME_TEST_FAILING=%s %s; echo afterwards; sleep 60", t.TempDir(), os.Args[0]))
		t.Cleanup(func() { _, _ = judge.Try(t, "tmux", "-S", socket, "kill-server") })
		shows := func(text string) func() bool {
			return func() bool {
				return strings.Contains(judge.Run(t, "tmux", "-S", socket, "capture-pane", "-p"),
					text)
			}
		}
		require.Eventually(t, shows("1 Games"), 20*time.Second, 50*time.Millisecond)
		judge.Run(t, "tmux", "-S", socket, "send-keys", key)
		require.Eventually(t, shows("afterwards"), 20*time.Second, 50*time.Millisecond)
		// what has scrolled away too
		all := judge.Run(t, "tmux", "-S", socket, "capture-pane", "-p", "-J", "-S", "-500")
		assert.Contains(t, all, "it ended with: the screen: ")
		assert.False(t, shows("1 Games")())
		assert.Contains(t, judge.Run(t, "tmux", "-S", socket, "display-message", "-p",
			"cursor=#{cursor_flag} mouse=#{mouse_any_flag}"), "cursor=1 mouse=0")
	}
}

// pump runs a command and everything that follows from it, as the program would.
func pump(a *app, cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	done := make(chan tea.Msg, 1)
	go func() { done <- cmd() }()
	var msg tea.Msg
	select {
	case msg = <-done:
	case <-time.After(time.Minute): // some read all of a stick, on a machine that does other things, too
		panic("a command does not end")
	}
	switch msg := msg.(type) {
	case nil, tea.QuitMsg, state.LookAgainMsg: // which would come again and again
	case tea.BatchMsg:
		for _, c := range msg {
			pump(a, c)
		}
	default:
		of, _, _ := strings.Cut(fmt.Sprintf("%T", msg), ".")
		if slices.Contains([]string{"state", "ui", "loadersview", "treeview", "drivesview", "teachview", "welcome",
			"savesview", "ledgerview"},
			of) {
			_, next := a.Update(msg)
			pump(a, next)
		}
	}
}

// demoApp is the program on a demo of its own, with one stick and everything found.
func demoApp(t testing.TB, o Options) (*app, demo.World) {
	return demoWith(t, o, 1)
}

// demoWith is the program on a demo with so many of its targets.
func demoWith(t testing.TB, o Options, targets int) (*app, demo.World) {
	w := demoworld.Open(t)
	b, err := bench.Load(w.Bench)
	require.NoError(t, err)
	b.Targets = b.Targets[:targets]
	require.NoError(t, b.Save())
	set, err := loader.Shipped()
	require.NoError(t, err)
	a := newApp(t.Context(), b, set, o)
	if o.Settings.Saves == "" {
		a.state.Vault.Dir = filepath.Join(t.TempDir(), "saves")
	}
	a.Update(tea.WindowSizeMsg{Width: 158, Height: 46})
	pump(a, a.Init())
	return a, w
}

// panelOf is the panel of a type.
func panelOf[P panel](a *app) P {
	for _, p := range a.panels {
		if p, ok := p.panel.(P); ok {
			return p
		}
	}
	panic("there is no such panel")
}

// press sends keys, one after another.
func press(a *app, keys ...string) {
	special := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "down": tea.KeyDown,
		"up": tea.KeyUp, "end": tea.KeyEnd, "space": tea.KeySpace, "right": tea.KeyRight, "left": tea.KeyLeft,
		"delete": tea.KeyDelete}
	for _, k := range keys {
		msg := tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
		if code, ok := special[strings.TrimPrefix(k, "shift+")]; ok {
			msg = tea.KeyPressMsg{Code: code}
			if strings.HasPrefix(k, "shift+") {
				msg.Mod = tea.ModShift
			}
		}
		_, cmd := a.Update(msg)
		pump(a, cmd)
	}
}

func text(a *app) string { return ansi.Strip(a.View().Content) }

func TestEveryViewFitsEveryWindow(t *testing.T) {
	a, _ := demoApp(t, Options{})
	a.state.System = bare(t)
	press(a, "5") // makes the check
	for _, size := range [][2]int{{80, 24}, {60, 16}, {100, 30}, {119, 40}, {158, 46}, {240, 70}, {40, 10}} {
		a.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		for _, keys := range [][]string{{"1"}, {"2"}, {"2", "end"}, {"3"}, {"4"}, {"5"}, {"5", "tab"}, {"2", "?"},
			{"1", "/"}, {"2", ":"}, {"L"}, {"L", "tab", "end"}, {"L", "right", "v"}, {"L", "?"}, {"D"},
			{"D", "enter", "n"}, {"D", "c"}, {"C"}, {"C", "enter"}, {"C", "enter", "c"}, {"C", "end"}} {
			press(a, "esc", "esc")
			press(a, keys...)
			lines := strings.Split(a.View().Content, "\n")
			require.Len(t, lines, size[1], "%v at %v", keys, size)
			for _, l := range lines {
				require.LessOrEqual(t, ansi.StringWidth(l), size[0], "%v at %v: %q", keys, size, ansi.Strip(l))
			}
		}
		press(a, "esc", "esc")
	}
}

func TestTheVerdictIsExplained(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "2")
	assert.Contains(t, text(a), "▪ selected  ▫ selected, but does not fit", "the marks are explained")
	press(a, "/", "Second", "enter")
	s := strings.Join(strings.Fields(text(a)), " ")
	assert.Contains(t, s, "Paper Falcons: Second Flight on North stick: split 3. FAT32 holds files up to "+
		"4,294,967,295 bytes; this image is 4.00 GiB. Rowan reads it in 3 parts, which take 4.00 GiB. Copying it "+
		"over USB takes 3 to 11 min (estimated).")
	press(a, "esc", "/", "Underbough", "enter")
	s = strings.Join(strings.Fields(text(a)), " ")
	assert.Contains(t, s, "Underbough on North stick: no space. Needs 2.69 GiB but only 699.39 MiB are free: 2.01 "+
		"GiB short. → deselect Tin Harbour (2.16 GiB), the smallest that frees enough space. → remove "+
		"HALL-VIDEO/reel-1.mov")
	assert.Contains(t, s, "does not go", "the rack shows it standing over")
}

func TestPuttingTakingAndUndoingAreSaved(t *testing.T) {
	a, w := demoApp(t, Options{})
	saved := func() bench.Target {
		b, err := bench.Load(w.Bench)
		require.NoError(t, err)
		return b.Targets[0]
	}
	free := a.state.Targets[0].Survey.Sheet.Free()
	press(a, "2", "/", "Mistral", "enter", "space")
	assert.Equal(t, bench.Keys{"VSP-21344"}, saved().Without)
	assert.NotEqual(t, free, a.state.Targets[0].Survey.Sheet.Free())
	assert.Equal(t, "saved", a.state.SaveState())
	press(a, "u")
	assert.Empty(t, saved().Without)
	assert.Equal(t, free, a.state.Targets[0].Survey.Sheet.Free())
	press(a, "U")
	assert.Equal(t, bench.Keys{"VSP-21344"}, saved().Without)
	press(a, "u", "esc", "a") // the whole platform off
	assert.Len(t, saved().Without, 21)
	assert.Zero(t, a.state.Targets[0].Survey.Sheet.New)
	press(a, "a")
	assert.Empty(t, saved().Without)
}

func TestABenchThatCannotBeSavedIsSaid(t *testing.T) {
	a, w := demoApp(t, Options{})
	require.NoError(t, os.RemoveAll(w.Dir))
	press(a, "2", "space")
	assert.Contains(t, text(a), "saving the bench")
	assert.Contains(t, text(a), "NOT SAVED")
}

func TestAFilledStickIsCheckedOnTheScreen(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "4", "W", "enter")
	s := text(a)
	assert.Contains(t, s, "Done: 15 titles written, the console lists 16, all readable.")
	assert.Contains(t, s, "Next: 5 Check, M have it fixed, as one of 2 problems on North stick")
	assert.Contains(t, s, "5 Check 16", "checked at the end of the run without being asked")
	press(a, "5")
	assert.Contains(t, text(a), "SHORT/spare.iso")
	assert.Contains(t, flat(a), "Rowan ignores it: the name must be <ID> - <title>.iso; this file is spare.iso. At "+
		"the console: the "+
		"game will not be in the list.")
	press(a, "tab", "space")
	assert.Contains(t, text(a), "[✓] Eject the stick")
	press(a, "4", "W", "enter")
	assert.Contains(t, text(a), "Nothing is written to North stick: ")
}

func TestAFailedStepIsExplained(t *testing.T) {
	a, w := demoApp(t, Options{})
	require.NoError(t, os.Remove(filepath.Join(w.Games, "vesper/Mistral_Halt.iso")))
	press(a, "4", "W", "enter")
	s := text(a)
	assert.Contains(t, s, "4 Run not all")
	assert.Contains(t, s, "FAILED")
	assert.Contains(t, s, "Mistral_Halt.iso: no such file or directory; plug its drive in again, or scan again")
	press(a, "5")
	assert.Contains(t, text(a), "Mistral Halt should be here but is not")
}

func TestWhatCannotBeReadIsSaid(t *testing.T) {
	a, w := demoApp(t, Options{})
	require.NoError(t, os.Symlink("nowhere", filepath.Join(w.Games, "dangling.iso")))
	press(a, "1", "r")
	assert.Contains(t, text(a), "games/dangling.iso: no such file or folder")
	assert.Contains(t, text(a), "8 to fix")
	require.NoError(t, os.RemoveAll(w.Games))
	press(a, "r")
	assert.Contains(t, text(a), "games: no such file or folder; check the spelling")
}

func TestAVerdictIsNeverShownForAnotherTitle(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "2")
	titles := slices.Clone(a.state.Scan.Titles) // as when a scan finds one that comes before
	first := slices.IndexFunc(titles, func(t title.Title) bool { return t.Platform == "vesper" })
	titles[first], titles[first+1] = titles[first+1], titles[first]
	a.state.Scan.Titles = titles
	for _, l := range strings.Split(text(a), "\n") {
		if strings.Contains(l, "Copper Tide") || strings.Contains(l, "Clockwork Ferry") {
			assert.NotContains(t, l, "too big")
			assert.NotContains(t, l, "as it is")
		}
	}
	assert.Contains(t, text(a), "No verdict yet")
}

func TestATargetThatGoesAway(t *testing.T) {
	a, w := demoApp(t, Options{})
	require.NoError(t, os.RemoveAll(w.Stick))
	press(a, "1", "r", "2")
	s := text(a)
	assert.Contains(t, s, "not connected")
	assert.Contains(t, s, "North stick cannot be looked at: no folder")
	press(a, "3", "4", "W", "enter", "5", "r") // nothing of it fails badly
}

func TestNamesCannotSteerTheTerminal(t *testing.T) {
	a, _ := demoApp(t, Options{})
	evil := "\x1b[2J\x1b]0;owned\x07\u202Eevil\x00\xff"
	a.state.Scan.Titles = []title.Title{{Key: "k", Platform: "vesper", Form: title.Image, Name: evil, ID: evil,
		Region: evil, Of: 1,
		Findings: []title.Finding{{Grade: title.Fault, Say: evil, Remedy: evil}},
		Discs: []title.Disc{{ID: evil, Kind: evil, File: title.File{Path: "/" + evil},
			Evidence: []title.Evidence{{Field: "name", Value: evil, From: evil}}}}}}
	pump(a, a.state.Survey())
	for _, stage := range []string{"1", "2", "3", "4", "5"} {
		press(a, stage)
		content := a.View().Content
		assert.NotContains(t, content, "\x1b[2J")
		assert.NotContains(t, content, "\x1b]0")
		for _, r := range ansi.Strip(content) {
			if r != '\n' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r)) {
				t.Fatalf("stage %s shows %U", stage, r)
			}
		}
	}
}

// TestChoicesAndWhatBelongsToThem checks that nothing is shown that was made for
// other choices, and that choices wait while a run goes on.
func TestChoicesAndWhatBelongsToThem(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "4", "W", "enter")
	assert.Contains(t, text(a), "4 Run done")
	assert.Contains(t, text(a), "5 Check 16")
	press(a, "2", "/", "Mistral", "enter", "space")
	assert.Contains(t, text(a), "4 Run -", "the run was for other choices")
	assert.Contains(t, text(a), "5 Check -", "and so was the check")
	press(a, "5")
	assert.Contains(t, text(a), "Rowan: lists 16", "it is made again")

	a, _ = demoApp(t, Options{})
	require.Nil(t, a.state.AskWrite(0))
	cmd := a.state.Question.Done("")
	a.state.Question = nil
	for _, key := range []string{"space", "u", "f", "a"} {
		press(a, "2", key)
		assert.Contains(t, text(a), "A run is in progress: stop it before", key)
	}
	before := a.state.StartCheck(0, "")
	pump(a, cmd)
	press(a, "space")
	pump(a, before)
	assert.Contains(t, text(a), "5 Check -", "a check of earlier choices is dropped")
}

func TestMouse(t *testing.T) {
	a, _ := demoApp(t, Options{})
	a.View()
	a.Update(tea.MouseClickMsg{X: a.rail[1] + 2, Y: 0, Button: tea.MouseLeft})
	assert.Contains(t, text(a), "▸2 Fit")
	a.Update(tea.MouseClickMsg{X: 20, Y: 7, Button: tea.MouseLeft}) // the second title
	assert.Contains(t, text(a), "Copper Tide on North stick")
	_, cmd := a.Update(tea.MouseClickMsg{X: 20, Y: 7, Button: tea.MouseLeft})
	pump(a, cmd)
	assert.Contains(t, text(a), "Copper Tide deselected on North stick")
	before, _ := a.stage().Title()
	a.Update(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	after, _ := a.stage().Title()
	assert.Equal(t, before+wheelRows, after)
}

func TestCommandsByName(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, ":", "check", "enter")
	assert.Contains(t, text(a), "▸5 Check")
	press(a, ":", "qqqqq")
	assert.Contains(t, text(a), "Nothing has this name")
	press(a, "enter", "esc")
	press(a, ":", "blck", "esc") // nothing of it is done
	assert.Contains(t, text(a), "▸5 Check")

	// what another screen does, a target, a title
	press(a, ":", "scan again", "enter")
	assert.Contains(t, text(a), "▸1 Games")
	press(a, ":", "copper tide")
	assert.Contains(t, text(a), "show Copper Tide")
	press(a, "enter")
	assert.Contains(t, text(a), "▌VSP-20417  Copper Tide")
	press(a, "2", ":", "distribute", "enter")
	assert.NotNil(t, a.state.Sharing)
	press(a, "esc", ":")
	assert.Contains(t, strings.Split(text(a), "\n")[5], "distribute", "what was done last comes first")
	press(a, "esc", "?")
	s := text(a)
	for _, x := range a.all() {
		assert.Contains(t, s, x.Key.Help().Desc, "the help is made from the keys")
	}
}

func TestASCIIAndPlain(t *testing.T) {
	a, _ := demoApp(t, Options{ASCII: true})
	a.Update(tea.ColorProfileMsg{Profile: colorprofile.ASCII})
	for _, stage := range []string{"1", "2", "3", "4", "5", "?"} {
		press(a, stage)
		for _, r := range text(a) {
			require.Less(t, r, rune(128), "%s shows %q", stage, r)
		}
	}
}

// TestTheRackIsTrue counts the filled rows of the volume against the numbers.
func TestTheRackIsTrue(t *testing.T) {
	a, _ := demoApp(t, Options{ASCII: true})
	press(a, "3")
	kept, planned, free := 0, 0, 0
	for _, l := range strings.Split(text(a), "\n") {
		switch {
		case strings.Contains(l, "|##########|"):
			kept++
		case strings.Contains(l, "|==========|"):
			planned++
		case strings.Contains(l, "|          |"):
			free++
		}
	}
	s := a.state.Targets[0].Survey
	rows := float64(kept + planned + free)
	assert.InDelta(t, float64(s.Sheet.Kept)/float64(s.Facts.Capacity), float64(kept)/rows, 0.5/rows)
	assert.InDelta(t, float64(s.Sheet.Planned)/float64(s.Facts.Capacity), float64(planned)/rows, 1/rows)
}

// many is an app with 50,000 titles, and a stick or several that are alike.
func many(b testing.TB, sticks int) *app {
	bn := bench.New("")
	bn.Sources = []bench.Source{{Path: b.TempDir()}}
	for i := range sticks {
		bn.Targets = append(bn.Targets, bench.Target{Name: strings.TrimSpace("Stick" + strings.Repeat(" I", i)),
			At: b.TempDir(), Loader: "rowan", Via: "smb", As: "ext4", Capacity: 58 << 30, Everything: true})
	}
	set, err := loader.Shipped()
	require.NoError(b, err)
	a := newApp(context.Background(), bn, set, Options{})
	a.Update(tea.WindowSizeMsg{Width: 158, Height: 46})
	titles := make([]title.Title, 50_000)
	for i := range titles {
		id := fmt.Sprintf("VSP-%05d", i)
		titles[i] = title.Title{Key: id, ID: id, Platform: "vesper", Form: title.Image, Name: fmt.Sprintf("Title %05d",
			i), Of: 1,
			Discs: []title.Disc{{Number: 1, ID: id, Kind: "full", File: title.File{Path: "/g/" + id + ".iso",
				Size: 1 << 20}}}}
	}
	a.state.Scan.Titles = titles
	pump(a, a.state.Survey())
	return a
}

func TestFiftyThousandTitles(t *testing.T) {
	a := many(t, 1)
	press(a, "2", "end")
	assert.Contains(t, text(a), "Title 49999 on Stick: copy")
	assert.Equal(t, fit.Copy, a.state.Targets[0].Survey.Sheet.Verdict(0).Kind)
	press(a, "space")
	assert.Contains(t, text(a), "Title 49999 deselected on Stick")
	_, cmd := a.Update(tea.KeyPressMsg{Text: "3", Code: '3'})
	assert.Contains(t, text(a), "one moment", "the tree is made in the background")
	pump(a, cmd)
	assert.Contains(t, text(a), "new files, none removed")
	press(a, "s")
	assert.Contains(t, text(a), "make folder FULL")
}

// BenchmarkFrameWith50000Titles draws a frame of each stage, and does what changes
// everything: one title, and all of them, put or taken.
func BenchmarkFrameWith50000Titles(b *testing.B) {
	a := many(b, 1)
	for _, s := range []string{"1 scan", "2 fit", "3 tree", "4 run", "5 check", "C covers", "L loaders"} {
		b.Run(s[2:], func(b *testing.B) {
			press(a, s[:1])
			versus.Goal(b, 20, 0.008, func() {
				a.Update(tea.KeyPressMsg{Code: tea.KeyDown})
				_ = a.View()
			})
		})
	}
	b.Run("entering tree", func(b *testing.B) { // what the key itself takes; the tree comes from the background
		for b.Loop() {
			b.StopTimer()
			press(a, "2", "space")
			b.StartTimer()
			_, cmd := a.Update(tea.KeyPressMsg{Text: "3", Code: '3'})
			_ = a.View()
			b.StopTimer()
			pump(a, cmd)
			b.StartTimer()
		}
	})
	press(a, "2")
	for _, k := range []struct {
		key  tea.KeyPressMsg
		name string
	}{{tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}, "put or take one"},
		{tea.KeyPressMsg{Code: 'a', Text: "a"}, "put or take all"}} {
		for what, seconds := range map[string]float64{"": 0.05, ", and all is planned": 0.5} {
			b.Run(k.name+what, func(b *testing.B) {
				versus.GoalOf(b, seconds, func() time.Duration {
					began := time.Now()
					_, cmd := a.Update(k.key)
					_ = a.View()
					seen := time.Since(began)
					pump(a, cmd)
					_ = a.View()
					if what != "" {
						return time.Since(began)
					}
					return seen
				})
			})
		}
	}
}

func BenchmarkFirstFrame(b *testing.B) {
	w := demoworld.Open(b)
	versus.Goal(b, 3, 0.1, func() {
		bn, err := bench.Load(w.Bench)
		require.NoError(b, err)
		set, err := loader.Shipped()
		require.NoError(b, err)
		a := newApp(context.Background(), bn, set, Options{})
		a.Update(tea.WindowSizeMsg{Width: 158, Height: 46})
		_ = a.View()
	})
}

// BenchmarkMemoryWith50000Titles reports what the whole program holds with one stick, how many bytes a title takes for
// each further one, and how long it takes until six have their verdicts.
func BenchmarkMemoryWith50000Titles(b *testing.B) {
	held := func(sticks int) (bytes float64, took time.Duration) {
		began := time.Now()
		a := many(b, sticks)
		took = time.Since(began)
		press(a, "2")
		_ = a.View()
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		runtime.KeepAlive(a)
		return float64(m.HeapAlloc), took
	}
	for b.Loop() {
		one, _ := held(1)
		six, took := held(6)
		b.ReportMetric(one/(1<<20), "MiB-held")
		b.ReportMetric((six-one)/5/50_000, "B/title-and-further-stick")
		b.ReportMetric(took.Seconds(), "s-until-six-are-judged")
	}
}
