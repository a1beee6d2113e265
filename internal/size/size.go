// Package size writes and reads amounts, of bytes above all, the same way
// everywhere.
package size

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
)

// The binary units, in bytes.
const (
	KiB int64 = 1 << 10
	MiB int64 = 1 << 20
	GiB int64 = 1 << 30
	TiB int64 = 1 << 40
)

// Format writes n bytes with two decimals and a three-letter unit, so that a
// right-aligned column of them lines up digit under digit. Below 1 KiB the
// exact count is written.
func Format(n int64) string {
	switch abs := max(n, -n); {
	case abs == 1:
		return fmt.Sprintf("%d byte", n)
	case abs < KiB:
		return fmt.Sprintf("%d bytes", n)
	case abs < MiB:
		return in(n, KiB, "KiB")
	case abs < GiB:
		return in(n, MiB, "MiB")
	case abs < TiB:
		return in(n, GiB, "GiB")
	}
	return in(n, TiB, "TiB")
}

// Column is Format for columns of amounts: KiB is the smallest unit, so that all
// digits line up.
func Column(n int64) string {
	if max(n, -n) < MiB {
		return in(n, KiB, "KiB")
	}
	return Format(n)
}

func in(n, unit int64, name string) string {
	return fmt.Sprintf("%.2f %s", float64(n)/float64(unit), name)
}

// Exact writes n with thousands separated: 4,294,967,295.
func Exact(n int64) string { return humanize.Comma(n) }

// Parse reads an amount such as 58GiB, 4.5 GiB, 700MB or a plain number of
// bytes.
func Parse(s string) (int64, error) {
	n, err := humanize.ParseBytes(strings.TrimSpace(s))
	if err != nil || n > 1<<62 {
		return 0, fmt.Errorf("%q is not a size; write it like 58GiB or 700MiB", s)
	}
	return int64(n), nil
}

// Count writes a number and its noun: "1 title", "2 titles".
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if first, rest, ok := strings.Cut(noun, " or "); ok {
		return fmt.Sprintf("%d %ss or %ss", n, first, rest)
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
