package check_test

import (
	"context"
	"fmt"
	"maps"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/loader"
	"polytome/internal/target"
	"polytome/internal/target/folder"
	"polytome/internal/testkit/coretest"
)

// afar is a folder as if it lay behind a network: each file takes its time to be opened.
type afar struct {
	target.Target
	mu          sync.Mutex
	opens       map[string]int
	going, most int
}

func (a *afar) Facts(ctx context.Context, listed []target.Entry) (target.Facts, error) {
	f, err := a.Target.Facts(ctx, listed)
	f.Network = "smb"
	return f, err
}

func (a *afar) Open(ctx context.Context, path string) (target.Content, error) {
	a.mu.Lock()
	a.opens[path]++
	a.going++
	a.most = max(a.most, a.going)
	a.mu.Unlock()
	time.Sleep(2 * time.Millisecond)
	a.mu.Lock()
	a.going--
	a.mu.Unlock()
	return a.Target.Open(ctx, path)
}

// TestOverANetworkManyFilesAreLookedIntoAtATime and each once, also where remedies are tried on the target as it would
// be; what is found is the same.
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
	look := func(p target.Target) *check.Report {
		r, err := check.Audit(t.Context(), p, []*loader.Profile{coretest.Rowan(t)}, coretest.Set(t),
			check.Options{Via: "smb", Depth: check.Inside})
		require.NoError(t, err)
		return r
	}
	far := &afar{Target: p, opens: map[string]int{}}
	here, there := look(p), look(far)
	assert.Greater(t, far.most, 3, "several at a time")
	assert.LessOrEqual(t, far.most, 8, "and not too many")
	for path, n := range far.opens {
		assert.LessOrEqual(t, n, 2, "%s was opened %d times", path, n)
	}
	assert.Equal(t, here.Listed, there.Listed)
	assert.Equal(t, reported(here), reported(there))
}
