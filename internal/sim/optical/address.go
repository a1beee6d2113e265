package optical

import (
	"fmt"
	"os"
	"strconv"
	"strings"
)

// Scheme begins the address of a simulated drive: simulated:IMAGE, with scratches behind a number sign, such as
// simulated:game.iso#hard=3000+3,soft=100+40.
const Scheme = "simulated:"

// FromAddress is a drive with an image file as its disc. It is to be closed.
func FromAddress(address string) (*Drive, *os.File, error) {
	name, hurt, _ := strings.Cut(strings.TrimPrefix(address, Scheme), "#")
	disc := &Disc{Profile: DVDROM}
	for x := range strings.SplitSeq(hurt, ",") {
		if x == "" {
			continue
		}
		harm, where, _ := strings.Cut(x, "=")
		first, count, _ := strings.Cut(where, "+")
		s := Scratch{Tries: 3}
		switch harm {
		case "hard":
		case "soft":
			s.Harm = Soft
		default:
			return nil, nil, fmt.Errorf("%s: a scratch is written as hard=FIRST+COUNT or soft=FIRST+COUNT", x)
		}
		var err error
		if s.First, err = strconv.ParseInt(first, 10, 64); err == nil {
			s.Count, err = strconv.ParseInt(count, 10, 64)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("%s: a scratch is written as hard=FIRST+COUNT or soft=FIRST+COUNT", x)
		}
		disc.Scratches = append(disc.Scratches, s)
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && info.Size() < Block {
		err = fmt.Errorf("%s holds no block of a disc", name)
	}
	if err != nil {
		_ = f.Close()
		return nil, nil, err
	}
	disc.Data, disc.Blocks = f, info.Size()/Block
	d := New()
	d.Put(disc)
	return d, f, nil
}
