package survey_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/bench"
	"polytome/internal/core/check"
	"polytome/internal/core/fit"
	"polytome/internal/core/ledger"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/demo"
	"polytome/internal/secret"
	"polytome/internal/sim/ftpd"
)

func (w *workshop) titled(name string) int {
	for i := range w.titles {
		if w.titles[i].Name == name {
			return i
		}
	}
	w.t.Fatal(name)
	return 0
}

// fillOnce fills a target without another look at it.
func (w *workshop) fillOnce(n int) {
	s := w.look(n)
	to, err := s.Open(context.Background())
	require.NoError(w.t, err)
	defer to.Close()
	r := run.Run(context.Background(), s.Plan(), to, run.Options{}, func(run.Event) {})
	require.True(w.t, r.All())
	s.Ran(w.o.Cache, s.Plan(), &r)
}

// TestWhatWasDeletedAtTheConsoleIsNotPutBackSilently: it is reported, and comes back when it is selected again.
func TestWhatWasDeletedAtTheConsoleIsNotPutBackSilently(t *testing.T) {
	w := harbour(t, "Mosswick", "Gannet Patrol", "Tin Harbour")
	w.fillOnce(0)
	require.NoError(t, os.Remove(w.at("stick", "GAMES/Mosswick.w8")))
	i := w.titled("Mosswick")
	for range 2 { // however often somebody looks
		s := w.look(0)
		assert.True(t, s.Gone(i))
		assert.Equal(t, fit.Deleted, s.Sheet.Verdict(i).Kind)
		assert.Equal(t, "1 title was deleted on stick, and is not copied again: Mosswick. "+
			"Select what you want back, or use --copy-deleted.",
			s.DeletedNote())
		assert.Contains(t, s.Sheet.Explain(i).Say, "deleted at the console")
		w.fillOnce(0)
		assert.NoFileExists(t, w.at("stick", "GAMES/Mosswick.w8"))
		assert.NotContains(t, w.list(), "Mosswick|Mosswick.w8", "nor is it listed")
	}
	other := *w
	other.o.CopyDeleted = true
	assert.False(t, other.look(0).Plan().Empty(), "one who asks for it gets it")
	assert.True(t, w.look(0).Gone(i), "and who only asked has changed nothing")
	w.bench.Targets[0].BringBack(true, w.titles[i].Key)
	s := w.look(0)
	assert.False(t, s.Gone(i))
	assert.Empty(t, s.DeletedNote())
	w.fillOnce(0)
	assert.FileExists(t, w.at("stick", "GAMES/Mosswick.w8"))
	s = w.look(0)
	require.Equal(t, []string{w.titles[i].Key}, s.Back())
	w.bench.Targets[0].BringBack(false, s.Back()...)
	require.NoError(t, os.Remove(w.at("stick", "GAMES/Mosswick.w8")))
	assert.True(t, w.look(0).Gone(i), "and it can be deleted again")
	w.bench.Targets[0].Want(false, w.titles[i].Key)
	assert.False(t, w.look(0).Gone(i))
	w.bench.Targets[0].Want(true, w.titles[i].Key)
	assert.False(t, w.look(0).Gone(i), "who deselected it and selects it again wants it")
}

// TestAnEmptiedStickIsFilledAgain: also after a run was interrupted on it.
func TestAnEmptiedStickIsFilledAgain(t *testing.T) {
	w := harbour(t, "Mosswick", "Gannet Patrol", "Tin Harbour")
	w.fillOnce(0)
	require.NoError(t, os.RemoveAll(w.at("stick", "GAMES")))
	s := w.look(0)
	assert.Len(t, s.Plan().Steps, 4)
	assert.Empty(t, s.DeletedNote())
	require.NoError(t, os.MkdirAll(w.at("stick", "GAMES"), 0o755))
	b, err := os.ReadFile(filepath.Join(w.dir, "games", "Mosswick.w8"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.at("stick", "GAMES/Mosswick.w8"), b, 0o644))
	assert.Empty(t, w.look(0).DeletedNote(), "what was not written again yet was not deleted")
}

// TestATitleUnderAnotherNameOrRuleIsNotDeleted.
func TestATitleUnderAnotherNameOrRuleIsNotDeleted(t *testing.T) {
	w := harbour(t, "Mosswick", "Gannet Patrol", "Tin Harbour")
	w.fillOnce(0)
	require.NoError(t, os.Rename(w.at("stick", "GAMES/Mosswick.w8"), w.at("stick", "GAMES/mine.w8")))
	s := w.look(0)
	assert.False(t, s.Gone(w.titled("Mosswick")))
	assert.Equal(t, fit.Renamed, s.Sheet.Verdict(w.titled("Mosswick")).Kind)
	w.fillOnce(0)
	w.bench.Targets[0].Rules = map[string]string{"accept.1.path": "OTHER/{title}{ext}"}
	assert.Empty(t, w.look(0).DeletedNote(), "its file is still where it was")
}

// TestAVolumeWithOneTitle is empty when nothing at all is on it.
func TestAVolumeWithOneTitle(t *testing.T) {
	w := harbour(t, "Mosswick")
	w.fillOnce(0)
	i := w.titled("Mosswick")
	require.NoError(t, os.Remove(w.at("stick", "GAMES/Mosswick.w8")))
	require.True(t, w.look(0).Gone(i), "the list of games is still there")
	require.NoError(t, os.Remove(w.at("stick", "games.lst")))
	assert.False(t, w.look(0).Gone(i), "it was emptied, and is filled again")
}

// TestACheckAloneIsNotRemembered of a volume of which nothing was.
func TestACheckAloneIsNotRemembered(t *testing.T) {
	w := harbour(t, "Mosswick")
	store := ledger.Store{Dir: t.TempDir()}
	s := w.look(0)
	r, err := s.Check(t.Context(), check.Names)
	require.NoError(t, err)
	require.NoError(t, s.Note(t.Context(), store, survey.Noted{Check: r, Stale: true}))
	all, err := store.All()
	require.NoError(t, err)
	assert.Empty(t, all)
	require.NoError(t, s.Note(t.Context(), store, survey.Noted{}))
	require.NoError(t, s.Note(t.Context(), store, survey.Noted{Check: r, Stale: true}))
	all, err = store.All()
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.NotNil(t, all[0].Check)
	assert.Empty(t, all[0].Print)
}

// TestWhatCannotBeReadIsNotTakenForDeleted: a console that does not list a folder says nothing of what is in it.
func TestWhatCannotBeReadIsNotTakenForDeleted(t *testing.T) {
	dir := t.TempDir()
	server, err := ftpd.Serve(dir, 0, ftpd.Habits{User: "gantry", Password: "ferryline", Machine: true, Sizes: true})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	secret.Remember("127.0.0.1", "gantry", "ferryline")
	w := newWorkshop(t, map[string][]byte{"a/main.run": demo.MainRun("CVN00117", "Hollow Lane", "N"),
		"b/main.run": demo.MainRun(
			"CVN00130",
			"Salt Mill",
			"E",
		), "c/main.run": demo.MainRun("CVN00118", "Tollgate", "E")})
	remembering(t, w)
	w.bench.Targets = []bench.Target{{Name: "console", At: fmt.Sprintf("ftp://gantry@127.0.0.1:%d/", server.Port()),
		Loader: "gantry", Via: "ftp", Everything: true}}
	w.fillOnce(0)
	require.DirExists(t, filepath.Join(dir, "Games", "Salt Mill"))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "Games", "Salt Mill")))
	require.True(t, w.look(0).Gone(w.titled("Salt Mill")))
	server.Faults.Unlisted.Store("Hollow Lane")
	s := w.look(0)
	require.NotEmpty(t, s.Problems)
	assert.False(t, s.Gone(w.titled("Salt Mill")))
	assert.False(t, s.Gone(w.titled("Hollow Lane")))
	server.Faults.Unlisted.Store("")
	s = w.look(0)
	assert.False(t, s.Gone(w.titled("Hollow Lane")))
	assert.True(t, s.Gone(w.titled("Salt Mill")))
}
