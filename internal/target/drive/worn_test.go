package drive_test

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"net"
	"os"
	"sync/atomic"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/partition"
	"polytome/internal/nbd"
	"polytome/internal/size"
	"polytome/internal/target/drive"
	"polytome/internal/testkit/judge"
)

// worn is a stick that fails once, at a byte.
type worn struct {
	*os.File
	at     int64
	failed atomic.Bool
}

func (s *worn) WriteAt(b []byte, at int64) (int, error) {
	if at <= s.at && s.at < at+int64(len(b)) && s.failed.CompareAndSwap(false, true) {
		return 0, syscall.EIO
	}
	return s.File.WriteAt(b, at)
}

// TestWhatAStickCouldNotWriteIsReported: the system tells of it only once, long after it took the bytes. The file that
// it is part of does not get its name.
func TestWhatAStickCouldNotWriteIsReported(t *testing.T) {
	if !judge.AsRoot(t) {
		return
	}
	for _, at := range []int64{3, 20, 45, 69} {
		t.Run(fmt.Sprint(at, " MiB"), func(t *testing.T) {
			img := image(t, "fat32", partition.None, 128*size.MiB)
			f, err := os.OpenFile(img, os.O_RDWR, 0)
			require.NoError(t, err)
			defer f.Close()
			stick := &worn{File: f, at: at * size.MiB}
			server := &nbd.Server{Exports: []*nbd.Export{{Name: "stick", Size: 128 * size.MiB, Backend: stick}}}
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			go func() { _ = server.Serve(t.Context(), l) }()
			p := open(t, judge.Device(t, fmt.Sprintf("nbd://%s/stick", l.Addr())), drive.Options{})
			assert.ErrorIs(t, writeNoise(p), syscall.EIO)
			assert.True(t, stick.failed.Load())
			_, err = p.Stat(ctx, "COPPER.ISO")
			assert.ErrorIs(t, err, fs.ErrNotExist)
			assert.ErrorIs(t, p.Close(), syscall.EIO, "nothing more is written to it")
		})
	}
}

// writeNoise writes a file of 70 MiB.
func writeNoise(p *drive.Target) error {
	w, err := p.Create(ctx, "COPPER.ISO", 70*size.MiB)
	if err != nil {
		return err
	}
	noise, piece := rand.NewChaCha8([32]byte{3}), make([]byte, size.MiB)
	for range 70 {
		_, _ = noise.Read(piece)
		if _, err := w.Write(piece); err != nil {
			_ = w.Abort()
			return err
		}
	}
	if err := w.Flush(); err != nil {
		_ = w.Abort()
		return err
	}
	return w.Commit()
}
