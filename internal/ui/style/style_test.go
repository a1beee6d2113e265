package style_test

import (
	"strings"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"polytome/internal/ui/style"
)

func TestAnyRowIsDeleteOthersAsWideAsAsked(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		theme := style.New(rapid.Bool().Draw(t, "dark"), rapid.Bool().Draw(t, "ascii"),
			rapid.SampledFrom([]colorprofile.Profile{colorprofile.ASCII, colorprofile.ANSI, colorprofile.TrueColor}).
				Draw(t, "colours"))
		w := rapid.IntRange(1, 80).Draw(t, "w")
		var cells []style.Cell
		for range rapid.IntRange(0, 6).Draw(t, "cells") {
			cells = append(cells, style.Cell{Text: rapid.String().Draw(t, "text"), Width: rapid.IntRange(0, 30).
				Draw(t, "width"), Right: rapid.Bool().Draw(t, "right")})
		}
		row := theme.Row(w, rapid.Bool().Draw(t, "cursor"), cells...)
		if got := ansi.StringWidth(row); got != w {
			t.Fatalf("%q is %d wide instead of %d", row, got, w)
		}
		if strings.ContainsAny(ansi.Strip(row), "\x1b\x07\n\r") {
			t.Fatalf("%q steers the terminal", row)
		}
		for _, l := range theme.Block(strings.Split(row, " "), w, 3) {
			if got := ansi.StringWidth(l); got != w {
				t.Fatalf("a line of the block is %d wide instead of %d", got, w)
			}
		}
	})
}

func TestClipping(t *testing.T) {
	theme := style.New(true, false, colorprofile.TrueColor)
	assert.Equal(t, "Copper T…", theme.Clip("Copper Tide", 9))
	assert.Equal(t, "  7", theme.PadLeft("7", 3))
	assert.Equal(t, "日本… ", theme.Pad("日本語です", 6))
	assert.Equal(t, []string{"a plain", "sentence"}, theme.Wrap("a plain sentence", 9))
	assert.Equal(t, "?[2Jx?y", style.Clean("\x1b[2Jx\u202Ey"))
	assert.Equal(t, "Copper T~", style.New(true, true, colorprofile.ASCII).Clip("Copper Tide", 9))
}

// TestInASCIIASignKeepsItsMeaning: what stands between words is no question mark.
func TestInASCIIASignKeepsItsMeaning(t *testing.T) {
	th := &style.Theme{ASCII: true}
	for text, want := range map[string]string{"enter takes it · esc cancels": "enter takes it . esc cancels",
		"Copper → Tide – two": "Copper -> Tide - two", "Ж": "?", "a\tb\n": "a b ", "plain": "plain"} {
		if got := th.Clip(text, 80); got != want {
			t.Errorf("%q: %q, not %q", text, got, want)
		}
	}
	if got := th.Clip("→→→", 4); got != "->-~" {
		t.Errorf("cut to its width: %q", got)
	}
}
