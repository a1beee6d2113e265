package learn

import (
	"path"
	"regexp"
	"strconv"
	"strings"
)

var (
	// ownField are the fields by which an entry is known.
	ownField = regexp.MustCompile(`\{(?:file|id|folder|base)\b`)
	jsonName = regexp.MustCompile(`"([^"\\]+)"\s*:\s*"?$`)
	xmlTag   = regexp.MustCompile(`<(/?)([A-Za-z_][A-Za-z0-9_.:-]*)[^<>]*?(/?)>`)
	xmlOpen  = regexp.MustCompile(`<([A-Za-z_][A-Za-z0-9_.:-]*)[^<>]*?\s([A-Za-z_][A-Za-z0-9_.:-]*)="$`)
)

// makeOf is the make of a list that its name and its lines tell, where values need no other writing; "" for plain
// lines.
func makeOf(file, line string) string {
	switch strings.ToLower(path.Ext(file)) {
	case ".csv":
		if strings.Contains(line, ",") {
			return "csv"
		}
	case ".ini", ".cfg":
		if strings.HasPrefix(line, "[{") {
			return "ini"
		}
	}
	return ""
}

// keyOf is by what the entries of a list of a make are known, as a profile has it: where its line has the game's file
// or ID; "" where it has neither.
func keyOf(make, line string) string {
	at := ownField.FindStringIndex(line)
	if at == nil {
		return ""
	}
	before := line[:at[0]]
	switch make {
	case "csv":
		return strconv.Itoa(strings.Count(before, ",") + 1)
	case "ini":
		if strings.HasPrefix(line, "["+line[at[0]:at[1]]) {
			return "[]"
		}
	case "json":
		if m := jsonName.FindStringSubmatch(before); m != nil {
			return m[1]
		}
	case "xml":
		attribute := ""
		if m := xmlOpen.FindStringSubmatch(before); m != nil {
			attribute = "/@" + m[2]
			before = before[:strings.LastIndex(before, "<")] + "<" + m[1] + ">"
		}
		var open []string
		for _, m := range xmlTag.FindAllStringSubmatch(before, -1) {
			switch {
			case m[1] == "/" && len(open) > 0:
				open = open[:len(open)-1]
			case m[1] == "" && m[3] == "":
				open = append(open, m[2])
			}
		}
		if len(open) > 0 {
			return strings.Join(open, "/") + attribute
		}
	}
	return ""
}
