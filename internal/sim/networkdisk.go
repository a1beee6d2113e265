package sim

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"polytome/internal/nbd"
)

// NetworkList is the file on the Vesper's own stick in which the titles of the network disk are listed.
const NetworkList = "rowan-net.lst"

// ErrNoList reports that the console waits for its first list.
var ErrNoList = errors.New("the console waits for its first list")

// errSilent reports a network disk that does not answer.
var errSilent = fmt.Errorf("no answer for %s: the console gives up", consolePatience)

// consolePatience is how long the Vesper waits for an answer.
const consolePatience = 5 * time.Second

// A NetworkGame is a title that the Vesper lists from its network disk.
type NetworkGame struct {
	ID, Kind, Title, File string
	Starts                bool
	Why                   string // why it does not start
	Cover                 bool   // its front is on the console's own stick
}

// A NetworkDisk is the Vesper's network disk while it is mounted.
type NetworkDisk struct {
	Games []NetworkGame

	c *nbd.Client
	v *exfatVolume
}

// MountNetworkDisk has the Vesper read the list on its own stick, and mount the volume that is exported at an address.
func MountNetworkDisk(ctx context.Context, address, stick string) (*NetworkDisk, error) {
	list, err := os.ReadFile(filepath.Join(stick, NetworkList))
	if errors.Is(err, os.ErrNotExist) {
		return nil, ErrNoList
	}
	if err != nil {
		return nil, err
	}
	c, err := nbd.Open(ctx, address, nbd.Options{})
	if err != nil {
		return nil, err
	}
	d := &NetworkDisk{c: c}
	if d.v, err = mountExFAT(patient{c}); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	for line := range strings.Lines(string(list)) {
		words := strings.SplitN(strings.TrimRight(line, "\r\n"), ";", 4)
		if len(words) < 4 {
			continue
		}
		g := NetworkGame{ID: words[0], Kind: words[1], Title: words[2], File: words[3]}
		_, err := os.Stat(filepath.Join(stick, "FACES", "front", g.ID+".jpg"))
		g.Cover = err == nil
		if f := d.file(&g); f == nil {
			g.Why = "it is not on the network disk"
		} else {
			g.Why = vesperWhy(networkContent{patient{c}, f}, f.Size, g.ID, g.Kind)
		}
		g.Starts = g.Why == ""
		d.Games = append(d.Games, g)
	}
	return d, nil
}

// file is where a title lies.
func (d *NetworkDisk) file(g *NetworkGame) *NetworkFile {
	return d.v.files[strings.ToUpper(g.Kind+"/"+g.File)]
}

// Close lets go of the volume.
func (d *NetworkDisk) Close() error { return d.c.Close() }

// patient gives up what gets no answer in time.
type patient struct{ r io.ReaderAt }

func (p patient) ReadAt(b []byte, off int64) (int, error) {
	type result struct {
		n   int
		err error
	}
	done := make(chan result, 1)
	own := make([]byte, len(b)) // what comes too late must not change what was given up
	go func() {
		n, err := p.r.ReadAt(own, off)
		done <- result{n, err}
	}()
	select {
	case r := <-done:
		copy(b, own[:r.n])
		return r.n, r.err
	case <-time.After(consolePatience):
		return 0, errSilent
	}
}

// A Played is what was read of a title while it was played.
type Played struct {
	Reads   int
	Bytes   int64
	Slowest time.Duration
	Late    int // answers that took longer than 50 ms
}

// Play reads a title as a game does that is played: in pieces of 4 to 64 KiB, rarely in order, with pauses, until the
// context ends or so many pieces were read.
func (d *NetworkDisk) Play(ctx context.Context, g *NetworkGame, pieces int, pause time.Duration,
	r *rand.Rand) (p Played,
	err error) {
	f := d.file(g)
	if f == nil || f.Size == 0 {
		return p, errors.New(g.Why)
	}
	content := networkContent{patient{d.c}, f}
	at := int64(0)
	for range pieces {
		n := min(f.Size, 4096<<r.IntN(5))
		if r.IntN(3) > 0 {
			at = r.Int64N(f.Size - n + 1)
		}
		at = min(at, f.Size-n)
		begun := time.Now()
		if _, err := content.ReadAt(make([]byte, n), at); err != nil {
			return p, fmt.Errorf("%s stops at byte %d: %w", g.Title, at, err)
		}
		took := time.Since(begun)
		p.Reads++
		p.Bytes += n
		p.Slowest = max(p.Slowest, took)
		if took > 50*time.Millisecond {
			p.Late++
		}
		at += n
		select {
		case <-ctx.Done():
			return p, nil
		case <-time.After(pause):
		}
	}
	return p, nil
}
