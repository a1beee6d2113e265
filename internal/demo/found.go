package demo

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
)

// A foundGame is one of the stick of a console that nobody here knows.
type foundGame struct {
	id, name string
	area     byte
	many     int
}

var foundGames = []foundGame{
	{"ORL-3107", "Amber Weir", 'N', 2}, {"ORL-0418", "Bellringer's Alley", 'E', 1}, {"ORL-1990", "Cold Harbour Lane",
		'N', 1},
	{"ORL-2236", "Drift Ferry", 'E', 2}, {"ORL-0075", "Eight Lanterns", 'N', 1}, {"ORL-1512", "Fen Post", 'E', 1},
	{"ORL-2881", "Gorse and Gale", 'N', 1},
}

// found makes the stick of a console that nobody has described: images with a header of their own, a list of them, a
// file beside each, and one that belongs to nobody.
func found(dir string, seed uint64) error {
	r := rand.New(rand.NewPCG(seed, 7))
	list := ""
	write := func(name string, b []byte) error {
		at := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		return os.WriteFile(at, b, 0o644)
	}
	area := map[byte]string{'N': "NORTH", 'E': "EAST"}
	for _, g := range foundGames {
		for disc := 1; disc <= g.many; disc++ {
			b := make([]byte, 24_000+r.IntN(30_000))
			copy(b, "\xD3\x0A\x6B\xF8")
			id := g.id
			if disc > 1 {
				id = id[:len(id)-1] + string(rune('0'+(int(id[len(id)-1]-'0')+disc-1)%10))
			}
			copy(b[0x10:], id)
			copy(b[0x20:], g.name)
			copy(b[0x60:], fmt.Sprintf("%d/%d", disc, g.many))
			b[0x68] = g.area
			for i := 0x100; i+8 <= len(b); i += 8 {
				binary.LittleEndian.PutUint64(b[i:], r.Uint64())
			}
			name := g.name
			if g.many > 1 {
				name += fmt.Sprintf(" (Disc %d)", disc)
			}
			file := fmt.Sprintf("PLAY/%s/%s [%s].orl", area[g.area], name, id)
			if err := write(file, b); err != nil {
				return err
			}
			list += fmt.Sprintf("%s|%s|%s\n", id, g.name, filepath.Base(file))
		}
		if err := write("SET/"+strings.ToLower(g.id)+".cfg", []byte("title="+g.name+"\nspeed=2\n")); err != nil {
			return err
		}
	}
	if err := write("PLAY/shown.lst", []byte(list)); err != nil {
		return err
	}
	return write("harvest fair.jpg", []byte("\xFF\xD8\xFF\xE0 a picture of a fair"))
}
