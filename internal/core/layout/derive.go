package layout

import (
	"bytes"
	"encoding/binary"
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
	p, tt := &t.Placements[i], &t.titles[i]
	if p.Refusal != nil || t.onlyCovers {
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
	if p.Refusal != nil || t.onlyCovers {
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
	if text, ok := b.Spec.Text.Constant(); ok {
		c.Text = shape.Text(strings.TrimPrefix(text, "\n"))
		return c
	}
	for _, m := range t.l.companions(&t.titles[i], &t.Placements[i], b.Spec) {
		if m.Path == b.Path {
			c.Text = m.Text
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
		if c.Is == "cover" {
			item.Source, item.With = pictureFor(t, d, c)
			item.Size, item.AtMost = c.Picture.Estimate(), true
		} else {
			item.Shape = shape.Written
			text, constant := c.Text.Constant()
			if !constant {
				var rows []loader.Values
				if c.Text.Repeats() {
					rows = l.rows(t, p)
				}
				text = CompanionText(c, &v, rows)
			}
			item.Text = shape.Text(strings.TrimPrefix(text, "\n"))
			item.Size = int64(len(item.Text))
		}
		out = append(out, Companion{Item: item, Is: c.Is, From: c, Base: v[loader.FieldBase]})
	}
	return out
}

// CompanionText is the text of a companion that is written from a template.
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
	parts := 0
	for k := range p.Items {
		if p.Items[k].Disc == disc {
			parts++
		}
	}
	v[loader.FieldParts] = strconv.Itoa(parts)
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
			v[loader.FieldSize] = strconv.FormatInt(item.Size, 10)
			break
		}
	}
	return v
}

// rows are the discs of a title, for texts that name each.
func (l *layer) rows(t *title.Title, p *Placement) []loader.Values {
	out := make([]loader.Values, len(t.Discs))
	for d := range out {
		out[d] = l.fileValues(t, p, d)
		out[d][loader.FieldIndex] = strconv.Itoa(d + 1)
	}
	return out
}

// lists reports whether a title is listed in a file of that rule.
func (l *layer) lists(list *loader.List, t *title.Title, p *Placement) bool {
	return list.Match(t.Platform, t.Form, l.destination.attachment(), l.destination.Filesystem.Name) &&
		(list.When.Empty() || list.When.Holds(l.factsAt(t, p)))
}

// factsAt are the facts of a title that has its place.
func (l *layer) factsAt(t *title.Title, p *Placement) *loader.Values {
	v, parts := l.facts(t), 0
	for k := range p.Items {
		if p.Items[k].Disc == 0 {
			parts++
		}
	}
	v[loader.FieldTitle], v[loader.FieldParts] = p.Name, strconv.Itoa(parts)
	return v
}

// A ListFile is a file in which all titles are listed.
type ListFile struct {
	Path string
	Data []byte
	Rule string

	tree *Tree
	list *loader.List
	rows []loader.Values
}

// Lists writes the files in which the loader wants its titles listed, for the titles
// that include says yes to.
func (t *Tree) Lists(include func(i int) bool) []ListFile {
	if t.onlyCovers {
		return nil
	}
	var out []ListFile
	for k := range t.l.p.Lists {
		l := &t.l.p.Lists[k]
		if len(l.On) > 0 && !slices.Contains(l.On, t.l.destination.attachment()) {
			continue
		}
		var rows []loader.Values
		for i := range t.titles {
			tt := &t.titles[i]
			if t.Placements[i].Refusal == nil && include(i) && t.l.lists(l, tt, &t.Placements[i]) {
				rows = append(rows, t.l.rows(tt, &t.Placements[i])...)
			}
		}
		if len(rows) == 0 {
			continue
		}
		all := loader.Values{loader.FieldDiscs: strconv.Itoa(len(rows))}
		out = append(out, ListFile{Path: t.l.cased(l.Path.FillPath(&all)), Data: ListData(l, rows), Rule: l.Why,
			tree: t,
			list: l, rows: rows})
	}
	return out
}

// A ListLine is how many bytes titles add to a file in which all are reported.
type ListLine struct {
	Path string
	tree *Tree
	list *loader.List
	most string // the number of all discs
}

// ListLines are the files in which the loader wants its titles listed, where the tree is laid for.
func (t *Tree) ListLines() (out []ListLine) {
	if t.onlyCovers {
		return nil
	}
	discs := 0
	for i := range t.titles {
		discs += len(t.titles[i].Discs)
	}
	for k := range t.l.p.Lists {
		if l := &t.l.p.Lists[k]; len(l.On) == 0 || slices.Contains(l.On, t.l.destination.attachment()) {
			out = append(out, ListLine{t.l.cased(l.Path.FillPath(&loader.Values{})), t, l, strconv.Itoa(discs)})
		}
	}
	return out
}

// Around is how many bytes the file has before and behind what titles add, at most.
func (l *ListLine) Around() int {
	all := loader.Values{loader.FieldDiscs: l.most}
	return l.list.HeaderLength + len(inEncoding(l.list, []byte(l.list.Header.Fill(&all)+l.list.Footer.Fill(&all))))
}

// Bytes is how many title i adds, at most.
func (l *ListLine) Bytes(i int) (n int) {
	t := l.tree
	tt, p := &t.titles[i], &t.Placements[i]
	if p.Refusal != nil || !t.l.lists(l.list, tt, p) {
		return 0
	}
	for _, row := range t.l.rows(tt, p) {
		if l.list.Record > 0 {
			n += l.list.Record
		} else {
			row[loader.FieldIndex] = l.most
			n += len(inEncoding(l.list, []byte(line(l.list, &row)+l.list.Between)))
		}
	}
	return n
}

// orderFields are what lists are sorted by, by the names of [loader.List.Order].
var orderFields = map[string]loader.Field{"title": loader.FieldTitle, "id": loader.FieldID, "kind": loader.FieldKind,
	"platform": loader.FieldPlatform, "path": loader.FieldFile, "number": loader.FieldNumber}

// SortRows orders by the named fields, without regard to letter case.
func SortRows(rows []loader.Values, order []string) {
	slices.SortStableFunc(rows, func(a, b loader.Values) int {
		for _, by := range order {
			f := orderFields[by]
			if c := len(a[f]) - len(b[f]); by == "number" && c != 0 {
				return c
			}
			if c := strings.Compare(strings.ToUpper(a[f]), strings.ToUpper(b[f])); c != 0 {
				return c
			}
		}
		return 0
	})
}

// ListData is a file in which titles are listed, with a row for each disc in the order of the list.
func ListData(l *loader.List, rows []loader.Values) []byte {
	SortRows(rows, l.Order)
	for n := range rows {
		rows[n][loader.FieldIndex] = strconv.Itoa(n + 1)
	}
	return listData(l, &loader.Values{loader.FieldDiscs: strconv.Itoa(len(rows))}, rows)
}

func listData(l *loader.List, all *loader.Values, rows []loader.Values) []byte {
	var b bytes.Buffer
	for i := range rows {
		if i > 0 {
			b.WriteString(l.Between)
		}
		b.Write(row(l, rows[i], i+1))
	}
	if l.HeaderLength > 0 {
		return append(header(l, all, b.Bytes()), b.Bytes()...)
	}
	return inEncoding(l, []byte(l.Header.Fill(all)+b.String()+l.Footer.Fill(all)))
}

// encode writes a value into its field of a record. What is too long is cut between
// characters.
func encode(into []byte, f *loader.RecordField, value string) {
	for i := range into {
		into[i] = byte(f.Fill)
	}
	switch f.Encoding {
	case "number-le", "number-be":
		n, _ := strconv.ParseUint(value, 10, 64)
		var le [8]byte
		binary.LittleEndian.PutUint64(le[:], n)
		for i := range into {
			at := i
			if f.Encoding == "number-be" {
				at = len(into) - 1 - i
			}
			into[at] = 0
			if i < 8 {
				into[at] = le[i]
			}
		}
	default:
		at := 0
		for _, r := range value {
			c := character(f.Encoding, r)
			if at+len(c) > len(into) {
				return
			}
			at += copy(into[at:], c)
		}
	}
}

// character is one as an encoding writes it; a question mark where it has none such.
func character(encoding string, r rune) string {
	to := loader.TextEncoding(encoding).NewEncoder()
	c, err := to.String(string(r))
	if err != nil || encoding == "ascii" && r > 0x7F {
		to.Reset()
		c, _ = to.String("?")
	}
	return c
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
