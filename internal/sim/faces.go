package sim

import (
	"image"
	_ "image/jpeg" // what consoles show
	"io/fs"
	"path"
	"strings"
)

// face is the picture that a console shows for a game: a JPEG of at most so many pixels under exactly that path, ""
// where there is none that it shows.
func face(fsys fs.FS, dir, name string, width, height int, cased bool) string {
	at, files, err := folderAs(fsys, dir, cased)
	if err != nil || at == "" {
		return ""
	}
	for _, f := range files {
		if f.IsDir() || f.Name() != name && (cased || !strings.EqualFold(f.Name(), name)) {
			continue
		}
		in, err := fsys.Open(path.Join(at, f.Name()))
		if err != nil {
			return ""
		}
		defer in.Close()
		head, format, err := image.DecodeConfig(in)
		if err != nil || format != "jpeg" || head.Width > width || head.Height > height {
			return ""
		}
		return path.Join(at, f.Name())
	}
	return ""
}
