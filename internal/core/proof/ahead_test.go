package proof_test

import (
	"context"
	"fmt"
	"maps"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
	"polytome/internal/core/proof"
	"polytome/internal/coretest"
	"polytome/internal/place"
	"polytome/internal/place/folder"
)

// afar is a folder as if it lay behind a network: each file takes its time to be opened.
type afar struct {
	place.Place
	mu          sync.Mutex
	opens       map[string]int
	going, most int
}

func (a *afar) Facts(ctx context.Context, listed []place.Entry) (place.Facts, error) {
	f, err := a.Place.Facts(ctx, listed)
	f.Network = "smb"
	return f, err
}

func (a *afar) Open(ctx context.Context, path string) (place.Content, error) {
	a.mu.Lock()
	a.opens[path]++
	a.going++
	a.most = max(a.most, a.going)
	a.mu.Unlock()
	time.Sleep(2 * time.Millisecond)
	a.mu.Lock()
	a.going--
	a.mu.Unlock()
	return a.Place.Open(ctx, path)
}

// TestOverANetworkManyFilesAreLookedIntoAtATime and each once, also where remedies are tried on the place as it would be; what is found is the same.
func TestOverANetworkManyFilesAreLookedIntoAtATime(t *testing.T) {
	f := maps.Clone(right(t)["rowan"])
	image := f["FULL/VSP-20417 - Copper Tide.iso"]
	for i := range 60 {
		f[fmt.Sprintf("FULL/VSP-2%04d - Mill %d.iso", i, i)] = image // most are another game inside: each has a remedy
	}
	dir := t.TempDir()
	for name, data := range f {
		coretest.Write(t, dir, name, data)
	}
	p, err := folder.Open(dir, folder.Options{Filesystem: "fat32"})
	require.NoError(t, err)
	defer p.Close()
	look := func(p place.Place) *proof.Report {
		r, err := proof.Audit(t.Context(), p, []*loader.Profile{coretest.Rowan(t)}, coretest.Set(t), proof.Options{Road: "smb", Depth: proof.Inside})
		require.NoError(t, err)
		return r
	}
	far := &afar{Place: p, opens: map[string]int{}}
	here, there := look(p), look(far)
	assert.Greater(t, far.most, 3, "several at a time")
	assert.LessOrEqual(t, far.most, 8, "and not too many")
	for path, n := range far.opens {
		assert.LessOrEqual(t, n, 2, "%s was opened %d times", path, n)
	}
	assert.Equal(t, here.Listed, there.Listed)
	assert.Equal(t, told(here), told(there))
}
