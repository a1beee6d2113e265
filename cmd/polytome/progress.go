package main

import (
	"fmt"
	"os"
	"time"

	"polytome/internal/core/scan"
	"polytome/internal/size"
)

// progress prints how far a long command is, in one line, where someone is looking.
type progress struct {
	out   *os.File
	last  time.Time
	begun time.Time
	shown bool
}

func (p *progress) verify(v scan.VerifyProgress) { p.bytes(v.Done, v.Total) }

// bytes reports how far the work is.
func (p *progress) bytes(done, total int64) {
	if !isTerminal(p.out) {
		return
	}
	now := time.Now()
	if p.begun.IsZero() {
		p.begun = now
	}
	if now.Sub(p.last) < 200*time.Millisecond {
		return
	}
	p.last, p.shown = now, true
	rate := float64(done) / max(0.1, now.Sub(p.begun).Seconds())
	fmt.Fprintf(p.out, "\r\x1b[K%3.0f %%  %s of %s, %s/s", percent(done, total), size.Format(done), size.Format(total),
		size.Format(int64(rate)))
}

func (p *progress) end() {
	if p.shown {
		fmt.Fprint(p.out, "\r\x1b[K")
	}
}
