package loader

import (
	"fmt"
	"strconv"
	"strings"
)

// A DiscRule says which discs that were burnt a console's drive reads.
type DiscRule struct {
	Platforms []string `toml:"platforms"`
	// Drive is which of the drives that the console was built with, by the name on its label; "" for all.
	Drive   string   `toml:"drive"`
	Media   []string `toml:"media"` // kinds of discs, the best one first
	Best    Speed    `toml:"best-speed"`
	Highest Speed    `toml:"highest-speed"`
	Layers  int      `toml:"layers"` // at most; 0 for any
	// Finish is whether the disc must be finished: must, which is taken where it is missing, must-not or either.
	Finish string `toml:"finish"`
	Why    string `toml:"why"`
}

// Open reports whether the disc is to stay open.
func (r *DiscRule) Open() bool { return r.Finish == "must-not" }

// A Speed is how fast a disc is written, in multiples of the speed at which it plays; 0 where nothing is said.
type Speed float64

// UnmarshalText reads a speed such as 6x.
func (s *Speed) UnmarshalText(b []byte) error {
	n, err := strconv.ParseFloat(strings.TrimSuffix(string(b), "x"), 64)
	if err != nil || !strings.HasSuffix(string(b), "x") || !(n > 0 && n < 100) {
		return fmt.Errorf("%q is no speed: it is written as 6x", b)
	}
	*s = Speed(n)
	return nil
}

func (s Speed) String() string { return strconv.FormatFloat(float64(s), 'f', -1, 64) + "x" }

// Media are the kinds of discs that can be burnt.
var Media = []string{"CD-R", "CD-RW", "DVD-R", "DVD-R DL", "DVD-RW", "DVD+R", "DVD+R DL", "DVD+RW", "BD-R", "BD-RE"}

var finishWords = []string{"must", "must-not", "either"}

func (c *checker) disc(key string, r *DiscRule) {
	c.known(len(r.Platforms) > 0, key, "a [[disc]] must say of which platforms, in the key platforms")
	c.known(len(r.Media) > 0, key, "a [[disc]] must say which kinds of discs the drive reads, in the key media")
	c.each(key+".media", "medium", r.Media, Media)
	c.known(r.Best == 0 || r.Highest == 0 || r.Best <= r.Highest, key+".best-speed",
		"the best speed is above the highest one")
	c.known(r.Layers >= 0 && r.Layers <= 4, key+".layers", "a disc has 1 to 4 layers")
	if r.Finish != "" {
		c.oneOf(key+".finish", "word", r.Finish, finishWords)
	}
}

func (r *DiscRule) sentence() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s on %s", games(r.Platforms, nil), all(r.Media, "or"))
	if r.Drive != "" {
		fmt.Fprintf(&b, ", in a drive with %s on its label", r.Drive)
	}
	if r.Best > 0 {
		fmt.Fprintf(&b, "; best written at %s", r.Best)
	}
	if r.Highest > 0 {
		fmt.Fprintf(&b, "; at %s at most", r.Highest)
	}
	if r.Layers == 1 {
		b.WriteString("; with one layer")
	} else if r.Layers > 1 {
		fmt.Fprintf(&b, "; with up to %d layers", r.Layers)
	}
	switch r.Finish {
	case "must-not":
		b.WriteString("; not finished")
	case "either":
		b.WriteString("; finished or not")
	default:
		b.WriteString("; finished")
	}
	if r.Why != "" {
		b.WriteString(": " + r.Why)
	}
	return sentence(b.String())
}
