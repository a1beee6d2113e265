package layout

import (
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"polytome/internal/core/loader"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// layer targets single titles by a profile's rules.
type layer struct {
	p           *loader.Profile
	destination Destination
	legal       map[*loader.Accept]*legal // what names may hold under each rule
	decide      []*loader.Companion       // without which titles do not start
}

// legal is what names may hold: worked out once for ASCII, which most names are made of.
type legal struct {
	ascii   [utf8.RuneSelf]bool
	permits func(rune) bool
}

func newLayer(p *loader.Profile, destination Destination) *layer {
	l := &layer{p: p, destination: destination, legal: map[*loader.Accept]*legal{}}
	forbidden := destination.Filesystem.Forbidden
	var permitted loader.CharacterSet
	if at := destination.Attachment; at != nil {
		forbidden += at.Forbidden
		permitted = at.Permitted
	}
	for i := range p.Accepts {
		rule := &p.Accepts[i]
		permits := func(c rune) bool {
			return rule.Title.Permits(c) && !strings.ContainsRune(forbidden, c) && (len(permitted) == 0 ||
				permitted.Has(c))
		}
		of := &legal{}
		for r := range of.ascii {
			of.ascii[r] = permits(rune(r))
		}
		of.permits = func(r rune) bool {
			if r >= 0 && r < utf8.RuneSelf {
				return of.ascii[r]
			}
			return permits(r)
		}
		l.legal[rule] = of
	}
	for i := range p.Companions {
		if c := &p.Companions[i]; c.Decides() {
			l.decide = append(l.decide, c)
		}
	}
	return l
}

// place gives a title the path that it would have if it were alone. It gets the
// name that it holds, where that is one that the rules allow.
func (l *layer) place(t *title.Title, held string) Placement {
	if t.Platform == "" {
		return refuse("the file was not recognized", "see the evidence in Games")
	}
	rule, refusal := l.p.Accept(t.Platform, t.Form, l.destination.attachment(), l.destination.Filesystem.Name)
	switch {
	case refusal != nil:
		return refuse(refusal.Say, refusal.Ways...)
	case rule == nil && !l.p.Knows(t.Platform):
		out := refuse(fmt.Sprintf("%s does not read %s titles", l.p.Shown, l.destination.Set.PlatformShown(t.Platform)))
		out.Refusal.Foreign = true
		return out
	case rule == nil:
		return l.noRule(t)
	}
	return l.within(t, rule, held, nil, "")
}

// placeMarked is the place of a title with something put behind the name that it has
// alone.
func (l *layer) targetMarked(t *title.Title, alone *Placement, mark string) Placement {
	return l.within(t, alone.Rule, "", alone, mark)
}

// within places a title so that its paths are not too long.
func (l *layer) within(t *title.Title, rule *loader.Accept, held string, alone *Placement, mark string) Placement {
	naming := l.naming(rule, t)
	pl := l.targetAs(t, rule, naming, held, alone, mark)
	if pl.Refusal == nil {
		for i := range pl.Items {
			if p := pl.Items[i].Path; !fs.ValidPath(p) || p == "." || strings.ContainsFunc(p, unicode.IsControl) {
				return unnamed(fmt.Sprintf("the profile makes the impossible path %q of it", p), "fix the profile")
			}
		}
	}
	if pl.Refusal != nil || !l.tooLong(&pl) {
		return pl
	}
	// A name that makes a path too long is cut to the longest that does not.
	best := unnamed(fmt.Sprintf("its path %s would be too long there, however short the name", pl.Items[0].Path),
		"use a target that allows longer paths")
	low, high := 1, naming.Units.Count(pl.Name)
	for low <= high {
		naming.Longest = (low + high) / 2
		pl = l.targetAs(t, rule, naming, "", nil, mark)
		if pl.Refusal == nil && !l.tooLong(&pl) {
			best, low = pl, naming.Longest+1
		} else if pl.Refusal != nil && mark != "" {
			low = naming.Longest + 1 // there is no space for the mark yet
		} else {
			high = naming.Longest - 1
		}
	}
	return best
}

// noRule says why no rule takes a title of a platform that the loader knows.
func (l *layer) noRule(t *title.Title) Placement {
	where := ""
	if l.destination.Attachment != nil {
		where = " here"
	}
	var elsewhere []string
	for _, a := range l.p.Attachments {
		if rule, _ := l.p.Accept(t.Platform, t.Form, a.Name, ""); rule != nil && a.Name != l.destination.attachment() {
			elsewhere = append(elsewhere, "its attachment "+a.Name+" takes it")
		}
	}
	if len(elsewhere) == 0 {
		where = ""
	}
	return refuse(fmt.Sprintf("%s does not read %s titles in the form %s%s", l.p.Shown,
		l.destination.Set.PlatformShown(t.Platform), t.Form, where),
		elsewhere...)
}

// naming is how the rule wants names, narrowed to what the target can hold.
func (l *layer) naming(rule *loader.Accept, t *title.Title) Naming {
	r := &rule.Title
	n := Naming{Longest: r.Longest, Units: units(r.Count), Permits: l.legal[rule].permits}
	if t.Of > 1 && n.Longest > 0 && !r.Discs.Empty() {
		v := loader.Values{loader.FieldDisc: strconv.Itoa(t.Of), loader.FieldDiscs: strconv.Itoa(t.Of)}
		n.Longest -= n.Units.Count(r.Discs.Fill(&v))
	}
	return n
}

func units(count string) target.Units {
	switch count {
	case "bytes":
		return target.Bytes
	case "utf-16":
		return target.UTF16
	}
	return target.Characters
}

// targetAs fills the rule's templates.
func (l *layer) targetAs(t *title.Title, rule *loader.Accept, naming Naming, held string, alone *Placement,
	mark string) Placement {
	pl := Placement{Rule: rule}
	if alone != nil {
		pl.Name, pl.How = alone.Name, alone.How
	}
	if held != "" {
		if again, _ := naming.Name(held); again == held {
			pl.Name = held
		}
	}
	if pl.Name == "" {
		pl.Name, pl.How = naming.Name(t.Name)
	}
	if pl.Name == "" && rule.Path.Uses(loader.FieldTitle) {
		from := "its ID"
		if pl.Name, _ = naming.Name(t.ID); pl.Name == "" {
			base := path.Base(strings.ReplaceAll(t.Source(), `\`, "/"))
			pl.Name, _ = naming.Name(strings.TrimSuffix(base, path.Ext(base)))
			from = "the name of its file"
		}
		if pl.Name == "" {
			return unnamed(fmt.Sprintf("its name %q has no character that %s allows", t.Name, l.p.Shown),
				"give it another name")
		}
		pl.How = "its name has no character that " + l.p.Shown + " allows, so " + from + " is used instead"
	}
	if mark != "" {
		pl.Name = naming.With(pl.Name, mark)
		if pl.Name == "" {
			return unnamed("its name leaves no space for what distinguishes it from others")
		}
	}
	whole := l.valuesOf(t, &pl)
	for i := range t.Discs {
		v := whole
		l.disc(&v, t, i, rule)
		if f, missing := lacks(&rule.Path, &v); missing {
			return refuse(fmt.Sprintf("%s needs the %s in the path %s, but the file has none", l.p.Shown, f, rule.Path))
		}
		l.items(&pl, t, i, rule, &v)
	}
	if len(pl.Items) == 0 {
		return refuse("nothing of it is left to copy: the rule keeps none of its files")
	}
	l.decisive(t, &pl)
	if twice := pl.twice(); twice != "" {
		return unnamed(fmt.Sprintf("two of its files would get the same path %s", twice),
			"give the files different names")
	}
	if rule.OverflowAfter > 0 {
		whole[loader.FieldPage] = pageMark
		folder, _, _ := strings.Cut(rule.Path.Fill(&whole), pageMark)
		pl.folder = fold(folder)
		pl.entries = entries(&pl)
		pl.order = fold(pl.Name)
	}
	return pl
}

// lacks reports which value the path needs and the title has not.
func lacks(tpl *loader.Template, v *loader.Values) (loader.Field, bool) {
	for _, f := range tpl.Needs() {
		if v[f] == "" {
			return f, true
		}
	}
	return 0, false
}

// twice finds a path that two of the title's own files would get.
func (pl *Placement) twice() string {
	if len(pl.Items) == 1 {
		return ""
	}
	seen := make(map[string]bool, len(pl.Items))
	for i := range pl.Items {
		key := fold(pl.Items[i].Path)
		if seen[key] {
			return pl.Items[i].Path
		}
		seen[key] = true
	}
	return ""
}

// tooLong reports whether a path of the placement is longer than the target takes.
func (l *layer) tooLong(pl *Placement) bool {
	at, fs := l.destination.Attachment, &l.destination.Filesystem
	for i := range pl.Items {
		p := pl.Items[i].Path
		if at != nil && at.LongestPath > 0 && units(at.Count).Count(p) > at.LongestPath {
			return true
		}
		if len(p) <= fs.LongestName && (at == nil || at.LongestName == 0 || len(p) <= at.LongestName) {
			continue // no name in it can be longer than the whole
		}
		for part := range strings.SplitSeq(p, "/") {
			if fs.Units.Count(part) > fs.LongestName || at != nil && at.LongestName > 0 && units(at.Count).
				Count(part) > at.LongestName {
				return true
			}
		}
	}
	return false
}

// fold brings a path into the form in which two that differ in letter case alone are
// the same.
func fold(s string) string {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return strings.ToUpper(s)
		}
	}
	var b strings.Builder
	b.Grow(len(s))
	for i := range len(s) {
		c := s[i]
		if c >= 'a' && c <= 'z' {
			c -= 32
		}
		b.WriteByte(c)
	}
	return b.String()
}

// unnamed is the placement of a title that cannot be given a name that is allowed.
func unnamed(say string, ways ...string) Placement {
	p := refuse(say, ways...)
	p.Refusal.Name = true
	return p
}

func refuse(say string, ways ...string) Placement {
	return Placement{Refusal: &Refusal{Say: say, Ways: ways}}
}

// items adds the files of one disc.
func (l *layer) items(pl *Placement, t *title.Title, i int, rule *loader.Accept, v *loader.Values) {
	d := &t.Discs[i]
	to := l.cased(rule.Path.Fill(v))
	packed := t.Archive != "" && !keepsArchive(t, rule)
	as := rule.As(t.Form)
	switch t.Form {
	case title.Folder:
		from := fromArchive(t)
		if as == shape.Build {
			l.sized(pl, d, l.built(t, d, i, rule, to), rule, v)
			return
		}
		l.folder(pl, d, i, rule, to, from, "")
	case title.Package:
		if rule.Archives == "unpack" && len(d.Parts) > 0 {
			l.folder(pl, d, i, rule, to, shape.Unpack, "")
			return
		}
		if rule.Archives == "unpack" {
			pl.add(Item{Disc: i, Path: to, Folder: true, Rule: rule.Why, Spec: shape.Spec{Size: d.File.Size,
				Source: d.File, Shape: shape.Unpack}})
			return
		}
		pl.add(Item{Disc: i, Path: to, Rule: rule.Why, Spec: shape.Spec{Size: d.File.Size, Source: d.File}})
	case title.Tracks:
		sheet, parts, from := d.File, d.Parts, fromArchive(t)
		if from == shape.Unpack { // the cue sheet is the first of what is in the archive
			sheet, parts = parts[0].File, parts[1:]
		}
		if as == shape.Plain {
			l.sized(pl, d, Item{Disc: i, Path: to, Rule: rule.Why, Spec: shape.PlainOf(sheet, parts)}, rule, v)
			return
		}
		l.tracks(pl, i, rule, v, to, sheet, parts, from)
	case title.Image:
		if as == shape.Extract && !packed && len(d.Parts) > 0 {
			l.folder(pl, d, i, rule, to, shape.Extract, d.File.Path)
			return
		}
		l.file(pl, t, i, rule, v, to, packed)
	default:
		l.file(pl, t, i, rule, v, to, packed)
	}
}

// folder adds what is in a disc that goes as a folder. Names that the target cannot hold are changed, and the
// placement says so. With a path, that is the image which the files are in.
func (l *layer) folder(pl *Placement, d *title.Disc, i int, rule *loader.Accept, to string, as shape.Name,
	image string) {
	pl.claim(to) // which also holds what is below it
	first := len(pl.Items)
	var names []string
	for k := range d.Parts {
		part := &d.Parts[k]
		if name, ok := packageName(&rule.Package, below(part.Name)); ok && name != "" {
			s := shape.Spec{Size: part.File.Size, Source: part.File, Shape: as}
			if image != "" {
				s.Source.Path = image
			}
			name = l.cased(name)
			names = append(names, name)
			pl.Items = append(pl.Items, Item{Disc: i, Path: to + "/" + name, Rule: rule.Why, Spec: s})
		}
	}
	if l.hold(names) || twice(names) { // a rule that gives two files one name is a mistake, and reported as one
		return
	}
	renamed, changed := l.destination.Filesystem.Inside(names, l.allows)
	for k, name := range renamed {
		pl.Items[first+k].Path = to + "/" + name
	}
	pl.How = strings.TrimPrefix(pl.How+fmt.Sprintf("; %s in it cannot have their names there, and got others",
		size.Count(changed, "file")), "; ")
}

// hold reports whether the target holds all of these names as they are, and distinguishes them.
func (l *layer) hold(names []string) bool {
	seen := make(map[string]string, len(names)) // as folded -> as written
	for _, name := range names {
		for elem := range strings.SplitSeq(name, "/") {
			if l.destination.Filesystem.CheckName(elem) != "" || l.allows(elem) != "" {
				return false
			}
		}
		for at := name; at != "."; at = path.Dir(at) { // folders too: two that differ in letter case are one
			key := l.destination.Filesystem.Fold(at)
			was, known := seen[key]
			if known && (was != at || at == name) {
				return false
			}
			if known {
				break // and so are those above it
			}
			seen[key] = at
		}
	}
	return true
}

func twice(names []string) bool {
	sorted := slices.Sorted(slices.Values(names))
	return len(slices.Compact(sorted)) < len(names)
}

// allows says what an attachment has against a name inside of a title.
func (l *layer) allows(name string) string {
	at := l.destination.Attachment
	if at == nil {
		return ""
	}
	if at.LongestName > 0 && units(at.Count).Count(name) > at.LongestName {
		return "too long"
	}
	for _, r := range name {
		if strings.ContainsRune(at.Forbidden, r) || len(at.Permitted) > 0 && !at.Permitted.Has(r) {
			return "a character that is not allowed"
		}
	}
	return ""
}

// tracks adds a cue sheet and the files that it names. Where they get other names than it tells, or are put into
// one, the sheet is rewritten.
func (l *layer) tracks(pl *Placement, i int, rule *loader.Accept, v *loader.Values, to string, sheet title.File,
	parts []title.Part, from shape.Name) {
	var names []shape.Renamed
	var items []Item
	name := func(k int, file string) string {
		track := path.Join(path.Dir(to), file)
		if !rule.Tracks.Empty() {
			v[loader.FieldIndex], v[loader.FieldFile] = strconv.Itoa(k+1), file
			track = l.cased(rule.Tracks.Fill(v))
		}
		return track
	}
	if rule.As(title.Tracks) == shape.OneFile && len(parts) > 1 {
		one := name(0, below(parts[0].Name))
		pl.add(Item{Disc: i, Path: to, Rule: rule.Why, Spec: shape.OneSheet(sheet, parts, path.Base(one))})
		pl.add(Item{Disc: i, Path: one, Rule: rule.Why, Spec: shape.OneFileOf(sheet, parts)})
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
		items = append(items, Item{Disc: i, Path: track, Rule: rule.Why, Spec: shape.Spec{Size: part.File.Size,
			Source: part.File, Shape: from}})
	}
	spec := shape.Spec{Size: sheet.Size, Source: sheet, Shape: from}
	if len(names) > 0 {
		spec = shape.SheetOf(sheet, names)
	}
	pl.add(Item{Disc: i, Path: to, Rule: rule.Why, Spec: spec})
	for _, item := range items {
		pl.add(item)
	}
}

// built is the image that is made of a folder.
func (l *layer) built(t *title.Title, d *title.Disc, i int, rule *loader.Accept, to string) Item {
	var parts []title.Part
	for k := range d.Parts {
		if name, ok := packageName(&rule.Package, below(d.Parts[k].Name)); ok && name != "" {
			parts = append(parts, title.Part{Name: name, File: d.Parts[k].File})
		}
	}
	return Item{Disc: i, Path: to, Rule: rule.Why, Spec: shape.BuildOf(d.File, parts, cmp.Or(t.ID, t.Name))}
}

// file adds the one file of a disc.
func (l *layer) file(pl *Placement, t *title.Title, i int, rule *loader.Accept, v *loader.Values, to string,
	packed bool) {
	d := &t.Discs[i]
	item := Item{Disc: i, Path: to, Rule: rule.Why, Spec: shape.Spec{Size: d.File.Size, Source: d.File}}
	switch {
	case packed:
		item.Shape = shape.Unpack
		if len(d.Parts) > 0 {
			item.Size, item.Source = d.Parts[0].File.Size, d.Parts[0].File
		}
	case rule.As(t.Form) == shape.Extract:
		item.Shape, item.Folder = shape.Extract, true
	case rule.As(t.Form) == shape.Pack:
		item.Spec = shape.PackOf(d, rule.Compress)
	}
	l.sized(pl, d, item, rule, v)
}

// fromArchive is the shape of one of a title's several files: they never go over packed.
func fromArchive(t *title.Title) shape.Name {
	if t.Archive != "" {
		return shape.Unpack
	}
	return shape.Whole
}

// maxParts is in how many parts a file is cut at most; one that would need more is left
// whole, and so too large.
const maxParts = 10_000

// sized adds a file of a disc, in parts or packed where it is too large and the rule says so.
func (l *layer) sized(pl *Placement, d *title.Disc, item Item, rule *loader.Accept, v *loader.Values) {
	limit := l.destination.LargestFile()
	if rule.TooLarge.Over > 0 {
		limit = min(limit, int64(rule.TooLarge.Over))
	}
	cut := &rule.TooLarge
	if item.Size > limit && cut.Do == "pack" && item.Shape == shape.Whole {
		item.Spec = shape.PackOf(d, rule.Compress)
	}
	part := int64(cut.PartSize)
	if item.Size <= limit || cut.Do != "split" || item.Folder || item.Size/part >= maxParts {
		pl.add(item)
		return
	}
	n := (item.Size + part - 1) / part
	why := cut.Why
	if why == "" {
		why = rule.Why
	}
	rows := make([]loader.Values, 0, n)
	var sums []shape.Summed
	for k := range n {
		v[loader.FieldIndex] = strconv.FormatInt(k+1, 10)
		it := item
		it.Path, it.Offset, it.Size = l.cased(cut.Parts.Fill(v)), k*part, min(part, item.Size-k*part)
		if it.Shape == shape.Whole {
			it.Shape = shape.Split
		}
		it.Rule = fmt.Sprintf("part %d of %d, of %s each: %s", k+1, n, size.Format(part), why)
		pl.add(it)
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
	pl.add(Item{Disc: item.Disc, Path: l.cased(cut.Manifest.Fill(v)), Rule: "lists the parts: " + why,
		Spec: shape.Spec{Size: int64(len(text)), Shape: shape.Written, Text: text, Sums: sums}})
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

func (p *Placement) add(item Item) {
	p.Items = append(p.Items, item)
	p.claim(item.Path)
}

// claim says that no other title may have a path.
func (p *Placement) claim(path string) {
	if !p.settled {
		p.claims = append(p.claims, fold(path))
	}
}

// cased brings a path into the letter case that the console wants.
func (l *layer) cased(p string) string {
	if l.destination.Attachment != nil {
		return l.destination.Attachment.Cased(p)
	}
	return p
}

// packageName is the name that a file of a package gets; ok is false for one that
// stays behind.
func packageName(p *loader.Package, name string) (as string, ok bool) {
	matches := func(patterns []string) bool {
		for _, pattern := range patterns {
			if loader.MatchFile(pattern, name) {
				return true
			}
		}
		return false
	}
	if (len(p.Keep) > 0 && !matches(p.Keep)) || matches(p.Drop) {
		return "", false
	}
	for _, r := range p.Rename {
		if loader.MatchFile(r.From, name) {
			return r.To, true
		}
	}
	return name, true
}

// pageMark stands for a page while its folder is looked for; no value can hold it.
const pageMark = "\x01"

// entries is how many entries a title that is not on a further page makes in its folder.
func entries(p *Placement) int {
	if len(p.Items) == 1 {
		return 1
	}
	above := strings.Count(p.folder, "/")
	seen := map[string]bool{}
	for i := range p.Items {
		seen[fold(strings.SplitN(p.Items[i].Path, "/", above+2)[above])] = true
	}
	return len(seen)
}

// turn lays a title again for its page.
func (l *layer) turn(t *title.Title, p *Placement) {
	whole := l.valuesOf(t, p)
	p.settled = true // names are unique over all pages, so the claims of the first page stay
	p.Items = p.Items[:0]
	for i := range t.Discs {
		v := whole
		l.disc(&v, t, i, p.Rule)
		l.items(p, t, i, p.Rule, &v)
	}
	l.decisive(t, p)
}
