package survey_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/scancache"
)

// TestSettingsInWideLettersAreMergedToo: a text in UTF-16 that a person has edited takes in what the rule wants now,
// and nothing else changes in it.
func TestSettingsInWideLettersAreMergedToo(t *testing.T) {
	w := newWorkshop(t, map[string][]byte{"tide.iso": vesperImage(t, "VSP-20417", "Copper Tide")}, fatStick)
	store, err := scancache.Open(filepath.Join(t.TempDir(), "seen.db"))
	require.NoError(t, err)
	defer store.Close()
	w.o.Cache = store
	rule := func(text string) {
		w.bench.Targets[0].Rules = map[string]string{"companion.3.text": text, "companion.3.encoding": "utf-16le",
			"companion.3.keep": `["tray"]`}
	}
	rule("timing=a\r\ntray=shut\r\n")
	w.fill(0)
	tune := w.at("stick", "TUNE/VSP-20417.tune")
	wide := func(text string) string { return string(layout.Encoded("utf-16le", []byte(text))) }
	read := func() string {
		b, err := os.ReadFile(tune)
		require.NoError(t, err)
		return string(b)
	}
	require.Equal(t, wide("timing=a\r\ntray=shut\r\n"), read())
	mine := wide("# été ひ\r\ntiming=a\r\ntray=half\r\n")
	require.NoError(t, os.WriteFile(tune, []byte(mine), 0o644))
	assert.True(t, w.look(0).Plan().Empty())

	rule("timing=b\r\ntray=open\r\nfan=on\r\n")
	w.fill(0)
	assert.Equal(t, wide("# été ひ\r\ntiming=b\r\ntray=half\r\nfan=on\r\n"), read())
	assert.True(t, w.look(0).Plan().Empty())
}
