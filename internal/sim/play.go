package sim

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// saving is where a loader writes what a player reaches in a game, and how long that file always is; 0 for any length,
// "" for a loader or platform that saves nothing here.
var saving = map[string]func(stick fs.FS, g Game) (file string, size int){
	"rowan": func(stick fs.FS, g Game) (string, int) {
		return "ROWAN/cards/" + cardOr(stick, "TUNE/"+g.ID+".tune", g.ID) + ".crd", 6 << 20
	},
	"gantry": func(stick fs.FS, g Game) (string, int) {
		b, _ := fs.ReadFile(stick, path.Join(g.Path, "main.run"))
		if len(b) < 0x38 {
			return "", 0
		}
		return "saves/" + string(b[0x30:0x38]) + "/progress", 0
	},
	"oxbow": func(stick fs.FS, g Game) (string, int) {
		if at := path.Base(path.Dir(g.Path)); slices.Contains(oxbowPlatforms, at) {
			return "", 0
		}
		return base(g.Path) + ".hold", 0
	},
	"plover": func(_ fs.FS, g Game) (string, int) { return path.Join(g.Path, "saves", "slot"), 0 },
	"trellis": func(_ fs.FS, g Game) (string, int) {
		if path.Dir(g.Path) != "GAMES" {
			return "", 0
		}
		return "keep/" + path.Base(g.Path) + "/slot", 0
	},
	"mica": func(_ fs.FS, g Game) (string, int) { return "skua/saves/" + g.ID + ".hold", 0 },
	"bellows": func(stick fs.FS, g Game) (string, int) {
		if !strings.HasPrefix(g.Path, "Titles/") {
			return "", 0
		}
		if card := cardOr(stick, path.Join(g.Path, "title.toml"), ""); card != "" {
			return "bellows/cards/" + card + ".keep", 96 << 10
		}
		return path.Join(g.Path, "state", "slot 1"), 0
	},
}

// cardOr is the card that a title's settings name, or else another one.
func cardOr(stick fs.FS, settings, other string) string {
	b, err := fs.ReadFile(stick, settings)
	if err != nil {
		return other
	}
	for line := range strings.SplitSeq(string(b), "\n") {
		if key, value, ok := strings.Cut(line, "="); ok && strings.TrimSpace(key) == "card" {
			return strings.Trim(strings.TrimSpace(value), `"`)
		}
	}
	return other
}

// Play is what a loader writes when somebody plays a game and reaches something: the file, from the root, and its
// bytes; "" where nothing is saved here.
func Play(loader string, stick fs.FS, g Game, reached string) (file string, content []byte) {
	where, ok := saving[loader]
	if !ok || !g.Starts {
		return "", nil
	}
	file, size := where(stick, g)
	if file == "" {
		return "", nil
	}
	content = fmt.Appendf(nil, "%s: %s\n", g.Title, reached)
	if size > 0 {
		content = append(content, bytes.Repeat([]byte{0}, size-len(content))...)
	}
	return file, content
}

// Reached is what was written into a save, without what fills it up.
func Reached(save []byte) string { return string(bytes.TrimRight(save, "\x00")) }
