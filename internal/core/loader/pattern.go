package loader

import (
	"path"
	"strings"
)

// MatchFile reports whether a path fits a pattern: * stands for anything in one
// name, ? for one character, ** for any folders. The case of letters is ignored.
func MatchFile(pattern, file string) bool {
	return matchParts(strings.Split(strings.ToLower(pattern), "/"), strings.Split(strings.ToLower(file), "/"))
}

func matchParts(pattern, file []string) bool {
	for len(pattern) > 0 {
		if pattern[0] == "**" {
			for i := range file {
				if len(pattern) == 1 || matchParts(pattern[1:], file[i:]) {
					return true
				}
			}
			return false
		}
		if len(file) == 0 {
			return false
		}
		if ok, err := path.Match(pattern[0], file[0]); !ok || err != nil {
			return false
		}
		pattern, file = pattern[1:], file[1:]
	}
	return len(file) == 0
}
