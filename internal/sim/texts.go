package sim

import (
	"io/fs"
	"slices"
	"strings"
)

// This file holds what the consoles have in common about names and texts: see docs/consoles/in-common.md.

// ofSystems are files and folders that operating systems leave on a drive, in small letters.
var ofSystems = []string{".ds_store", "thumbs.db", "desktop.ini", ".directory", "__macosx", "system volume information",
	"$recycle.bin", "recycler", "#recycle", "@eadir", "lost+found", ".trashes", ".fseventsd", ".spotlight-v100"}

// leftBySystem reports whether a file or folder of that name is one that a system has left.
func leftBySystem(name string) bool {
	return strings.HasPrefix(name, "._") || slices.Contains(ofSystems, strings.ToLower(name))
}

// ReadDir lists a folder without what systems leave.
func (v Volume) ReadDir(name string) ([]fs.DirEntry, error) {
	all, err := fs.ReadDir(v.FS, name)
	return slices.DeleteFunc(all, func(e fs.DirEntry) bool { return leftBySystem(e.Name()) }), err
}

// linesOf are the lines of a text that say something, without the spaces around them.
func linesOf(text string) (out []string) {
	for _, line := range strings.FieldsFunc(strings.TrimPrefix(text, "\uFEFF"),
		func(r rune) bool { return r == '\n' || r == '\r' }) {
		if line = strings.TrimSpace(line); line != "" {
			out = append(out, line)
		}
	}
	return out
}

// settingsOf reads lines key=value: keys in small letters, of each the first.
func settingsOf(text string) map[string]string {
	out := map[string]string{}
	for _, line := range linesOf(text) {
		if k, v, ok := strings.Cut(line, "="); ok && line[0] != '#' && line[0] != ';' {
			k = strings.ToLower(strings.TrimSpace(k))
			if _, twice := out[k]; !twice {
				out[k] = strings.TrimSpace(v)
			}
		}
	}
	return out
}

// namedIn are the files that a playlist names.
func namedIn(text string) []string {
	return slices.DeleteFunc(linesOf(text), func(line string) bool { return line[0] == '#' })
}
