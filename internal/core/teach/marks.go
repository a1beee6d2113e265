package teach

import (
	"fmt"
	"strings"

	"polytome/internal/core/loader"
)

// mark finds by what the games are known: the file that has their values, or bytes that are the same in all.
func (c *class) mark(p *Platform) {
	for _, field := range []string{"id", "name", "disc", "kind", "region"} {
		if f, ok := p.Fields[field]; ok && f.File != "" {
			p.Markers = append(p.Markers, loader.Marker{File: f.Marker.File, Syntax: f.Marker.Syntax,
				Encoding: f.Marker.Encoding})
			return
		}
	}
	if common := c.common(); c.all[0].source.FS != nil && len(common) > 0 {
		p.Markers = append(p.Markers, loader.Marker{File: common[0]})
		return
	}
	var heads, tails [][]byte
	for _, s := range c.all {
		heads, tails = append(heads, s.head), append(tails, s.tail)
	}
	if at, hex := alikeBytes(heads, false); len(hex) > 0 {
		m := loader.Marker{Offset: int64(at), Syntax: loader.Binary}
		_ = m.Hex.UnmarshalText([]byte(hex))
		p.Markers = append(p.Markers, m)
	} else if at, hex := alikeBytes(tails, true); len(hex) > 0 {
		m := loader.Marker{Offset: int64(at), Syntax: loader.Binary}
		_ = m.Hex.UnmarshalText([]byte(hex))
		p.Markers = append(p.Markers, m)
	}
}

// longestMagic is how many bytes a marker has at most.
const longestMagic = 8

// alikeBytes finds the first bytes that are the same in all, as a marker has them; a byte between that differs may be
// any.
func alikeBytes(all [][]byte, fromEnd bool) (offset int, hex string) {
	least := mostOffsets
	for _, b := range all {
		least = min(least, len(b))
	}
	same := make([]int, least) // the byte, or -1
	for i := range same {
		same[i] = -2
		for _, b := range all {
			if fromEnd {
				b = b[len(b)-least:]
			}
			if same[i] == -2 {
				same[i] = int(b[i])
			} else if same[i] != int(b[i]) {
				same[i] = -1
			}
		}
	}
	for at := range same {
		if same[at] <= 0 {
			continue
		}
		end, solid := at, 0
		for i := at; i < min(len(same), at+longestMagic); i++ {
			if same[i] > 0 {
				end, solid = i+1, solid+1
			}
		}
		if solid < 2 {
			continue
		}
		var words []string
		for i := at; i < end; i++ {
			if same[i] < 0 {
				words = append(words, "??")
			} else {
				words = append(words, fmt.Sprintf("%02x", same[i]))
			}
		}
		if fromEnd {
			at -= least
		}
		return at, strings.Join(words, " ")
	}
	return 0, ""
}
