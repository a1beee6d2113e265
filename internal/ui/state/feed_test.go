package state

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/bench"
	"polytome/internal/core/scan"
)

// TestAMistakeInTheBackgroundIsReported: the program goes on, and says what was interrupted.
func TestAMistakeInTheBackgroundIsReported(t *testing.T) {
	f := newest[string]()
	broken := false
	f.start(func() {
		defer func() { broken = true }()
		f.emit("half of it")
		panic("there is no other half")
	}, func(err error) string { return err.Error() })
	said := ""
	for {
		m := f.next()
		if m == nil {
			break
		}
		said = m.(string)
	}
	assert.True(t, broken)
	assert.Equal(t, "it failed because of a bug in Polytome: there is no other half", said)

	d := New(t.Context(), bench.New(""), nil, 0)
	d.Supposing = &Supposing{Working: true, changes: d.changes}
	d.SetSupposing(SupposingMsg{done: true, trouble: assert.AnError, changes: d.changes})
	assert.False(t, d.Supposing.Working, "nothing is waited for any more")
	assert.Contains(t, d.Notice, assert.AnError.Error())

	d.Verifying = &Verifying{}
	d.SetVerify(VerifyMsg{report: &scan.VerifyReport{}, trouble: assert.AnError})
	assert.Nil(t, d.Verifying)
	assert.Equal(t, "Verifying: "+assert.AnError.Error(), d.Notice)
}

// TestOnlyTheNewestIsWaitingToBeTaken: who tells never waits, and nothing old is shown afterwards.
func TestOnlyTheNewestIsWaitingToBeTaken(t *testing.T) {
	f := newest[int]()
	for i := range 1000 {
		f.emit(i)
	}
	close(f)
	assert.Equal(t, 999, f.next())
	assert.Nil(t, f.next())
}
