package layout

import (
	"cmp"
	"fmt"
	"path"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/dump"
	"polytome/internal/size"
)

// laying is one disc of a title that gets its files by a rule: a method for each form that titles come in.
type laying struct {
	*layer
	pl   *Placement
	t    *title.Title
	d    *title.Disc
	i    int // its number
	rule *loader.Accept
	v    *loader.Values
	to   string // its path by the rule
}

func (l *layer) laying(pl *Placement, t *title.Title, i int, rule *loader.Accept, v *loader.Values) *laying {
	return &laying{l, pl, t, &t.Discs[i], i, rule, v, l.cased(rule.Path.FillPath(v))}
}

// item is a file at a path.
func (p *laying) item(to string, spec shape.Spec) Item {
	return Item{Disc: p.i, Path: to, Rule: p.rule.Why, Spec: spec}
}

// items adds the files of the disc; say is why it cannot.
func (p *laying) items() (say string) {
	if p.rule.Joins() {
		if p.rule.Join.Of == "discs" && p.i > 0 {
			return "" // which is in the file of the first
		}
		return p.joins()
	}
	switch p.t.Form {
	case title.Folder:
		p.asFolder()
	case title.Package:
		p.asPackage()
	case title.Tracks:
		p.asTracks()
	default:
		p.asImage()
	}
	return ""
}

// asFolder adds a folder of files, or the image that is built of it.
func (p *laying) asFolder() {
	if p.rule.As(p.t.Form) == shape.Build {
		p.sized(p.built())
		return
	}
	p.folder(p.fromArchive(), "")
}

// asPackage adds a package: as it is, or what is in it.
func (p *laying) asPackage() {
	spec := shape.Spec{Size: p.d.File.Size, Source: p.d.File}
	switch {
	case p.rule.Archives != "unpack":
		p.pl.add(p.item(p.to, spec))
	case len(p.d.Parts) > 0:
		p.folder(shape.Unpack, "")
	default:
		spec.Shape = shape.Unpack
		item := p.item(p.to, spec)
		item.Folder = true
		p.pl.add(item)
	}
}

// asTracks adds a cue sheet with its files, or the one image that they are joined to.
func (p *laying) asTracks() {
	sheet, parts, from := p.d.File, p.d.Parts, p.fromArchive()
	if from == shape.Unpack { // the cue sheet is the first of what is in the archive
		sheet, parts = parts[0].File, parts[1:]
	}
	if p.rule.As(p.t.Form) == shape.Plain {
		p.sized(p.item(p.to, shape.PlainOf(sheet, parts)))
		return
	}
	p.tracks(sheet, parts, from)
}

// asImage adds the one file of a disc, or what is in it.
func (p *laying) asImage() {
	as, packed := p.rule.As(p.t.Form), p.t.Archive != "" && !keepsArchive(p.t, p.rule)
	item := p.item(p.to, shape.Spec{Size: p.d.File.Size, Source: p.d.File})
	switch {
	case packed:
		item.Shape = shape.Unpack
		if len(p.d.Parts) > 0 {
			item.Size, item.Source = p.d.Parts[0].File.Size, p.d.Parts[0].File
		}
	case as == shape.Extract && p.t.Form == title.Image && len(p.d.Parts) > 0:
		p.folder(shape.Extract, p.d.File.Path)
		return
	case as == shape.Extract:
		item.Shape, item.Folder = shape.Extract, true
	case as == shape.Pack:
		item.Spec = shape.PackOf(p.d, p.rule.Compress)
	}
	if p.rule.Straightens() && p.d.Dump != (title.Dump{}) && (item.Shape == shape.Whole || packed &&
		len(p.d.Parts) > 0) {
		item.Spec = shape.StraightOf(item.Source, dump.Layout(p.d.Dump))
		p.pl.add(item) // it goes whole
		return
	}
	p.sized(item)
}

// folder adds what is in a disc that goes as a folder. Names that the target cannot hold are changed, and the
// placement says so. With a path, that is the image which the files are in.
func (p *laying) folder(as shape.Name, image string) {
	pl, d, to := p.pl, p.d, p.to
	pl.claim(to) // which also holds what is below it
	first := len(pl.Items)
	var names []string
	for k := range d.Parts {
		part := &d.Parts[k]
		if name, ok := packageName(&p.rule.Package, below(part.Name)); ok && name != "" {
			s := shape.Spec{Size: part.File.Size, Source: part.File, Shape: as}
			if image != "" {
				s.Source.Path = image
			}
			name = p.cased(name)
			names = append(names, name)
			pl.Items = append(pl.Items, p.item(to+"/"+name, s))
		}
	}
	if p.hold(names) || twice(names) { // a rule that gives two files one name is a mistake, and reported as one
		return
	}
	renamed, changed := p.destination.Filesystem.Inside(names, p.allows)
	for k, name := range renamed {
		pl.Items[first+k].Path = to + "/" + name
	}
	pl.How = strings.TrimPrefix(pl.How+fmt.Sprintf("; %s in it cannot have their names there, and got others",
		size.Count(changed, "file")), "; ")
}

// tracks adds a cue sheet and the files that it names. Where they get other names than it tells, or are put into
// one, the sheet is rewritten.
func (p *laying) tracks(sheet title.File, parts []title.Part, from shape.Name) {
	rule, v, to := p.rule, p.v, p.to
	var names []shape.Renamed
	var items []Item
	name := func(k int, file string) string {
		track := path.Join(path.Dir(to), file)
		if !rule.Tracks.Empty() {
			v[loader.FieldIndex], v[loader.FieldFile] = strconv.Itoa(k+1), file
			track = p.cased(rule.Tracks.FillPath(v))
		}
		return track
	}
	if rule.As(title.Tracks) == shape.OneFile && len(parts) > 1 {
		one := name(0, below(parts[0].Name))
		p.pl.add(p.item(to, shape.OneSheet(sheet, parts, path.Base(one))))
		p.pl.add(p.item(one, shape.OneFileOf(sheet, parts)))
		return
	}
	for k := range parts {
		part := &parts[k]
		file := below(part.Name)
		if file == "" {
			continue
		}
		track := name(k, file)
		if rel, ok := strings.CutPrefix(track, path.Dir(to)+"/"); (ok || path.Dir(to) == ".") && rel != part.Name {
			names = append(names, shape.Renamed{From: part.Name, To: rel})
		}
		items = append(items, p.item(track, shape.Spec{Size: part.File.Size, Source: part.File, Shape: from}))
	}
	spec := shape.Spec{Size: sheet.Size, Source: sheet, Shape: from}
	if len(names) > 0 {
		spec = shape.SheetOf(sheet, names)
	}
	p.pl.add(p.item(to, spec))
	for _, item := range items {
		p.pl.add(item)
	}
}

// built is the image that is made of a folder.
func (p *laying) built() Item {
	d := p.d
	var parts []title.Part
	for k := range d.Parts {
		if name, ok := packageName(&p.rule.Package, below(d.Parts[k].Name)); ok && name != "" {
			parts = append(parts, title.Part{Name: name, File: d.Parts[k].File})
		}
	}
	return p.item(p.to, shape.BuildOf(d.File, parts, cmp.Or(p.t.ID, p.t.Name)))
}

// fromArchive is the shape of one of a title's several files: they never go over packed.
func (p *laying) fromArchive() shape.Name {
	if p.t.Archive != "" {
		return shape.Unpack
	}
	return shape.Whole
}

// maxParts is in how many parts a file is cut at most; one that would need more is left
// whole, and so too large.
const maxParts = 10_000

// sized adds a file of a disc, in parts or packed where it is too large and the rule says so.
func (p *laying) sized(item Item) {
	rule, v := p.rule, p.v
	limit := p.destination.LargestFile()
	if rule.TooLarge.Over > 0 {
		limit = min(limit, int64(rule.TooLarge.Over))
	}
	cut := &rule.TooLarge
	if item.Size > limit && cut.Do == "pack" && item.Shape == shape.Whole {
		item.Spec = shape.PackOf(p.d, rule.Compress)
	}
	part := int64(cut.PartSize)
	if item.Size <= limit || cut.Do != "split" || item.Folder || item.Size/part >= maxParts {
		p.pl.add(item)
		return
	}
	n := (item.Size + part - 1) / part
	why := cut.Why
	if why == "" {
		why = rule.Why
	}
	v[loader.FieldParts] = strconv.FormatInt(n, 10)
	rows := make([]loader.Values, 0, n)
	var sums []shape.Summed
	for k := range n {
		v[loader.FieldIndex] = strconv.FormatInt(k+1, 10)
		it := item
		it.Path, it.Offset, it.Size = p.cased(cut.Parts.FillPath(v)), k*part, min(part, item.Size-k*part)
		if it.Shape == shape.Whole {
			it.Shape = shape.Split
		}
		it.Rule = fmt.Sprintf("part %d of %d, of %s each: %s", k+1, n, size.Format(part), why)
		p.pl.add(it)
		row := *v
		row[loader.FieldFile], row[loader.FieldSize], row[loader.FieldSum] = path.Base(it.Path),
			strconv.FormatInt(it.Size, 10), sumMark(len(sums))
		rows = append(rows, row)
		sums = append(sums, shape.Summed{Source: item.Source, Offset: it.Offset, Size: it.Size})
	}
	if cut.Manifest.Empty() {
		return
	}
	text := strings.TrimPrefix(cut.ManifestText.FillEach(v, rows), "\n")
	text, sums = targetSums(text, sums)
	p.pl.add(Item{Disc: item.Disc, Path: p.cased(cut.Manifest.FillPath(v)), Rule: "lists the parts: " + why,
		Spec: shape.Spec{Size: int64(len(text)), Shape: shape.Written, Text: shape.Text(text), Sums: sums}})
}

// sumMark stands for a checksum that is not known yet, as long as the checksum will be.
func sumMark(n int) string { return fmt.Sprintf("\x02%06d\x03", n) }

// targetSums finds where the checksums stand in a text.
func targetSums(text string, sums []shape.Summed) (string, []shape.Summed) {
	var placed []shape.Summed
	for n := range sums {
		if at := strings.Index(text, sumMark(n)); at >= 0 {
			sums[n].At = at
			placed = append(placed, sums[n])
			text = strings.Replace(text, sumMark(n), "00000000", 1)
		}
	}
	return text, placed
}
