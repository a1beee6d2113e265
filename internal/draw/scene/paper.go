package scene

import (
	"strings"

	"polytome/internal/nearest"
)

// A Paper is a size of paper, upright.
type Paper struct {
	Name          string
	Width, Height float64 // in points
}

// mm is a millimetre in points.
const mm = 72 / 25.4

// Papers are those that are known: ISO 216 A4, and the letter size of ANSI/ASME Y14.1.
var Papers = []Paper{{"a4", 210 * mm, 297 * mm}, {"letter", 8.5 * 72, 11 * 72}}

// An UnknownPaperError reports an unknown paper.
type UnknownPaperError struct{ Name string }

func (e *UnknownPaperError) Error() string {
	var names []string
	for _, p := range Papers {
		names = append(names, p.Name)
	}
	return nearest.Unknown("paper", e.Name, names).Error()
}

// PaperNamed finds a paper by its name, whatever its letter case; "" is the first one. The error is an
// *[UnknownPaperError].
func PaperNamed(name string) (Paper, error) {
	if name == "" {
		return Papers[0], nil
	}
	for _, p := range Papers {
		if strings.EqualFold(p.Name, name) {
			return p, nil
		}
	}
	return Paper{}, &UnknownPaperError{name}
}

// Across is the paper on its side.
func (p Paper) Across() Paper { return Paper{p.Name, p.Height, p.Width} }
