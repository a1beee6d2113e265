package learn

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	_ "image/jpeg" // to measure covers
	_ "image/png"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// a placed title has the values that files beside it are made of.
type placed struct {
	t     *title.Title
	whole loader.Values   // of the title
	discs []loader.Values // of each of its discs
	words []string        // that names of its files may have, the longest first
	facts loader.Values
}

// lay has the titles of the target where the draft's rules put them, with the values that follow from that. What the
// rules put elsewhere is left out.
func (s *student) lay() {
	p, err := loader.ParseProfile("draft.toml", []byte(s.d.TOML()))
	if err != nil {
		s.placed = nil
		return // it is said when the draft is saved
	}
	titles, where := s.titles()
	s.place(layout.Lay(titles, p, layout.Destination{Attachment: &p.Attachments[0],
		Filesystem: s.look.Facts.Filesystem, Set: s.set}), titles, where)
}

// place takes those titles that are where a tree puts them.
func (s *student) place(tree *layout.Tree, titles []title.Title, where map[string]string) {
	s.placed = nil
	fs := s.look.Facts.Filesystem
	for i := range titles {
		t := &titles[i]
		pl := &tree.Placements[i]
		is := fs.Fold(where[t.Key])
		if pl.Refusal != nil || fs.Fold(pl.Items[0].Path) != is && !strings.HasPrefix(fs.Fold(pl.Items[0].Path),
			is+"/") {
			continue
		}
		x := &placed{t: t, discs: tree.Values(i), facts: layout.Facts(t, loader.Here{})}
		x.whole = layout.OfTitle(pl.Name, x.discs).Values
		x.facts[loader.FieldParts] = x.whole[loader.FieldParts]
		for d := range x.discs {
			for _, f := range wordFields {
				w := strings.ToLower(x.discs[d][f])
				if f == loader.FieldFolder {
					w = path.Base(w)
				}
				if len(w) > 2 && !slices.Contains(x.words, w) {
					x.words = append(x.words, w)
				}
			}
		}
		if w := strings.ToLower(x.whole[loader.FieldTitle]); !slices.Contains(x.words, w) {
			x.words = append(x.words, w)
		}
		s.placed = append(s.placed, x)
	}
	type word struct{ platform, text string }
	of := map[word]int{} // how many titles have it: a folder of all titles is no word of one
	for _, x := range s.placed {
		for _, w := range x.words {
			of[word{x.t.Platform, w}]++
		}
	}
	for _, x := range s.placed {
		x.words = slices.DeleteFunc(x.words, func(w string) bool { return len(w) < 2 || of[word{x.t.Platform, w}] > 1 })
	}
}

var wordFields = []loader.Field{loader.FieldBase, loader.FieldID, loader.FieldTitle, loader.FieldName,
	loader.FieldFolder}

// unexplained are the files that nothing accounts for yet.
func (s *student) unexplained() (out []target.Entry) {
	for _, e := range s.look.Entries {
		if !e.Folder && s.used[e.Path] == "" && !target.IsTemporary(e.Path) && !target.OfSystem(e.Path) &&
			!slices.ContainsFunc(layout.Folders(e.Path),
				func(dir string) bool { return s.used[dir] != "" && s.isFolder(dir) }) {
			out = append(out, e)
		}
	}
	return out
}

// isFolder reports whether a path is that of a title which is a folder.
func (s *student) isFolder(dir string) bool {
	return slices.ContainsFunc(s.all, func(x *sample) bool { return x.path == dir && x.t.Form == title.Folder })
}

// near is a file that belongs to a title.
type near struct {
	entry target.Entry
	of    *placed
	disc  int // whose name it has; -1 for that of the whole title
}

// belongs finds the title that a file is named after: of several that whose name is the longest in its path, and of
// those of several platforms that whose folder or platform is in it too.
func (s *student) belongs(file string) *near {
	var best *near
	most := 0
	folded := strings.ToLower(file)
	for _, x := range s.placed {
		length := 0
		for _, w := range x.words {
			if len(w) > length && strings.Contains(folded, w) {
				length = len(w)
			}
		}
		if length == 0 {
			continue
		}
		score := 4 * length
		if path.Dir(file) == x.whole[loader.FieldFolder] {
			score += 2
		}
		if slices.Contains(strings.Split(folded, "/"), strings.ToLower(x.t.Platform)) {
			score++
		}
		if score > most {
			best, most = &near{of: x, disc: -1}, score
		}
	}
	if best == nil || len(best.of.discs) < 2 {
		return best
	}
	length := 0
	base := strings.ToLower(path.Base(file))
	for d := range best.of.discs {
		for _, f := range []loader.Field{loader.FieldBase, loader.FieldID} {
			w := strings.ToLower(best.of.discs[d][f])
			if len(w) > length && strings.Contains(base, w) {
				best.disc, length = d, len(w)
			}
		}
	}
	return best
}

// values are what the file's path and text may be made of.
func (n *near) values(perDisc bool) loader.Values {
	if perDisc && n.disc >= 0 {
		return n.of.discs[n.disc]
	}
	return n.of.whole
}

var companionFields = []loader.Field{loader.FieldFolder, loader.FieldBase, loader.FieldTitle, loader.FieldID,
	loader.FieldName, loader.FieldDisc, loader.FieldKind, loader.FieldRegion, loader.FieldPlatform, loader.FieldNumber}

// copies are names that computers make of a name that is taken.
var copies = regexp.MustCompile(`(?i)( \([0-9]+\)| - copy|~)(\.[^.]*)?$`)

// companions finds files that are named as games are.
func (s *student) companions() {
	clusters := map[string][]*near{} // by extension
	var order []string
	for _, e := range s.unexplained() {
		n := s.belongs(e.Path)
		if n == nil || copies.MatchString(e.Path) {
			continue
		}
		n.entry = e
		ext := strings.ToLower(path.Ext(e.Path))
		if clusters[ext] == nil {
			order = append(order, ext)
		}
		clusters[ext] = append(clusters[ext], n)
	}
	for _, ext := range order {
		// what no rule for all of them makes may be of one depth, or of one folder
		s.companionsBy(clusters[ext], []func(p string) string{
			func(string) string { return "" },
			func(p string) string { return strconv.Itoa(strings.Count(p, "/")) },
			path.Dir,
		})
	}
}

// companionsBy finds rules for files that are divided in the first way, and for those that no rule makes in the next.
func (s *student) companionsBy(all []*near, ways []func(p string) string) {
	if len(ways) == 0 || len(all) == 0 {
		return
	}
	parts := map[string][]*near{}
	var keys []string
	for _, n := range all {
		key := ways[0](n.entry.Path)
		if parts[key] == nil {
			keys = append(keys, key)
		}
		parts[key] = append(parts[key], n)
	}
	for _, key := range keys {
		s.companionsBy(s.companion(parts[key], len(ways) > 1 && len(parts[key]) > 2), ways[1:])
	}
}

// companion finds the rule for files of one kind, and returns those that it does not make; whole asks for one that
// makes more than half of them.
func (s *student) companion(all []*near, whole bool) (left []*near) {
	perDisc := false
	for i, n := range all {
		perDisc = perDisc || slices.ContainsFunc(all[:i], func(o *near) bool { return o.of == n.of })
	}
	var rows []infer.Row
	for _, n := range all {
		v := n.values(perDisc)
		text := n.entry.Path
		if path.Dir(text) == v[loader.FieldFolder] {
			text = v[loader.FieldFolder] + "/" + path.Base(text) // "." is the folder that all is in
		}
		rows = append(rows, infer.Row{Values: v, Text: text})
	}
	m, made := infer.Most(rows, infer.Options{Fields: companionFields, Whole: true, Fold: s.fold})
	var of []*near
	for i, n := range all {
		if made != nil && made[i] {
			of = append(of, n)
		} else {
			left = append(left, n)
		}
	}
	if len(of) == 0 || !strings.Contains(m.Text, "{") || len(all) > 1 && len(of) < 2 || whole && len(of)*2 <= len(all) {
		return all
	}
	first := of[0].entry.Path
	c := Companion{Path: m.Text, PerDisc: perDisc, Why: fmt.Sprintf("learnt from %s, such as %s",
		size.Count(len(of), "file"),
		first)}
	for _, n := range of {
		if !slices.Contains(c.Platforms, n.of.t.Platform) {
			c.Platforms = append(c.Platforms, n.of.t.Platform)
		}
	}
	some, others := s.with(of, c.Platforms)
	ext := strings.ToLower(path.Ext(first))
	switch ext {
	case ".jpg", ".jpeg", ".png":
		others = nil // there is not a picture of each title
		c.Is, c.Picture = "cover", strings.Replace(ext[1:], "jpeg", "jpg", 1)
		s.measure(&c, of)
	default:
		if !s.content(&c, of, perDisc) {
			s.doubted(first, "what must stand in files such as %s?", first)
			for _, n := range of {
				s.used[n.entry.Path] = Near
			}
			return left
		}
	}
	c.When = tells(some, others)
	for _, n := range of {
		s.used[n.entry.Path] = Near
	}
	how := Certain
	if len(of) < 3 || c.When == "" && len(others) > 0 || len(c.Keep) > 0 || strings.HasPrefix(c.When, "discs") &&
		!strings.Contains(c.Text, "{each}") { // with more discs it would say more
		how = Likely
	}
	when := ""
	if c.When != "" {
		when = " whose " + c.When
		if !strings.Contains(c.When, " ") {
			when = " with " + c.When
		}
	}
	s.d.Companions = append(s.d.Companions, c)
	s.find(how, fmt.Sprintf("each title%s has %s: %s", when, isWords[c.Is], c.Path), "%s, such as %s",
		size.Count(len(of), "file"), first)
	for _, n := range of {
		s.made(c.Path, n.entry.Path)
	}
	if c.When == "" && len(others) > 0 && c.Is != "cover" {
		s.doubted(first, "why has %s no file such as %s?", others[0].whole[loader.FieldName], first)
	}
	return left
}

var isWords = map[string]string{"cover": "a cover", "settings": "settings", "launcher": "a launcher",
	"playlist": "a playlist"}

// with divides the placed titles of some platforms into those that have a file and those that have none.
func (s *student) with(of []*near, platforms []string) (some, others []*placed) {
	for _, x := range s.placed {
		switch {
		case slices.ContainsFunc(of, func(n *near) bool { return n.of == x }):
			some = append(some, x)
		case slices.Contains(platforms, x.t.Platform):
			others = append(others, x)
		}
	}
	return some, others
}

// tells is the condition that separates some titles from others; "" where there is none, or no others.
func tells(some, others []*placed) string {
	if len(others) == 0 {
		return ""
	}
	samples := func(all []*placed) (out []*sample) {
		for _, x := range all {
			v := x.facts
			out = append(out, &sample{t: x.t, values: v, facts: v})
		}
		return out
	}
	return separates(samples(some), samples(others))
}

// read is the content of a file on the target, as far as texts are looked at.
func (s *student) read(file string) ([]byte, bool) {
	r, err := s.look.Open(file)
	if err != nil {
		return nil, false
	}
	defer r.Close()
	if r.Size() > maxText {
		return nil, false
	}
	b, err := io.ReadAll(io.NewSectionReader(r, 0, r.Size()))
	return b, err == nil
}

// maxText is the longest file whose content is looked at, in bytes.
const maxText = 256 << 10

var textFields = []loader.Field{loader.FieldFile, loader.FieldID, loader.FieldTitle, loader.FieldName,
	loader.FieldFolder,
	loader.FieldBase, loader.FieldIndex, loader.FieldDisc, loader.FieldDiscs, loader.FieldKind, loader.FieldRegion,
	loader.FieldPlatform, loader.FieldNumber, loader.FieldSize, loader.FieldParts, loader.FieldExt, loader.FieldForm}

// said are what texts mean by their whole value.
var said = []loader.Field{loader.FieldFile}

// content finds what stands in files of titles.
func (s *student) content(c *Companion, of []*near, perDisc bool) bool {
	var raw [][]byte
	var values []loader.Values
	for _, n := range of {
		b, ok := s.read(n.entry.Path)
		if !ok {
			return false
		}
		raw, values = append(raw, b), append(values, n.values(perDisc))
	}
	c.Is = "settings"
	as, text := teach.EncodingOf(raw)
	if !text {
		return s.patterned(c, raw, values)
	}
	c.Encoding = as
	var rows []infer.Row
	var texts []string
	var entries []infer.Entry
	several := false
	for i, b := range raw {
		t := layout.Decoded(as, string(b))
		rows = append(rows, infer.Row{Values: values[i], Text: t})
		texts, entries = append(texts, t), append(entries, infer.Entry{Values: values[i], Discs: of[i].of.discs})
		several = several || len(of[i].of.discs) > 1
	}
	for _, e := range escapes(texts[0]) {
		o := infer.Options{Fields: textFields, Said: said, Whens: []string{"index over 1"},
			Escape: e.do}
		each, repeats := infer.Made{}, false
		if several && !perDisc {
			each, repeats = infer.Each(texts, entries, o)
		}
		m, made := infer.Most(rows, o)
		if (slices.Contains(made, false) || made == nil) && !repeats {
			if usual, keys, syntax := withUsual(rows, o); len(keys) > 0 {
				again := slices.Clone(rows)
				for i := range again {
					again[i].Text = usual[i]
				}
				if whole, ok := infer.Template(again, o); ok {
					c.Text, c.Make = whole.Text, e.make
					s.takeOwnKeys(c, keys, syntax, of[0].entry.Path)
					return true
				}
			}
		}
		if repeats && each.Cost <= m.Cost {
			made = nil // what is said of each disc is no accident
		}
		agree := 0
		for i := range made {
			if made[i] {
				agree++
			}
		}
		if agree*10 >= len(rows)*7 && (len(rows) > 1 || strings.Contains(m.Text, "{")) {
			for i := range made {
				if !made[i] {
					s.doubted(of[i].entry.Path, "why does %s say something else than the other files of its kind?",
						of[i].entry.Path)
				}
			}
			c.Text, c.Make = m.Text, e.make
			if strings.Contains(c.Text, "{file") || strings.Contains(c.Text, "{folder") || strings.Contains(c.Text,
				"{base") {
				c.Is = "launcher" // it says which file to start
			}
			return true
		}
		if repeats {
			c.Text, c.Make, c.Is = each.Text, e.make, "playlist"
			return true
		}
	}
	return false
}

// patterned finds what stands at the places of files that are no text, and of one length.
func (s *student) patterned(c *Companion, raw [][]byte, values []loader.Values) bool {
	if len(raw) < 2 || len(raw[0]) == 0 || len(raw[0]) > 1<<16 || slices.ContainsFunc(raw, func(b []byte) bool {
		return len(b) != len(raw[0])
	}) {
		return false
	}
	fields, ok := infer.Bytes(raw, values, textFields)
	if !ok {
		return false
	}
	c.Length, c.Bytes = len(raw[0]), fields
	return true
}

// escape is how values are written in texts of a kind.
type escape struct {
	make string
	do   func(string) string
}

// escapes are those to try for a text.
func escapes(text string) (out []escape) {
	out = []escape{{}}
	switch text = strings.TrimSpace(text); {
	case json.Valid([]byte(text)):
		out = append([]escape{{"json", layout.Escape("json")}}, out...)
	case strings.HasPrefix(text, "<"):
		out = append([]escape{{"xml", layout.Escape("xml")}}, out...)
	}
	return out
}

// measure finds the largest width and height of pictures.
func (s *student) measure(c *Companion, of []*near) {
	for _, n := range of[:min(len(of), 50)] {
		b, ok := s.read(n.entry.Path)
		if !ok {
			continue
		}
		if cfg, _, err := image.DecodeConfig(bytes.NewReader(b)); err == nil {
			c.Width, c.Height = max(c.Width, cfg.Width), max(c.Height, cfg.Height)
		}
	}
}
