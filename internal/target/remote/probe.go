package remote

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand"
	"time"

	"polytome/internal/target"
)

// A Probe is what a target on another machine can, found out by trying.
type Probe struct {
	Login     string        `json:"login"`      // who is let in
	Secure    bool          `json:"secure"`     // what is sent cannot be read on the way
	Connect   time.Duration `json:"connect"`    // until somebody was logged in
	RoundTrip time.Duration `json:"round-trip"` // of one question
	Entries   int           `json:"entries"`    // in the target's root
	Capacity  int64         `json:"capacity"`   // bytes; 0 where nobody tells
	Free      int64         `json:"free"`
	Up        int64         `json:"up"` // bytes a second; 0 where nothing could be written
	Down      int64         `json:"down"`
	Renames   bool          `json:"renames"`
	Resumes   bool          `json:"resumes"`         // goes on in the middle of a file
	Case      bool          `json:"case-sensitive"`  // names that differ in letter case only are different ones
	Flushes   bool          `json:"flushes"`         // brings a file to its disk when it is asked to
	AtOnce    int           `json:"files-at-once"`   // that are written side by side
	Knows     []string      `json:"knows,omitempty"` // what else
	// Wrong is what did not work, in sentences.
	Wrong []string `json:"wrong,omitempty"`
}

// probeLength is how much is sent to find out how fast the target is, in bytes.
const probeLength = 4 << 20

// Try finds out what a target can: how fast it is both ways, whether files get other names there and can be resumed. It
// writes one file under a temporary name into the target's root, and removes it.
func (r *Probe) Try(ctx context.Context, p target.Target) error {
	began := time.Now()
	_, err := p.Stat(ctx, ".")
	if err == nil {
		r.RoundTrip = time.Since(began)
		var entries []target.Entry
		if entries, err = p.List(ctx, nil); err == nil {
			for _, e := range entries {
				if !bytes.ContainsRune([]byte(e.Path), '/') {
					r.Entries++
				}
			}
			var f target.Facts
			if f, err = p.Facts(ctx, entries); err == nil {
				r.Case = f.Filesystem.CaseSensitive
				if !f.Declared && !f.Unknown {
					r.Capacity, r.Free = f.Capacity, f.Free
				}
			}
		}
	}
	if err != nil {
		return err
	}
	r.AtOnce = 1
	if c, ok := p.(target.ParallelWriter); ok {
		r.AtOnce = c.AtOnce()
	}
	wrong := func(what string, err error) { r.Wrong = append(r.Wrong, fmt.Sprintf("%s: %v.", what, err)) }
	data := make([]byte, probeLength)
	rand.New(rand.NewSource(time.Now().UnixNano())).Read(data)
	name := fmt.Sprintf("%s%016x%s", target.TemporaryPrefix, time.Now().UnixNano(), target.TemporarySuffix)
	w, err := p.Create(ctx, name, probeLength)
	if err != nil {
		wrong("Nothing could be written", err)
		return nil
	}
	defer func() { _ = w.Abort() }()
	began = time.Now()
	if _, err = w.Write(data); err == nil {
		err = w.Flush()
	}
	if err != nil {
		wrong("Nothing could be written", err)
		return nil
	}
	r.Up = rate(time.Since(began))
	began = time.Now()
	back, err := w.ReadBack()
	var got []byte
	if err == nil {
		got, err = io.ReadAll(io.NewSectionReader(back, 0, probeLength))
		if err == nil && !bytes.Equal(got, data) {
			err = fmt.Errorf("it reads back differently")
		}
		_ = back.Close()
	}
	if err != nil {
		wrong("The test file could not be read back", err)
	} else {
		r.Down = rate(time.Since(began))
	}
	if err := r.goOn(ctx, p, w, name, data); err != nil {
		wrong("The test file could not be resumed", err)
		return nil
	}
	return nil
}

// goOn tries whether the file is resumed when it was left, and gets a name.
func (r *Probe) goOn(ctx context.Context, p target.Target, w target.Writer, name string, data []byte) error {
	if res, ok := p.(target.Resumer); ok {
		if l, ok := w.(target.Suspender); ok && l.Leave() == nil {
			again, err := res.Resume(ctx, name, probeLength, false)
			if err == nil {
				const half = probeLength / 2
				if err = again.Keep(half); err == nil {
					_, err = again.Write(data[half:])
				}
				if err == nil {
					err = again.Flush()
				}
				r.Resumes = err == nil
			}
			if err != nil {
				if again != nil {
					_ = again.Abort()
				}
				// it does not; the name is tried with a short file
				if again, err := p.Create(ctx, name, 1); err == nil {
					defer again.Abort() //nolint:errcheck // it has its name by then
					if _, err := again.Write(data[:1]); err != nil {
						return err
					}
					return r.named(ctx, p, again, name)
				}
				return err
			}
			return r.named(ctx, p, again, name)
		}
	}
	return r.named(ctx, p, w, name)
}

func (r *Probe) named(ctx context.Context, p target.Target, w target.Writer, name string) error {
	if err := w.Commit(); err != nil {
		_ = w.Abort()
		r.Wrong = append(r.Wrong, fmt.Sprintf("The test file could not be renamed: %v.", err))
		return nil
	}
	r.Renames = true
	if err := p.Remove(ctx, name); err != nil {
		r.Wrong = append(r.Wrong, fmt.Sprintf("The test file could not be removed: %v.", err))
	}
	return nil
}

func rate(took time.Duration) int64 {
	return int64(probeLength / max(took.Seconds(), 0.001))
}
