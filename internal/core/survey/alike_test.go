package survey_test

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/ledger"
	"polytome/internal/core/loader"
	"polytome/internal/core/scancache"
	"polytome/internal/core/survey"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// TestWhichStickTheFirstOfASetIs is known from the ledger when another one is plugged in at its place, and only from
// what was noted of that target there.
func TestWhichStickTheFirstOfASetIs(t *testing.T) {
	ctx := context.Background()
	at := filepath.Join(t.TempDir(), "media", "HALL")
	one, two := judge.NewStick(t, 40, "HALL", "33330001"), judge.NewStick(t, 40, "HALL", "33330002")
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
	n, err := survey.AddAlike(ctx, b, 0, at, seen("33330001", "Hall 1", at))
	require.NoError(t, err)
	assert.Equal(t, "33330001", b.Targets[0].Stick)
	assert.Equal(t, "33330002", b.Targets[n].Stick)
	for name, past := range map[string][]ledger.Volume{"nothing": nil,
		"of another bench":  seen("33330001", "Hall 1", "/media/elsewhere"),
		"of another target": seen("33330001", "Hall 9", at)} {
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
	assert.Equal(t, "33330001", b.Targets[0].Stick, "what is plugged in there")
	assert.Equal(t, "33330002", b.Targets[n].Stick)
	_, err = survey.AddAlike(ctx, b, 0, filepath.Join(at2), nil)
	assert.ErrorContains(t, err, "is Hall 2 already")
	_, err = survey.AddAlike(ctx, b, 0, t.TempDir(), nil)
	assert.ErrorIs(t, err, survey.ErrNoStick)
}

// TestTitlesAreDistributedToASetOnce: its targets get the same.
func TestTitlesAreDistributedToASetOnce(t *testing.T) {
	games := map[string][]byte{}
	for i := range 4 {
		games[fmt.Sprintf("%d.iso", i)] = vesperImage(t, fmt.Sprintf("VSP-0000%d", i), fmt.Sprint("Title ", i))
	}
	other := fatStick
	other.Name = "other"
	w := newWorkshop(t, games, fatStick, fatStick, other)
	w.bench.Targets[1].Name, w.bench.Targets[1].Like = "stick 2", w.bench.Targets[0].Name
	b := w.board()
	sh := b.Distribute(w.bench, []int{0, 1, 2, 3})
	for _, h := range sh.Homes {
		assert.NotEqual(t, 1, h.Target, h.Label)
	}
	sh.Apply(w.bench, b)
	assert.True(t, w.bench.Targets[1].WantLike(&w.bench.Targets[0]))
	assert.False(t, w.bench.Targets[2].WantLike(&w.bench.Targets[0]), "each title has one home")
}

// TestWhatIsRememberedOfAStickIsNotOfAnother that was plugged in at its place.
func TestWhatIsRememberedOfAStickIsNotOfAnother(t *testing.T) {
	ctx := context.Background()
	set, err := loader.Shipped()
	require.NoError(t, err)
	cache, err := scancache.Open(filepath.Join(t.TempDir(), "cache.sqlite"))
	require.NoError(t, err)
	defer cache.Close()
	at := filepath.Join(t.TempDir(), "media", "HALL")
	b := bench.New("")
	b.Targets = []bench.Target{{Name: "Hall 1", At: at, Loader: "oxbow", Stick: "33330001"},
		{Name: "Hall 2", At: at, Like: "Hall 1", Stick: "33330002", Loader: "oxbow"}}
	for n, stick := range []*judge.Stick{judge.NewStick(t, 40, "HALL", "33330001"),
		judge.NewStick(t, 40, "HALL", "33330002")} {
		stick.Plug(at)
		coretest.Write(t, at, fmt.Sprintf("only on %d.txt", n+1), []byte("x"))
		s, err := survey.Take(ctx, b, n, nil, survey.Options{Set: set, Cache: cache})
		require.NoError(t, err)
		require.NoError(t, s.Away)
		stick.Pull()
	}
	s, err := survey.Take(ctx, b, 0, nil, survey.Options{Set: set, Cache: cache})
	require.NoError(t, err)
	require.Error(t, s.Away)
	require.Len(t, s.There, 1)
	assert.Equal(t, "only on 1.txt", s.There[0].Path)
}
