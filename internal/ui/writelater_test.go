package ui

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const asksToWrite = "Write to North stick? 44 files to write"

func TestWriteWaitsUntilTheTargetIsRead(t *testing.T) {
	a, _ := demoApp(t, Options{})
	read := a.state.SurveyTarget(0)
	press(a, "W")
	assert.Contains(t, text(a), "North stick is being read: you are asked as soon as that is done")
	assert.NotContains(t, text(a), "enter yes")
	pump(a, read)
	assert.Contains(t, text(a), asksToWrite)
	assert.NotContains(t, text(a), "is being read")

	press(a, "esc")
	read = a.state.SurveyTarget(0)
	press(a, "W", "down")
	pump(a, read)
	assert.NotContains(t, text(a), asksToWrite, "no question opens under the hands of who does something else by then")
	assert.Nil(t, a.state.Question)
}

func TestARunThatWasAgreedToStartsWhenTheTargetWasReadAgain(t *testing.T) {
	a, _ := demoApp(t, Options{})
	press(a, "W")
	require.Contains(t, text(a), asksToWrite)
	read := a.state.SurveyTarget(0)
	press(a, "enter")
	assert.Contains(t, text(a), "is being read again: the run starts when that is done, if nothing has changed")
	assert.False(t, a.state.Running())
	press(a, "1") // to look at something else meanwhile takes no yes back
	pump(a, read)
	press(a, "4")
	assert.Contains(t, text(a), "Done: 15 titles written")

	other, w := demoApp(t, Options{})
	press(other, "W")
	require.Contains(t, text(other), asksToWrite)
	read = other.state.SurveyTarget(0)
	press(other, "enter")
	require.NoError(t, os.RemoveAll(filepath.Join(w.Stick, "ROWAN"))) // not what was agreed to
	require.NoError(t, os.MkdirAll(filepath.Join(w.Stick, "FULL"), 0o755))
	pump(other, read)
	assert.Contains(t, text(other), "The plan changed meanwhile, so nothing was started")
	assert.Nil(t, other.state.At(0).Lane)
}
