package lha

import "io"

// Numbers of -lh1-: 256 bytes and matches of 3 to 60; a tree with twice as many nodes.
const (
	symbols  = 256 + 58
	nodes    = 2*symbols - 1
	root     = nodes - 1
	mostFreq = 0x8000 // at which all frequencies are halved
	lowBits  = 6      // of a distance, which are not coded
)

// tree is the adaptive Huffman tree: nodes in the order of their frequency, so that brothers
// lie side by side.
type tree struct {
	freq   [nodes + 1]int
	parent [nodes + symbols]int // of a node; of symbol s at nodes+s
	son    [nodes]int           // the left son, its brother after it; nodes+s for a symbol
}

func (t *tree) begin() {
	for i := range symbols {
		t.freq[i], t.son[i], t.parent[nodes+i] = 1, nodes+i, i
	}
	for i, j := 0, symbols; j <= root; i, j = i+2, j+1 {
		t.freq[j], t.son[j] = t.freq[i]+t.freq[i+1], i
		t.parent[i], t.parent[i+1] = j, j
	}
	t.freq[nodes], t.parent[root] = 0xFFFF, 0
}

// rebuild halves all frequencies and makes the tree again.
func (t *tree) rebuild() {
	j := 0
	for i := range nodes {
		if t.son[i] >= nodes {
			t.freq[j], t.son[j] = (t.freq[i]+1)/2, t.son[i]
			j++
		}
	}
	for i, j := 0, symbols; j < nodes; i, j = i+2, j+1 {
		f := t.freq[i] + t.freq[i+1]
		k := j - 1
		for f < t.freq[k] {
			k--
		}
		k++
		copy(t.freq[k+1:j+1], t.freq[k:j])
		t.freq[k] = f
		copy(t.son[k+1:j+1], t.son[k:j])
		t.son[k] = i
	}
	for i, s := range t.son {
		t.parent[s] = i
		if s < nodes {
			t.parent[s+1] = i
		}
	}
}

// count adds one to a symbol's frequency and keeps the order.
func (t *tree) count(symbol int) {
	if t.freq[root] == mostFreq {
		t.rebuild()
	}
	for c := t.parent[nodes+symbol]; ; {
		t.freq[c]++
		k := t.freq[c]
		if l := c + 1; k > t.freq[l] {
			for l++; k > t.freq[l]; l++ {
			}
			l--
			t.freq[c], t.freq[l] = t.freq[l], k
			i, j := t.son[c], t.son[l]
			t.parent[i] = l
			if i < nodes {
				t.parent[i+1] = l
			}
			t.son[l] = i
			t.parent[j] = c
			if j < nodes {
				t.parent[j+1] = c
			}
			t.son[c] = j
			c = l
		}
		if c = t.parent[c]; c == 0 {
			return
		}
	}
}

// far are the lengths of the codes for the upper six bits of a distance.
var far = func() (l [64]uint8) {
	for i := range l {
		switch {
		case i < 1:
			l[i] = 3
		case i < 4:
			l[i] = 4
		case i < 12:
			l[i] = 5
		case i < 24:
			l[i] = 6
		case i < 48:
			l[i] = 7
		default:
			l[i] = 8
		}
	}
	return l
}()

// adaptive reads the codes of -lh1-.
type adaptive struct {
	s    bits
	tree tree
	far  table
}

func newAdaptive(r io.Reader) *adaptive {
	a := &adaptive{s: newBits(r)}
	a.tree.begin()
	if err := a.far.set(far[:]); err != nil {
		panic(err) // the lengths are fixed
	}
	return a
}

func (a *adaptive) code() (int, error) {
	c := a.tree.son[root]
	for c < nodes {
		bit, err := a.s.get(1)
		if err != nil {
			return 0, err
		}
		c = a.tree.son[c+bit]
	}
	c -= nodes
	a.tree.count(c)
	return c, nil
}

func (a *adaptive) distance() (int, error) {
	high, err := a.far.get(&a.s)
	if err != nil {
		return 0, err
	}
	low, err := a.s.get(lowBits)
	return high<<lowBits | low, err
}
