package scan

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/demo"
	"polytome/internal/testkit/coretest"
)

// watched asks for what was found so far, over and over, until the work is done. What it was given is kept, with a
// print of it.
func watched(s *scan, work func()) (results []Result, prints []string) {
	stop := make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		for {
			r := s.result()
			if len(results) < 50 {
				results, prints = append(results, r), append(prints, fmt.Sprintf("%+v", r))
			}
			select {
			case <-stop:
				return
			default:
			}
		}
	})
	work()
	close(stop)
	all.Wait()
	return results, prints
}

// TestProgressWhileFilesCannotBeRead: whoever asks how far a scan is never waits for one who waits for it.
func TestProgressWhileFilesCannotBeRead(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	s := newScan(t.Context(), Options{Set: set})
	dir := t.TempDir()
	for f := range 300 {
		var all []item
		for k := range 20 {
			all = append(all, item{name: fmt.Sprintf("gone %d.w8", k), kind: isFile, size: 100})
		}
		l := s.begin(filepath.Join(dir, fmt.Sprint(f)), all, false)
		s.push(func() { l.files(nil) })
	}
	watched(s, s.work)
	r := s.result()
	assert.Len(t, r.Problems, 300*20)
	assert.Len(t, r.Titles, 300*20, "each is shown, with what keeps it from being read")
}

// TestWhatWasShownOfAScanIsNotChangedAnyMore: titles that someone was given stay as they were, while the scan goes on
// to its end.
func TestWhatWasShownOfAScanIsNotChangedAnyMore(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	dir := t.TempDir()
	for i := range 40 {
		name := fmt.Sprintf("Mosswick %02d", i)
		coretest.Write(t, dir, fmt.Sprintf("games/%s.w8", name), demo.Cartridge("WREN", name))
		coretest.Write(t, dir, fmt.Sprintf("games/%s.txt", name), []byte("notes"))
		// are compared at the end
		coretest.Write(t, dir, fmt.Sprintf("twins/%s.w8", name), demo.Cartridge("WREN", name))
		coretest.Write(t, dir, fmt.Sprintf("folders/%d/SYS/TITLE.JSON", i),
			fmt.Appendf(nil, `{"id":"MRD-%04d","name":%q,"region":"N","version":"1"}`, i, name))
	}
	s := newScan(t.Context(), Options{Set: set})
	results, prints := watched(s, func() { s.run([]string{dir}) })
	r := s.finish([]string{dir})
	assert.Len(t, r.Titles, 120)
	results, prints = append(results, r), append(prints, fmt.Sprintf("%+v", r))
	s.compare()
	for i := range results {
		require.Equal(t, prints[i], fmt.Sprintf("%+v", results[i]))
	}
	twins := 0
	for i := range r.Titles {
		if r.Titles[i].Discs[0].Deep != "" {
			twins++
		}
	}
	assert.Equal(t, 80, twins)
	require.NoError(t, os.RemoveAll(dir))
}

// TestAMistakeInAScanIsReported, and does not end the program.
func TestAMistakeInAScanIsReported(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	s := newScan(t.Context(), Options{Set: set})
	s.push(func() { panic("a slip") })
	s.work()
	r := s.result()
	require.Len(t, r.Problems, 1)
	assert.Contains(t, r.Problems[0].Say, "failed because of a bug in Polytome: a slip")
}
