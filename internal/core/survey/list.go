package survey

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"polytome/internal/core/scancache"
	"polytome/internal/target"
)

// list finds out what is on the target. What was listed before serves again when the target's stamp
// checks that nothing changed; where the target is away, it is all there is.
func (s *Survey) list(ctx context.Context, cache *scancache.Store) error {
	name := s.cacheName()
	known, ok := recall(cache, name)
	began := time.Now()
	p, err := s.Open(ctx)
	if err != nil {
		if !ok {
			return err
		}
		s.Away, s.Listing = err, known.Listing
		return nil
	}
	defer p.Close()
	if ok && known.Stamp != "" {
		if stamp, err := p.Stamp(ctx, known.There); err == nil && stamp == known.Stamp {
			s.There, s.Took, s.Taken, s.Fresh = known.There, known.Took, time.Now(), true
			s.Facts, err = p.Facts(ctx, s.There)
			return err
		}
	}
	s.There, err = p.List(ctx, func(path string, err error) {
		s.Problems = append(s.Problems, fmt.Sprintf("%s: %v", path, err))
	})
	if err != nil {
		return err
	}
	if s.There == nil {
		s.There = []target.Entry{}
	}
	if s.Facts, err = p.Facts(ctx, s.There); err != nil {
		return err
	}
	s.Taken, s.Took, s.Fresh = time.Now(), time.Since(began), true
	if stamp, err := p.Stamp(ctx, s.There); err == nil && len(s.Problems) == 0 {
		remember(cache, name, snapshot{s.Listing, stamp})
	}
	return nil
}

// cacheName tells the target from others, and from itself when it is declared to be another.
func (s *Survey) cacheName() string {
	at := s.dir
	if s.Config.Stick != "" { // wherever it is plugged in
		at = "volume\x00" + s.Config.Stick
	}
	return fmt.Sprintf("%s\x00%s\x00%d\x00%d", at, s.Config.As, s.Config.Capacity, s.Config.Cluster)
}

// memory is what is remembered of the target under: its volume where that can be recognised, or its address.
func (s *Survey) memory() string {
	if s.Facts.Volume != "" && s.Facts.Volume != target.Fixed {
		return "volume\x00" + s.Facts.Volume
	}
	return s.dir
}

// A snapshot is a listing with the stamp that checks it fresh.
type snapshot struct {
	Listing
	Stamp string
}

// A heading is what a remembered snapshot begins with.
type heading struct {
	target.Facts
	Took time.Duration
}

// settledFor is how long ago the newest change on a target must be for its listing to be kept with a
// stamp: what is written to within the same tick of its clock cannot be distinguished.
const settledFor = 3 * time.Second

// remember keeps a snapshot. A cache that cannot be written to costs time only.
func remember(cache *scancache.Store, name string, snap snapshot) {
	if cache == nil {
		return
	}
	for i := range snap.There {
		if snap.Taken.Sub(snap.There[i].Modified) < settledFor {
			snap.Stamp = "" // it serves when the target is away, and checks nothing
			break
		}
	}
	var b bytes.Buffer
	head, err := json.Marshal(heading{snap.Facts, snap.Took})
	if err != nil {
		return
	}
	fmt.Fprintf(&b, "%s\n", head)
	for i := range snap.There {
		e := &snap.There[i]
		folder := 0
		if e.Folder {
			folder = 1
		}
		fmt.Fprintf(&b, "%d %d %d %q\n", folder, e.Size, e.Modified.UnixNano(), e.Path)
	}
	_ = cache.PutTarget(scancache.Target{Name: name, Stamp: snap.Stamp, At: snap.Taken.Unix(), Data: b.Bytes()})
}

// recall finds the last snapshot of a target.
func recall(cache *scancache.Store, name string) (snap snapshot, ok bool) {
	if cache == nil {
		return snap, false
	}
	p, ok, err := cache.Target(name)
	if err != nil || !ok {
		return snap, false
	}
	head, rest, _ := bytes.Cut(p.Data, []byte("\n"))
	var h heading
	if json.Unmarshal(head, &h) != nil {
		return snap, false
	}
	snap.Facts, snap.Took = h.Facts, h.Took
	fs, err := target.FilesystemNamed(snap.Facts.Filesystem.Name)
	if err != nil {
		fs = target.UnknownFilesystem(snap.Facts.Filesystem.Name).Like(snap.Facts.Filesystem)
	}
	fs.Spelling = snap.Facts.Filesystem.Spelling
	snap.Facts.Filesystem = fs
	snap.There = []target.Entry{}
	for line := range bytes.Lines(rest) {
		e, ok := entryOf(string(line))
		if !ok {
			return snap, false
		}
		snap.There = append(snap.There, e)
	}
	snap.Taken, snap.Stamp = time.Unix(p.At, 0), p.Stamp
	return snap, true
}

// entryOf reads one line of a snapshot.
func entryOf(line string) (e target.Entry, ok bool) {
	parts := strings.SplitN(strings.TrimSuffix(line, "\n"), " ", 4)
	if len(parts) < 4 {
		return e, false
	}
	size, err1 := strconv.ParseInt(parts[1], 10, 64)
	modified, err2 := strconv.ParseInt(parts[2], 10, 64)
	path, err3 := strconv.Unquote(parts[3])
	return target.Entry{Path: path, Folder: parts[0] == "1", Size: size, Modified: time.Unix(0, modified)},
		err1 == nil && err2 == nil && err3 == nil
}
