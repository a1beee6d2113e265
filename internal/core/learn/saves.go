package learn

import (
	"path"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/infer"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/teach"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A Save is where what players reach in titles lies.
type Save struct {
	Platforms []string
	Path      string // of the file, or of its folder
	Beside    string // extension of a file beside the game, with its name
	Folder    bool
	Size      int64 // of each; 0 for any
	Why       string
}

// sincePlayed is by how much a file is newer than the newest game when somebody has played since.
const sincePlayed = time.Minute

var saveFields = []loader.Field{loader.FieldID, loader.FieldTitle, loader.FieldName, loader.FieldPlatform,
	loader.FieldDisc}

// saves finds what players have reached: files that are named as games are, or lie in folders that are, that changed
// after the last game came, and hold no text.
func (s *student) saves() {
	var filled time.Time
	for _, e := range s.look.Entries {
		if s.used[e.Path] == Game && e.Modified.After(filled) {
			filled = e.Modified
		}
	}
	if filled.IsZero() {
		return
	}
	clusters := map[string][]*near{}
	var order []string
	for _, e := range s.unexplained() {
		n := s.inFolderOf(e.Path)
		if n == nil {
			n = s.belongs(e.Path)
		}
		if n == nil || !s.look.played(&e, filled) {
			continue
		}
		n.entry = e
		key := strings.ToLower(path.Ext(e.Path))
		if dir := s.ownFolder(n); dir != "" {
			key = "in a folder"
		}
		if clusters[key] == nil {
			order = append(order, key)
		}
		clusters[key] = append(clusters[key], n)
	}
	for _, key := range order {
		s.save(clusters[key], key == "in a folder")
	}
}

func isPicture(file string) bool {
	return slices.Contains([]string{".jpg", ".jpeg", ".png", ".bmp"}, strings.ToLower(path.Ext(file)))
}

// played reports whether a file may be what somebody reached: it changed after the last game came, and holds anything
// but text and pictures.
func (l *Look) played(e *target.Entry, filled time.Time) bool {
	if e.Folder || filled.IsZero() || !e.Modified.After(filled.Add(sincePlayed)) || isPicture(e.Path) {
		return false
	}
	c, err := l.Open(e.Path)
	if err != nil {
		return false
	}
	defer c.Close() // which was read from
	b := make([]byte, min(c.Size(), 4096))
	n, _ := c.ReadAt(b, 0)
	_, text := teach.EncodingOf([][]byte{b[:n]})
	return n > 0 && !text
}

// inFolderOf finds the title in whose own folder a file lies; nil for none.
func (s *student) inFolderOf(file string) *near {
	above := layout.Folders(file)
	for _, x := range s.placed {
		folder := x.whole[loader.FieldFolder]
		if slices.Contains(above, path.Join(folder, x.whole[loader.FieldBase])) ||
			slices.Contains(above, folder) && slices.Contains(x.words, strings.ToLower(path.Base(folder))) {
			return &near{of: x, disc: -1}
		}
	}
	return nil
}

// ownFolder is the folder of the title's own in which a file lies: one that is named after it, or the first one below
// the folder that the game is in, where that is the title's alone; "" for none.
func (s *student) ownFolder(n *near) string {
	parts := strings.Split(path.Dir(n.entry.Path), "/")
	for i, part := range parts {
		if !slices.Contains(n.of.words, strings.ToLower(part)) {
			continue
		}
		dir := strings.Join(parts[:i+1], "/")
		if folder := n.of.whole[loader.FieldFolder]; strings.EqualFold(dir, folder) ||
			strings.EqualFold(dir, path.Join(folder, n.of.whole[loader.FieldBase])) { // the game lies there itself
			if i+1 == len(parts) {
				return ""
			}
			dir = strings.Join(parts[:i+2], "/")
		}
		return dir
	}
	return ""
}

// save finds the rule for saves of one kind.
func (s *student) save(all []*near, folder bool) {
	r := Save{Folder: folder}
	var rows []infer.Row
	beside := path.Ext(all[0].entry.Path)
	for _, n := range all {
		v, text := n.values(true), n.entry.Path
		if folder {
			text = s.ownFolder(n)
		} else if path.Dir(text) != v[loader.FieldFolder] || path.Base(text) != v[loader.FieldBase]+path.Ext(text) {
			beside = ""
		}
		rows = append(rows, infer.Row{Values: v, Text: text})
	}
	made := make([]bool, len(all))
	if beside != "" && !folder {
		r.Beside = beside
		for i := range made {
			made[i] = true
		}
	} else {
		var m infer.Made
		if m, made = infer.Most(rows, infer.Options{Fields: saveFields, Whole: true, Fold: s.fold}); made == nil ||
			!strings.Contains(m.Text, "{") {
			return
		}
		r.Path = m.Text
	}
	titles, alike := map[string]bool{}, true
	var of []*near
	for i, n := range all {
		if !made[i] {
			continue
		}
		of = append(of, n)
		titles[n.of.t.Key] = true
		alike = alike && n.entry.Size == of[0].entry.Size
		if !slices.Contains(r.Platforms, n.of.t.Platform) {
			r.Platforms = append(r.Platforms, n.of.t.Platform)
		}
	}
	if len(of) == 0 {
		return
	}
	first := of[0].entry.Path
	for _, n := range of {
		s.used[n.entry.Path] = Played
	}
	if alike && len(titles) > 1 && !folder {
		r.Size = of[0].entry.Size
	}
	slices.Sort(r.Platforms)
	r.Why = "learnt from " + size.Count(len(of), "file") + " that changed after the games came, such as " + first
	s.d.Saves = append(s.d.Saves, r)
	how, say := Guess, "what players reach lies beside the game, with the extension "+r.Beside
	if r.Path != "" {
		say = "what players reach lies in " + r.Path
	}
	if len(titles) > 1 {
		how = Likely
	}
	s.find(how, say, "%s changed after the last game came, and no text, such as %s", size.Count(len(of), "file"), first)
	if r.Path != "" && !folder {
		for _, n := range of {
			s.made(r.Path, n.entry.Path)
		}
	}
}
