package sim

import (
	"io/fs"
	"path"
	"slices"
	"strings"
)

// Trellis is the Meridian's loader, looking at the internal disk or a stick. See
// docs/consoles/meridian-trellis.md. A target that does not say which filesystem it is, is the internal disk.
type Trellis struct{}

// List reads a disk or stick.
func (Trellis) List(disk fs.FS) (*Listing, error) {
	disk = about(disk)
	l := &Listing{}
	v := about(disk)
	stick := v.Filesystem != ""
	if stick && !v.is("fat32", "exfat") {
		return l.sort(), nil
	}
	cased := !stick
	read := func(name string) (string, []fs.DirEntry, error) { return folderAs(disk, name, cased) }
	is := func(got, want string) bool { return got == want || !cased && strings.EqualFold(got, want) }
	if !stick {
		at, games, err := read("GAMES")
		if err != nil {
			return nil, err
		}
		for _, g := range games {
			p := path.Join(at, g.Name())
			if !g.IsDir() {
				l.pass(p, "a loose file")
				continue
			}
			sys, files, err := read(path.Join(p, "SYS"))
			if err != nil {
				return nil, err
			}
			i := slices.IndexFunc(files, func(e fs.DirEntry) bool { return !e.IsDir() && is(e.Name(), "TITLE.JSON") })
			if i < 0 || !meridianID.MatchString(strings.ToUpper(g.Name())) {
				l.pass(p, "no Meridian game")
				continue
			}
			b, err := fs.ReadFile(disk, path.Join(sys, files[i].Name()))
			if err != nil {
				return nil, err
			}
			l.add(g.Name(), p, g.Name(), titleJSON(b, g.Name()))
		}
	}
	served := map[string]string{"IMG-S": "siskin"}
	if v.Filesystem != "fat32" {
		served["IMG-V"] = "vesper"
	}
	for dir, platform := range served {
		at, files, err := read(dir)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			p := path.Join(at, f.Name())
			switch {
			case !f.IsDir() && is(path.Ext(f.Name()), ".iso") && !strings.ContainsAny(f.Name(), `<>:"|?*\`):
				l.add(base(f.Name()), p, "", gameWhy(disk, p, platform))
				l.Games[len(l.Games)-1].Face = face(disk, at, base(f.Name())+".jpg", 400, 400, cased)
			case is(path.Ext(f.Name()), ".jpg"):
			default:
				l.pass(p, "no image")
			}
		}
	}
	if v.Filesystem == "fat32" {
		return l.sort(), nil
	}
	at, files, err := read("IMG-L")
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		if p := path.Join(at, f.Name()); is(path.Ext(f.Name()), ".cue") && !f.IsDir() && !strings.ContainsAny(f.Name(),
			`<>:"|?*\`) {
			l.add(base(f.Name()), p, "", tracksWhy(disk, p, files, cased))
			l.Games[len(l.Games)-1].Face = face(disk, at, base(f.Name())+".jpg", 400, 400, cased)
		}
	}
	return l.sort(), nil
}
