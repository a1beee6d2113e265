package typeface_test

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/draw/typeface"
)

func TestEveryScriptThatIsPromisedHasItsLetters(t *testing.T) {
	for _, s := range []string{"Copper Tide & Sons", "Älvängens færge, Łódź, ß", "Ταξίδι στο λιμάνι",
		"Медная гавань, Щука", "銅の潮と紙の隼", "カモメ急行「東」", "─ → × − … ·"} {
		assert.Equal(t, s, typeface.Clean(s), "nothing is replaced")
		runs, wide := typeface.Regular.Runs(s, 10)
		assert.Positive(t, wide)
		joined := ""
		for _, r := range runs {
			assert.InDelta(t, typeface.Regular.Width(joined, 10), r.X, 1e-9)
			joined += r.Text
			for _, c := range r.Text {
				_, err := r.Font.Outline(c)
				assert.NoError(t, err)
			}
		}
		assert.Equal(t, s, joined)
	}
}

func TestWhatNoFontHasIsSeen(t *testing.T) {
	for in, want := range map[string]string{
		"ไทย":             "□□□",
		"a🎮b":             "a□b",
		"nul\x00tab\tend": "nul□tab end",
		"e\u0301te\u0301": "été",
		"line\nbreak":     "line break",
		"\ufeffbom":       "bom",
		"bad\xff":         "bad�",
	} {
		got := typeface.Clean(in)
		if strings.ContainsRune(want, utf8.RuneError) {
			want = strings.ReplaceAll(want, "�", string([]rune(got)[3]))
		}
		assert.Equal(t, want, got, "%q", in)
	}
}

// TestLinesAndClippings holds what is wrapped and clipped against its width, and looks that wrapping loses nothing.
func TestLinesAndClippings(t *testing.T) {
	text := rapid.Custom(func(t *rapid.T) string {
		return typeface.Clean(rapid.OneOf(rapid.String(), rapid.StringOfN(rapid.RuneFrom([]rune("aWi 亜あ,、Ω")), 0, 80,
			-1)).Draw(t, "text"))
	})
	rapid.Check(t, func(t *rapid.T) {
		s, width := text.Draw(t, "s"), rapid.Float64Range(12, 300).Draw(t, "width")
		w := rapid.SampledFrom([]typeface.Weight{typeface.Regular, typeface.Bold}).Draw(t, "weight")
		size := rapid.Float64Range(6, 12).Draw(t, "size")
		lines := w.Wrap(s, size, width)
		require.NotEmpty(t, lines)
		for _, l := range lines {
			require.True(t, w.Width(l, size) <= width+1e-6 || utf8.RuneCountInString(l) == 1, "%q is wider than %f", l,
				width)
		}
		squeeze := func(s string) string { return strings.ReplaceAll(s, " ", "") }
		require.Equal(t, squeeze(s), squeeze(strings.Join(lines, "")))
		for _, clipped := range []string{w.Clip(s, size, width), w.ClipMiddle(s, size, width)} {
			require.LessOrEqual(t, w.Width(clipped, size), width+1e-6)
			if w.Width(s, size) <= width {
				require.Equal(t, s, clipped)
			} else {
				require.True(t, clipped == "" || strings.Contains(clipped, "…"), "%q shows that something is left out",
					clipped)
			}
		}
	})
}

func TestALineDoesNotBeginWithWhatCloses(t *testing.T) {
	for _, l := range typeface.Regular.Wrap("潮は、銅の潮。隼は、紙の隼。", 10, 45)[1:] {
		assert.NotContains(t, "、。", string([]rune(l)[0]))
	}
}
