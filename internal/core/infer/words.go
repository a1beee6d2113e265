package infer

import "strings"

// WordIn is where a text has a word that is no part of a longer one; -1 for nowhere.
func WordIn(text, word string) int {
	letter := func(c byte) bool {
		return c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' || c >= 0x80
	}
	for from := 0; ; {
		at := strings.Index(text[from:], word)
		if at < 0 {
			return -1
		}
		at += from
		end := at + len(word)
		if (at == 0 || !letter(text[at-1]) || !letter(word[0])) &&
			(end == len(text) || !letter(text[end]) || !letter(word[len(word)-1])) &&
			(end+1 >= len(text) || text[end] != ' ' || !digit(text[end+1])) {
			return at
		}
		from = at + 1
	}
}

func digit(c byte) bool { return c >= '0' && c <= '9' }
