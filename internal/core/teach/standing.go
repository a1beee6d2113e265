package teach

import (
	"bytes"
	"fmt"
	"strings"
	"unicode"

	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
)

// mostWords is how many words are looked for in bytes.
const mostWords = 20_000

// written is a word as it may stand in bytes.
type written struct {
	word     string
	bytes    []byte
	encoding string
}

// standing finds places where the bytes of nearly all games have a word of a path, or of a file beside the games, in
// any encoding.
func (c *class) standing(all [][]byte, fromEnd bool, add func(*place)) {
	index := map[[3]byte][]written{}
	known := map[string]bool{}
	note := func(word string) {
		if known[word] || len(known) > mostWords || len(word) < 3 {
			return
		}
		known[word] = true
		for _, as := range []string{"ascii", "utf-8", "latin-1", "shift-jis", "utf-16le", "utf-16be"} {
			b, ok := infer.Encoded(word, as)
			if !ok || len(b) < 3 || as != "ascii" && !strings.HasPrefix(as, "utf-16") && string(b) == word &&
				as != "utf-8" {
				continue
			}
			if as == "utf-8" && len(b) == len([]rune(word)) {
				continue // it is ASCII
			}
			key := [3]byte(b)
			index[key] = append(index[key], written{word, b, as})
		}
	}
	for _, s := range c.all {
		for _, w := range append(s.words(), s.inner()...) {
			note(w)
			note(strings.ToUpper(w))
			note(strings.ToLower(w))
		}
	}
	for w := range c.said {
		note(w)
	}
	begins := make([]bool, 1<<16) // by the first two bytes of the words: most places have none
	for key := range index {
		begins[int(key[0])<<8|int(key[1])] = true
	}
	type spot struct {
		at       int
		encoding string
	}
	count := map[spot]map[int]string{} // what stands there, by sample
	for i, b := range all {
		for at := 0; at+3 <= len(b); at++ {
			if !begins[int(b[at])<<8|int(b[at+1])] {
				continue
			}
			for _, w := range index[[3]byte(b[at:])] {
				if !bytes.HasPrefix(b[at:], w.bytes) {
					continue
				}
				k := spot{at, w.encoding}
				if fromEnd {
					k.at -= len(b)
				}
				if count[k] == nil {
					count[k] = map[int]string{}
				}
				if len(count[k][i]) < len(w.word) {
					count[k][i] = w.word
				}
			}
		}
	}
	for k, words := range count {
		if len(words)*10 < len(all)*8 {
			continue
		}
		distinct := map[string]bool{}
		for _, w := range words {
			distinct[w] = true
		}
		if len(distinct) < 2 {
			continue
		}
		offset, length := int64(k.at), c.reach(all, k.at, k.encoding, words)
		where := fmt.Sprintf("byte 0x%X, %d bytes, %s", max(k.at, 0), length, k.encoding)
		if k.at < 0 {
			where = fmt.Sprintf("%d bytes before the end, %d bytes, %s", -k.at, length, k.encoding)
		}
		cost := 3
		if strings.HasPrefix(k.encoding, "utf-16") && k.at%2 != 0 { // as it looks from the other half of its characters
			cost++
		}
		if k.at >= mostOffsets || k.at < -mostOffsets { // headers are short
			cost++
		}
		add(&place{marker: loader.Marker{Syntax: loader.Binary}, where: where, cost: cost,
			cut: goesOn(all, k.at, k.encoding, words), within: behindSpace(all, k.at, words),
			read: loader.Reading{Offset: &offset, Length: int64(length), Encoding: k.encoding}})
	}
}

// behindSpace reports whether a space and a letter stand in front of a place in all.
func behindSpace(all [][]byte, at int, words map[int]string) bool {
	for i := range words {
		from := at
		if at < 0 {
			from += len(all[i])
		}
		if !behindWord(all[i], from) {
			return false
		}
	}
	return true
}

// behindWord reports whether a word and a space stand in front of a place, or a word in front of its own space.
func behindWord(b []byte, at int) bool {
	if at < len(b) && b[at] == ' ' {
		at++
	}
	return at > 1 && b[at-1] == ' ' && b[at-2] > ' ' && b[at-2] < 0x7F
}

// goesOn reports whether another letter or digit follows most of the words.
func goesOn(all [][]byte, at int, encoding string, words map[int]string) bool {
	n := 0
	for i, w := range words {
		from := at
		if at < 0 {
			from += len(all[i])
		}
		b, _ := infer.Encoded(w, encoding)
		if from += len(b); from < len(all[i]) && (unicode.IsLetter(rune(all[i][from])) ||
			unicode.IsDigit(rune(all[i][from]))) {
			n++
		}
	}
	return n*2 > len(words)
}

// whole has words be as long as the texts that begin with them, where nothing follows most of them: of some, less is
// known than stands there.
func whole(all [][]byte, at int, encoding string, words map[int]string, step int) map[int]string {
	out := map[int]string{}
	longer := 0
	for i, w := range words {
		from := at
		if at < 0 {
			from += len(all[i])
		}
		b, _ := infer.Encoded(w, encoding)
		end := from + len(b)
		for end+step <= len(all[i]) && isText(all[i][end:end+step], encoding) {
			end += step
		}
		out[i] = strings.TrimRight(reading.Decode(all[i][from:end], encoding), " ")
		if len(out[i]) > len(w) {
			longer++
		}
	}
	if longer*2 > len(words) {
		return words
	}
	return out
}

// reach is how many bytes a field has at most in which the words stand, and nothing else.
func (c *class) reach(all [][]byte, at int, encoding string, words map[int]string) int {
	length := 0
	for _, w := range words {
		b, _ := infer.Encoded(w, encoding)
		length = max(length, len(b))
	}
	step := 1
	if strings.HasPrefix(encoding, "utf-16") {
		step = 2
	}
	words = whole(all, at, encoding, words, step)
	for _, w := range words {
		b, _ := infer.Encoded(w, encoding)
		length = max(length, len(b))
	}
	for n := length + step; n <= max(length, longestField); n += step {
		for i, w := range words {
			from := at
			if at < 0 {
				from += len(all[i])
			}
			b, _ := infer.Encoded(w, encoding)
			if from+n > len(all[i]) || strings.Trim(string(all[i][from+len(b):from+n]), "\x00 ") != "" ||
				strings.TrimRight(reading.Decode(all[i][from:from+n], encoding), " ") != w {
				return n - step
			}
		}
	}
	return max(length, longestField) // nothing ends it that counts
}

// longestField is how many bytes a field has that nothing ends.
const longestField = 128
