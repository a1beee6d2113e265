package main

import (
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"polytome/internal/core/estimate"
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
	if !isTerminal(p.out) || prints.quiet {
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
	taken := now.Sub(p.begun)
	rate := float64(done) / max(0.1, taken.Seconds())
	line := fmt.Sprintf("%s %3.0f %%  %s of %s  %s/s", bar(float64(done)/float64(max(1, total))), percent(done, total),
		size.Format(done), size.Format(total), size.Format(int64(rate)))
	if taken > 2*time.Second && rate > 0 {
		line += "  about " + estimate.Words(time.Duration(float64(total-done)/rate*float64(time.Second))) + " left"
	}
	fmt.Fprint(p.out, "\r\x1b[K"+within(p.out, line))
}

// barCells is how long a bar of progress is.
const barCells = 20

// bar shows a share as a bar.
func bar(share float64) string {
	n := int(max(0, min(1, share))*barCells + 0.5)
	return "[" + strings.Repeat("#", n) + strings.Repeat(".", barCells-n) + "]"
}

// within cuts a line that is written over again and again so that it does not go on in the next.
func within(f *os.File, line string) string {
	if w := columns(f); w > 1 {
		return ansi.Truncate(harmless(line), w-1, "")
	}
	return harmless(line)
}

func (p *progress) end() {
	if p.shown {
		fmt.Fprint(p.out, "\r\x1b[K")
	}
}
