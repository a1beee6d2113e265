package layout

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/picture"
)

// A Companion is a file that exists because of a title, named after the title's own
// final names.
type Companion struct {
	Item
	Is   string            `json:"is"`   // cover, settings, launcher or playlist
	From *loader.Companion `json:"-"`    // the rule that it comes from
	Of   int               `json:"-"`    // index of its title
	Base string            `json:"base"` // base name of the game that it belongs to
}

// Companions are the files that belong to title i and do not decide whether it starts: covers,
// whose source is empty while none is known, and settings. Playlists and launchers are among its
// items.
func (t *Tree) Companions(i int) []Companion {
	if t.whole != nil || t.apart() {
		return nil
	}
	return t.companions(i)
}

func (t *Tree) companions(i int) []Companion {
	p, tt := &t.Placements[i], &t.titles[i]
	if p.Refusal != nil {
		return nil
	}
	var out []Companion
	for k := range t.l.p.Companions {
		c := &t.l.p.Companions[k]
		if c.Decides() {
			continue
		}
		for _, m := range t.l.companions(tt, p, c) {
			m.Of = i
			out = append(out, m)
		}
	}
	return out
}

// A Beside is a companion that can be written: a text, or a cover for which there is a picture. It is
// small, as there is one for every title; see [Tree.Companion].
type Beside struct {
	Path string
	Size int64
	Spec *loader.Companion
	Disc int32
}

// Beside are the companions of title i that can be written, with covers only where they are wanted.
func (t *Tree) Beside(i int, covers bool) (out []Beside) {
	p, tt := &t.Placements[i], &t.titles[i]
	if p.Refusal != nil || t.whole != nil || t.apart() {
		return nil
	}
	for k := range t.l.p.Companions {
		c := &t.l.p.Companions[k]
		if c.Decides() || c.Is == "cover" && (!covers || !slices.ContainsFunc(tt.Pictures,
			func(p title.Picture) bool { return p.Of == c.Picture.Of })) {
			continue
		}
		for _, m := range t.l.companions(tt, p, c) {
			if m.Shape != shape.Fitted || m.Source.Path != "" {
				out = append(out, Beside{m.Path, m.Size, c, int32(m.Disc)})
			}
		}
	}
	return out
}

// Companion is the whole of what stands beside title i.
func (t *Tree) Companion(i int, b *Beside) Companion {
	c := Companion{Item: Item{Disc: int(b.Disc), Path: b.Path, Rule: b.Spec.Why, Spec: shape.Spec{Size: b.Size,
		Shape: shape.Written}}, Is: b.Spec.Is, From: b.Spec, Of: i}
	if b.Spec.Is == "cover" {
		c.Shape, c.AtMost = shape.Fitted, true
		c.Source, c.With = pictureFor(&t.titles[i], int(b.Disc), b.Spec)
		return c
	}
	if text, ok := b.Spec.Text.Constant(); ok && b.Spec.IsText() {
		c.Text = shape.Text(CompanionContent(b.Spec, text))
		return c
	}
	for _, m := range t.l.companions(&t.titles[i], &t.Placements[i], b.Spec) {
		if m.Path == b.Path {
			c.Spec = m.Spec
		}
	}
	return c
}

// companions are what one rule makes for a title: a file, or one for each disc.
func (l *layer) companions(t *title.Title, p *Placement, c *loader.Companion) (out []Companion) {
	if !c.Match(t.Platform, t.Form, l.destination.attachment(), l.destination.Filesystem.Name) {
		return nil
	}
	if !c.When.Empty() && !c.When.Holds(l.factsAt(t, p)) {
		return nil
	}
	discs := 1
	if c.Per == "disc" {
		discs = len(t.Discs)
	}
	for d := range discs {
		v := l.fileValues(t, p, d)
		if c.Per != "disc" {
			v[loader.FieldDisc] = ""
			v[loader.FieldTitle] = p.Name
		}
		item := Item{Disc: d, Path: l.cased(c.Path.FillPath(&v)), Spec: shape.Spec{Shape: shape.Fitted}, Rule: c.Why}
		switch {
		case c.Is == "cover":
			item.Source, item.With = pictureFor(t, d, c)
			item.Size, item.AtMost = c.Picture.Estimate(), true
		case c.IsCopy():
			bytes, there := l.destination.file(c.File)
			if !there {
				continue
			}
			item.Spec = shape.PatchedOf(c.File, bytes, Patches(c, &v))
		case c.Length > 0:
			item.Shape, item.Text, item.Size = shape.Written, shape.Text(CompanionBytes(c, &v)), int64(c.Length)
		default:
			item.Shape = shape.Written
			text, constant := c.Text.Constant()
			if !constant {
				var rows []loader.Values
				if c.Text.Repeats() {
					rows = l.rows(t, p)
				}
				text = CompanionText(c, &v, rows)
			}
			item.Text = shape.Text(CompanionContent(c, text))
			item.Size = int64(len(item.Text))
		}
		out = append(out, Companion{Item: item, Is: c.Is, From: c, Base: v[loader.FieldBase]})
	}
	return out
}

// CompanionContent is the text of a companion as it is on the target.
func CompanionContent(c *loader.Companion, text string) []byte {
	return Encoded(c.Encoding, []byte(strings.TrimPrefix(text, "\n")))
}

// Patches are the bytes that a companion has set in it.
func Patches(c *loader.Companion, v *loader.Values) (out []shape.Patch) {
	for k := range c.Bytes {
		f := &c.Bytes[k]
		b := make([]byte, f.Length)
		encode(b, f, f.Value.Fill(v))
		out = append(out, shape.Patch{At: int64(f.Offset), Bytes: b})
	}
	return out
}

// CompanionBytes is the content of a companion that is made of nothing but bytes.
func CompanionBytes(c *loader.Companion, v *loader.Values) []byte {
	b := make([]byte, c.Length)
	for _, p := range Patches(c, v) {
		copy(b[p.At:], p.Bytes)
	}
	return b
}

// CompanionText is the text of a companion that is written from a template, as people read it.
func CompanionText(c *loader.Companion, v *loader.Values, rows []loader.Values) string {
	escape := makes[c.Make].escape
	switch {
	case c.Syntax == "toml":
		escape = inQuotes.Replace
	case c.Make == "":
		escape = nil // it may hold anything
	}
	return strings.TrimPrefix(c.Text.FillEscaped(v, rows, escape), "\n")
}

// PictureRule is how a profile wants a picture.
func PictureRule(p *loader.Picture) *picture.Rule {
	return &picture.Rule{Width: p.Width, Height: p.Height, Fit: p.Fit, Format: p.Format, Largest: int64(p.LargestFile)}
}

// Beneath is where a companion of title i would lie if the file of its disc lay at a path of the target: under the
// names that this path tells.
func (t *Tree) Beneath(i int, c *Companion, file string) string {
	p := &t.Placements[i]
	v := t.l.fileValues(&t.titles[i], p, c.Disc)
	if c.From.Per != "disc" {
		v[loader.FieldDisc], v[loader.FieldTitle] = "", p.Name
	}
	for _, at := range []loader.Template{p.Rule.Path, p.Rule.TooLarge.Parts, p.Rule.Tracks} {
		reported, ok := at.Match(file)
		if !ok {
			continue
		}
		for f, value := range reported {
			if value != "" {
				v[f] = value
			}
		}
		break
	}
	v[loader.FieldFile], v[loader.FieldFolder] = path.Base(file), path.Dir(file)
	v[loader.FieldBase] = strings.TrimSuffix(v[loader.FieldFile], path.Ext(file))
	return t.l.cased(c.From.Path.FillPath(&v))
}

// pictureFor is the picture of a title for a companion of a disc, with an empty path for none, and how it is brought to
// the size that the rule wants.
func pictureFor(t *title.Title, disc int, c *loader.Companion) (title.File, *shape.With) {
	rule := PictureRule(&c.Picture)
	p := t.Picture(c.Picture.Of, disc)
	if p == nil {
		return title.File{}, &shape.With{Picture: rule}
	}
	rule.Crop = p.Crop
	return p.File, &shape.With{Picture: rule}
}

// without is a companion that a title does not start without, and that is a copy of a file which is not there; nil for
// none.
func (l *layer) without(t *title.Title, p *Placement) *loader.Companion {
	for _, c := range l.decide {
		if !c.IsCopy() {
			continue
		}
		if _, there := l.destination.file(c.File); !there && c.Match(t.Platform, t.Form, l.destination.attachment(),
			l.destination.Filesystem.Name) && (c.When.Empty() || c.When.Holds(l.factsAt(t, p))) {
			return c
		}
	}
	return nil
}

// decisive adds the files without which the loader does not start a title.
func (l *layer) decisive(t *title.Title, p *Placement) {
	for _, c := range l.decide {
		for _, m := range l.companions(t, p, c) {
			p.add(m.Item)
		}
	}
}

// inQuotes makes text fit to stand between the quotes of a TOML string.
var inQuotes = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "\t", `\t`)

// fileValues are the fields of one disc of a title as it is on the target.
func (l *layer) fileValues(t *title.Title, p *Placement, disc int) loader.Values {
	v := l.valuesOf(t, p)
	l.disc(&v, t, p, disc)
	folder := ""
	if FolderTitles(p.Rule) {
		folder = l.cased(p.Rule.Path.FillPath(&v))
	}
	v[loader.FieldName] = t.Name // in texts it may hold anything
	v[loader.FieldYear], v[loader.FieldPlayers], v[loader.FieldPublisher], v[loader.FieldText] = t.Year, t.Players,
		t.Publisher, t.Text
	v[loader.FieldForm] = string(t.Form)
	l.listed(&v, t)
	files, bytes := p.files(disc)
	v[loader.FieldParts], v[loader.FieldSize] = strconv.Itoa(files), strconv.FormatInt(bytes, 10)
	for k := range p.Items {
		if item := &p.Items[k]; item.Disc == disc {
			main, whole := item.Path, folder != "" && !item.Folder
			if whole {
				main = folder
			}
			v[loader.FieldFile], v[loader.FieldFolder] = path.Base(main), path.Dir(main)
			v[loader.FieldBase] = v[loader.FieldFile]
			if !item.Folder && !whole {
				v[loader.FieldBase] = strings.TrimSuffix(v[loader.FieldFile], path.Ext(v[loader.FieldFile]))
			}
			break
		}
	}
	return v
}

// files are how many files of the game itself a disc has on the target, and how many bytes they have; lists of parts
// and companions are none of them.
func (p *Placement) files(disc int) (n int, bytes int64) {
	for k := range p.Items {
		item := &p.Items[k]
		if item.Disc == disc && item.Shape != shape.Written && item.Shape != shape.Patched &&
			item.Shape != shape.Fitted {
			n, bytes = n+1, bytes+item.Size
		}
	}
	return n, bytes
}

// rows are the discs of a title, for texts that name each; what is joined is one.
func (l *layer) rows(t *title.Title, p *Placement) []loader.Values {
	out := make([]loader.Values, len(t.Discs))
	if p.Rule.Join.Of == "discs" {
		out = out[:1]
	}
	for d := range out {
		out[d] = l.fileValues(t, p, d)
		out[d][loader.FieldIndex] = strconv.Itoa(d + 1)
	}
	return out
}

// Values are the fields of title i's discs as they are on the target, as lists and companions have them; nil where it
// is refused.
func (t *Tree) Values(i int) []loader.Values {
	if p := &t.Placements[i]; p.Refusal == nil {
		return t.l.rows(&t.titles[i], p)
	}
	return nil
}

// factsAt are the facts of a title that has its place.
func (l *layer) factsAt(t *title.Title, p *Placement) *loader.Values {
	v := l.facts(t)
	files, _ := p.files(0)
	v[loader.FieldTitle], v[loader.FieldParts] = p.Name, strconv.Itoa(files)
	return v
}

// FirstBoot lists the folders that the console makes by itself.
func FirstBoot(p *loader.Profile) []string {
	var out []string
	for _, f := range p.FirstBoot.Folders {
		if !f.Uses(loader.FieldPlatform) {
			out = append(out, f.Fill(&loader.Values{}))
			continue
		}
		for _, name := range p.FirstBoot.Platforms {
			out = append(out, f.Fill(&loader.Values{loader.FieldPlatform: name}))
		}
	}
	return out
}
