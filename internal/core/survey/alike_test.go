package survey_test

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/ledger"
	"polytome/internal/core/survey"
	"polytome/internal/testkit/judge"
)

// TestWhichStickTheFirstOfASetIs is known from the ledger when another one is plugged in at its place, and only from
// what was noted of that target there.
func TestWhichStickTheFirstOfASetIs(t *testing.T) {
	ctx := context.Background()
	at := filepath.Join(t.TempDir(), "media", "HALL")
	one, two := judge.NewStick(t, 40, "HALL", "11110001"), judge.NewStick(t, 40, "HALL", "11110002")
	season := func() *bench.Bench {
		b := bench.New("")
		b.Targets = []bench.Target{{Name: "Hall 1", At: at, Loader: "oxbow"}}
		return b
	}
	seen := func(id, target, at string) []ledger.Volume {
		return []ledger.Volume{{ID: ledger.OfStick(id), Kind: ledger.Drive, Target: target, Address: at}}
	}
	two.Plug(at)
	b := season()
	n, err := survey.AddAlike(ctx, b, 0, at, seen("11110001", "Hall 1", at))
	require.NoError(t, err)
	assert.Equal(t, "11110001", b.Targets[0].Stick)
	assert.Equal(t, "11110002", b.Targets[n].Stick)
	for name, past := range map[string][]ledger.Volume{"nothing": nil,
		"of another bench":  seen("11110001", "Hall 1", "/media/elsewhere"),
		"of another target": seen("11110001", "Hall 9", at)} {
		b := season()
		_, err := survey.AddAlike(ctx, b, 0, at, past)
		assert.ErrorContains(t, err, "is Hall 1 already", name)
	}
	two.Pull()
	one.Plug(at)
	at2 := filepath.Join(t.TempDir(), "media", "HALL1")
	two.Plug(at2)
	b = season()
	n, err = survey.AddAlike(ctx, b, 0, at2, nil)
	require.NoError(t, err)
	assert.Equal(t, "11110001", b.Targets[0].Stick, "what is plugged in there")
	assert.Equal(t, "11110002", b.Targets[n].Stick)
	_, err = survey.AddAlike(ctx, b, 0, filepath.Join(at2), nil)
	assert.ErrorContains(t, err, "is Hall 2 already")
	_, err = survey.AddAlike(ctx, b, 0, t.TempDir(), nil)
	assert.ErrorIs(t, err, survey.ErrNoStick)
}
