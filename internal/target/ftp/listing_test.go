package ftp_test

import (
	"context"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/sim/ftpd"
	"polytome/internal/target/ftp"
	"polytome/internal/target/remote"
)

// TestAListingThatIsUnderwayHidesNoNewFile writes files side by side to a server that tells lengths in listings only:
// each is found as soon as it is there, also when someone else's listing of the folder was asked for before.
func TestAListingThatIsUnderwayHidesNoNewFile(t *testing.T) {
	ftp.Forget()
	s, err := ftpd.Serve(t.TempDir(), 0, ftpd.Habits{})
	require.NoError(t, err)
	defer s.Close()
	ctx := context.Background()
	p, err := ftp.Open(ctx, remote.Address{Host: "127.0.0.1", Port: s.Port()},
		remote.Settings{})
	require.NoError(t, err)
	defer p.Close()
	require.NoError(t, p.MakeFolder(ctx, "FULL"))
	const size = 65<<10 + 1 // one that is not read to find out its length
	var all sync.WaitGroup
	for k := range 4 {
		all.Go(func() {
			for i := range 25 {
				name := fmt.Sprintf("FULL/%d-%d.iso", k, i)
				w, err := p.Create(ctx, name, size)
				if !assert.NoError(t, err) {
					return
				}
				_, err = w.Write(make([]byte, size))
				assert.NoError(t, err)
				assert.NoError(t, w.Flush())
				back, err := w.ReadBack()
				if assert.NoError(t, err, name) {
					assert.EqualValues(t, size, back.Size())
					assert.NoError(t, back.Close())
				}
				assert.NoError(t, w.Commit())
				e, err := p.Stat(ctx, name)
				assert.NoError(t, err, "it has its name")
				assert.EqualValues(t, size, e.Size)
			}
		})
	}
	all.Wait()
	found, err := p.List(ctx, nil)
	require.NoError(t, err)
	assert.Len(t, found, 1+100)
}
