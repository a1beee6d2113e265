package ftp

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand"
	"time"

	"polytome/internal/place"
)

// A Probe is what a console's server can, found out by trying.
type Probe struct {
	Login     string        `json:"login"`
	Secure    bool          `json:"secure"`     // what is sent cannot be read on the way
	RoundTrip time.Duration `json:"round-trip"` // of one command
	Entries   int           `json:"entries"`    // in the place's root
	Up        int64         `json:"up"`         // bytes a second; 0 where nothing could be written
	Down      int64         `json:"down"`
	Renames   bool          `json:"renames"`
	Resumes   bool          `json:"resumes"` // begins in the middle of a file
	Sizes     bool          `json:"sizes"`   // tells the length of a file
	// Wrong is what did not work, in sentences.
	Wrong []string `json:"wrong,omitempty"`
}

// probeLength is how much is sent to find out how fast the console is, in bytes.
const probeLength = 4 << 20

// Try finds out what the server can. It writes one file under a temporary name into the place's root, and removes it.
func (p *Place) Try(ctx context.Context) (*Probe, error) {
	r := &Probe{Login: p.opts.User, Secure: p.addr.Secure()}
	if r.Login == "" {
		r.Login = "anonymous"
	}
	began := time.Now()
	if err := p.do(ctx, "asking", "", true, func(s *session) error { return s.c.NoOp() }); err != nil {
		return nil, err
	}
	r.RoundTrip = time.Since(began)
	p.forget()
	l, err := p.entries(ctx, ".")
	if err != nil {
		return r, err
	}
	r.Entries = len(l)
	wrong := func(what string, err error) { r.Wrong = append(r.Wrong, fmt.Sprintf("%s: %v.", what, err)) }
	data := make([]byte, probeLength)
	rand.New(rand.NewSource(time.Now().UnixNano())).Read(data)
	name := fmt.Sprintf("%s%016x%s", place.TemporaryPrefix, time.Now().UnixNano(), place.TemporarySuffix)
	w := p.begin(ctx, name, probeLength, false)
	defer func() { _ = w.Abort() }()
	began = time.Now()
	_, err = w.Write(data)
	if err == nil {
		err = w.Flush()
	}
	if err != nil {
		wrong("Nothing could be written", err)
		return r, nil
	}
	r.Up = rate(time.Since(began))
	_ = p.do(ctx, "asking for the length of", w.temp, true, func(s *session) error {
		n, err := s.c.FileSize(p.full(w.temp))
		r.Sizes = err == nil && n == probeLength
		return nil
	})
	back := &content{p: p, ctx: ctx, name: w.temp, size: probeLength}
	began = time.Now()
	got, err := io.ReadAll(io.NewSectionReader(back, 0, probeLength))
	if err == nil && !bytes.Equal(got, data) {
		err = fmt.Errorf("it came back otherwise than it was sent")
	}
	if err != nil {
		wrong("What was written could not be read back", err)
	} else {
		r.Down = rate(time.Since(began))
		middle := make([]byte, 100)
		_, err := back.ReadAt(middle, 1000) // behind, so that it is begun anew
		r.Resumes = err == nil && !p.traits.noRestart.Load() && bytes.Equal(middle, data[1000:1100])
	}
	_ = back.Close()
	if err := w.Commit(); err != nil {
		wrong("What was written could not be given its name", err)
		return r, nil
	}
	r.Renames = true
	if err := p.Remove(ctx, name); err != nil {
		wrong("What was written could not be removed", err)
	}
	return r, nil
}

func rate(took time.Duration) int64 {
	return int64(probeLength / max(took.Seconds(), 0.001))
}
