package bench

import (
	"bytes"
	"maps"
	"slices"
	"strings"
)

// A remark is the comments of one key or table of a file: the lines above it, and what stands behind
// it.
type remark struct {
	above  []string
	behind string
}

// remarks are the comments of a file by what they are about. What is behind the last key has
// the empty name.
type remarks map[string]remark

// A statement is one key with its value, or the heading of a table.
type statement struct {
	text   string   // without comments
	above  []string // comment lines and empty lines above it
	behind string   // a comment on its line
	table  bool
}

// comments gathers the comments of a bench file.
func comments(text []byte) remarks {
	text = bytes.TrimPrefix(text, []byte(heading))
	out := remarks{}
	all, rest := statements(string(text))
	names := named(all)
	for i, s := range all {
		if r := (remark{trimmed(s.above), s.behind}); len(r.above) > 0 || r.behind != "" {
			out[names[i]] = r
		}
	}
	if rest = trimmed(rest); len(rest) > 0 {
		out[""] = remark{above: rest}
	}
	return out
}

// trimmed leaves the empty lines at both ends out, and the lines of an older heading.
func trimmed(lines []string) []string {
	var out []string
	for _, l := range lines {
		if l = strings.TrimSpace(l); strings.Contains(heading, l+"\n") && l != "" || strings.HasPrefix(l,
			"# Polytome rewrites this file on every change") {
			continue
		}
		if l != "" || len(out) > 0 {
			out = append(out, l)
		}
	}
	for len(out) > 0 && out[len(out)-1] == "" {
		out = out[:len(out)-1]
	}
	return out
}

// weave puts comments back into a file that was written again. Those about keys that it no longer has
// go to its end, so that nothing a person wrote is lost.
func weave(text []byte, r remarks) []byte {
	if len(r) == 0 {
		return text
	}
	all, _ := statements(string(text))
	names := named(all)
	var b bytes.Buffer
	used := map[string]bool{"": true}
	for i, s := range all {
		for _, l := range s.above {
			b.WriteString(l + "\n")
		}
		of := r[names[i]]
		used[names[i]] = true
		for _, l := range of.above {
			b.WriteString(l + "\n")
		}
		b.WriteString(s.text)
		if of.behind != "" {
			b.WriteString(" " + of.behind)
		}
		b.WriteByte('\n')
	}
	end := append([]string(nil), r[""].above...)
	for _, name := range slices.Sorted(maps.Keys(r)) {
		if used[name] {
			continue
		}
		end = append(end, r[name].above...)
		if r[name].behind != "" {
			end = append(end, r[name].behind)
		}
	}
	if len(end) > 0 {
		b.WriteString("\n" + strings.Join(end, "\n") + "\n")
	}
	return b.Bytes()
}

// identities are the keys that distinguish the tables of a list.
var identities = []string{"name", "path", "file"}

// named gives every statement a name that it keeps when others come or go: the table that it is in,
// with what tells it from its like, and its key.
func named(all []statement) []string {
	out := make([]string, len(all))
	table := ""
	for i, s := range all {
		if !s.table {
			key, _, _ := strings.Cut(s.text, "=")
			out[i] = table + "\x00" + strings.Trim(strings.TrimSpace(key), `"'`)
			continue
		}
		title := strings.Trim(s.text, "[] ")
		if strings.HasPrefix(s.text, "[[") {
			table = title + "\x01" + identity(all[i+1:])
		} else if above, _, ok := strings.Cut(table, "\x01"); ok && strings.HasPrefix(title, above+".") {
			table, _, _ = strings.Cut(table, "\x02")
			table += "\x02" + title
		} else {
			table = title
		}
		out[i] = table
	}
	return out
}

// identity is what tells a table of a list from the others.
func identity(rest []statement) string {
	for _, s := range rest {
		if s.table {
			break
		}
		key, value, _ := strings.Cut(s.text, "=")
		for _, id := range identities {
			if strings.TrimSpace(key) == id {
				return strings.Trim(strings.TrimSpace(value), `"'`)
			}
		}
	}
	return ""
}

// statements takes a TOML file apart, as far as comments need it: strings and lists may go over
// several lines. What stands behind the last statement comes back apart.
func statements(text string) (all []statement, rest []string) {
	var above []string
	for len(text) > 0 {
		line, _, _ := strings.Cut(text, "\n")
		t := strings.TrimSpace(line)
		if t == "" || t[0] == '#' {
			above = append(above, strings.TrimRight(line, "\r"))
			text = text[min(len(line)+1, len(text)):]
			continue
		}
		s := statement{above: above, table: t[0] == '['}
		var n int
		var inside []string
		s.text, s.behind, inside, n = value(text, s.table)
		s.above = append(s.above, inside...)
		all, above = append(all, s), nil
		text = text[n:]
	}
	return all, above
}

// value reads one statement: to the end of its line, outside of strings and lists. It returns it
// without comments, what stands behind it, the comments within it, and its length.
func value(text string, table bool) (s, behind string, inside []string, n int) {
	var b strings.Builder
	depth := 0
	for n < len(text) {
		c := text[n]
		switch {
		case c == '\n' && (depth <= 0 || table):
			return strings.TrimSpace(b.String()), behind, inside, n + 1
		case c == '#':
			end := strings.IndexByte(text[n:], '\n')
			if end < 0 {
				end = len(text) - n
			}
			comment := strings.TrimSpace(text[n : n+end])
			if depth > 0 && !table {
				inside = append(inside, comment)
			} else {
				behind = comment
			}
			n += end
			continue
		case c == '"' || c == '\'':
			end := quoted(text[n:])
			b.WriteString(text[n : n+end])
			n += end
			continue
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			depth--
		}
		b.WriteByte(c)
		n++
	}
	return strings.TrimSpace(b.String()), behind, inside, n
}

// quoted is the length of the string that a text begins with.
func quoted(text string) int {
	q := text[:1]
	if strings.HasPrefix(text, q+q+q) {
		if end := strings.Index(text[3:], q+q+q); end >= 0 {
			return end + 6
		}
		return len(text)
	}
	for n := 1; n < len(text); n++ {
		switch {
		case text[n] == '\\' && q == `"`:
			n++
		case text[n:n+1] == q:
			return n + 1
		case text[n] == '\n':
			return n
		}
	}
	return len(text)
}
