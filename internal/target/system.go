package target

import (
	"slices"
	"strings"
)

// systemFolders are those in which systems and network boxes keep what is theirs, in small letters.
var systemFolders = []string{"$recycle.bin", "#recycle", "system volume information", "lost+found", "recycler",
	"@eadir", "__macosx", ".trashes", ".fseventsd", ".spotlight-v100"}

// systemFiles are files that systems leave beside others, in small letters.
var systemFiles = []string{".ds_store", "thumbs.db", "desktop.ini", ".directory"}

// IsSystemFolder reports whether a folder of that name is one of the system's.
func IsSystemFolder(name string) bool { return slices.Contains(systemFolders, strings.ToLower(name)) }

// OfSystem reports whether a file or folder of a target is something that a system has left there by itself: what it
// knows about files (._name), pictures of a folder, waste. It is no game, whatever its extension.
func OfSystem(path string) bool {
	var name string
	for name = range strings.SplitSeq(path, "/") {
		if IsSystemFolder(name) {
			return true
		}
	}
	return strings.HasPrefix(name, "._") || slices.Contains(systemFiles, strings.ToLower(name))
}
