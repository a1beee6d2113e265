package scan

import (
	"path/filepath"
	"slices"
	"strings"

	"polytome/internal/core/title"
)

// besideKinds are extensions of files that belong to titles, and what they are.
var besideKinds = map[string]string{
	".jpg": "cover", ".jpeg": "cover", ".png": "cover", ".gif": "cover", ".webp": "cover", ".bmp": "cover",
	".pdf": "manual", ".txt": "notes", ".nfo": "notes", ".md": "notes", ".htm": "notes", ".html": "notes",
	".about": "notes", ".doc": "notes",
	".ips": "patch", ".bps": "patch", ".ups": "patch", ".xdelta": "patch", ".vcdiff": "patch",
	".sfv": "checksums", ".md5": "checksums", ".sha1": "checksums", ".sha256": "checksums",
	".csv": "notes", ".log": "notes", ".xml": "notes", ".json": "notes", ".toml": "notes", ".m3u": "playlist",
}

func isBeside(name string) bool { return besideKinds[strings.ToLower(filepath.Ext(name))] != "" }

// besides finds the files that belong to titles: those with a title's base name, and, in a folder
// with one title, all.
func (l *look) besides(used map[string]bool) {
	stem := func(name string) string {
		return strings.ToLower(strings.TrimSuffix(name, filepath.Ext(name)))
	}
	owner, own := map[string]int{}, map[int]bool{}
	for i := range l.titles {
		owner[stem(base(l.titles[i].Source()))] = i
	}
	for i := range l.all {
		it := &l.all[i]
		kind := besideKinds[strings.ToLower(filepath.Ext(it.name))]
		path := filepath.Join(l.dir, it.name)
		if it.kind != isFile || kind == "" || used[path] || skipped(it.name) {
			continue
		}
		at, ok := owner[stem(it.name)]
		// such as the picture of its disc
		if game, of := title.MarkOf(stem(it.name)); !ok && kind == "cover" && of != "" {
			at, ok = owner[game]
		}
		if !ok && len(l.titles) == 1 && !l.root {
			at, ok = 0, true
		}
		if !ok {
			continue
		}
		if !own[at] { // they were published
			own[at] = true
			l.titles[at].Discs = slices.Clone(l.titles[at].Discs)
		}
		d := &l.titles[at].Discs[0]
		d.Beside = append(d.Beside, title.Beside{Kind: kind, File: it.file(path)})
		used[path] = true
	}
}
