//go:build unix

package ui

import (
	"image"
	"os"

	"golang.org/x/sys/unix"
)

// cellSize is how many pixels a cell of the terminal has, as the system knows it; zero where it does not.
func cellSize() image.Point {
	w, err := unix.IoctlGetWinsize(int(os.Stdout.Fd()), unix.TIOCGWINSZ)
	if err != nil || w.Col == 0 || w.Row == 0 {
		return image.Point{}
	}
	return image.Pt(int(w.Xpixel)/int(w.Col), int(w.Ypixel)/int(w.Row))
}
