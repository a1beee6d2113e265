package loader

import (
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// accept checks a rule for where titles go.
func (c *checker) accept(at string, a *Accept) {
	c.scope(at, &a.Scope)
	c.known(len(a.Platforms) > 0, at, "an [[accept]] needs platforms")
	c.known(!a.Path.Empty(), at, "an [[accept]] needs a path")
	c.fields(at+".path", a.Path, pathFields)
	c.known(a.Path.Empty() || reports(a.Path), at+".path",
		"the path has neither {id} nor {title}, so every title would get the same one")
	c.fields(at+".tracks", a.Tracks, append(slices.Clone(partFields), FieldFile))
	c.known(a.Tracks.Empty() || a.Tracks.Uses(FieldFile) || reports(a.Tracks) && (a.Tracks.Uses(FieldIndex) ||
		a.As(title.Tracks) == shape.OneFile), at+".tracks",
		"the path of tracks must distinguish titles and tracks: it needs {file}, or {index} with {title} or {id}")
	for _, as := range []struct {
		key, value string
		form       title.Form
	}{{"images", a.Images, title.Image}, {"tracks-as", a.TracksAs, title.Tracks}, {"folders", a.Folders,
		title.Folder}} {
		c.maybe(at+"."+as.key, "shape", as.value, append([]string{asTheyAre}, shape.From(as.form)...))
		c.known(as.value == "" || len(a.Forms) == 0 || slices.Contains(a.Forms, as.form), at+"."+as.key,
			"the rule does not cover titles of the form %s", as.form)
	}
	c.maybe(at+".dumps", "way with dumps", a.Dumps, dumpWords)
	c.known(!a.Compress || a.As(title.Image) == shape.Pack || a.TooLarge.Do == "pack", at+".compress",
		"only packed images can be compressed, but this rule packs none")
	c.maybe(at+".archives", "way with archives", a.Archives, archiveWords)
	for _, key := range []struct {
		name     string
		patterns []string
	}{{"keep", a.Package.Keep}, {"drop", a.Package.Drop}} {
		for _, pattern := range key.patterns {
			c.pattern(at+".package."+key.name, pattern)
			c.known(key.name == "keep" || !slices.Contains(a.Package.Keep, pattern), at+".package.drop",
				"%q is both kept and dropped", pattern)
		}
	}
	for _, r := range a.Package.Rename {
		c.pattern(at+".package.rename", r.From)
		c.inside(at+".package.rename", r.To)
	}
	c.titleRule(at+".title", &a.Title)
	c.known(a.OverflowAfter >= 0, at+".overflow-after", "overflow-after cannot be negative")
	c.known(!a.PageOne || a.OverflowAfter > 0, at+".page-one", "only a rule with overflow-after has pages")
	c.known(a.OverflowAfter == 0 || a.Path.Uses(FieldPage), at+".overflow-after",
		"the path has no {page}, so there can be no further folder")
	for _, x := range c.p.Attachments {
		if len(a.On) == 0 || slices.Contains(a.On, x.Name) {
			c.known(x.Entries == 0 || a.OverflowAfter <= x.Entries, at+".overflow-after",
				"the %[2]s shows only %[3]d entries in a folder, not %[1]d", a.OverflowAfter, x.Name, x.Entries)
		}
	}
	c.known(a.OverflowAfter > 0 || !a.Path.Uses(FieldPage), at+".path",
		"{page} needs the key overflow-after, which says how many entries a folder takes")
	c.numbers(at, a)
	c.join(at+".join", a)
	c.tooLarge(at+".too-large", a)
	if a.AlsoNeeds != "" {
		var names []string
		for _, x := range c.p.Attachments {
			names = append(names, x.Name)
		}
		c.oneOf(at+".also-needs-space-on", "attachment", a.AlsoNeeds, names)
	}
}

// join checks how the pieces of a title go into one file.
func (c *checker) join(at string, a *Accept) {
	j := &a.Join
	if !a.Joins() {
		c.known(j.HeaderLength == 0 && j.Record == 0 && j.TrailerLength == 0 &&
			len(j.Header)+len(j.Rows)+len(j.Trailer) == 0,
			at, "[accept.join] needs the key of: %s", strings.Join(joinWords, ", "))
		return
	}
	c.oneOf(at+".of", "kind of pieces", j.Of, joinWords)
	for _, f := range a.Forms {
		whole := f == title.Image || f == title.Cartridge
		c.known(whole == (j.Of == "discs"), at+".of", "titles of the form %s are joined of their %s", f,
			map[bool]string{true: "discs", false: "files"}[whole])
	}
	c.known(len(a.Forms) > 0, at, "a rule that joins names the forms of its titles, in the key forms")
	c.known(j.Of != "discs" || !a.Path.Uses(FieldDisc) && a.Title.Discs.Empty(), at,
		"all discs go into one file, so its "+
			"path has no {disc}")
	c.known(a.As(title.Image) == shape.Whole && a.As(title.Tracks) == shape.Whole &&
		a.As(title.Folder) == shape.Whole &&
		a.Tracks.Empty() && !a.Straightens() && a.TooLarge.Do != "pack", at, "what is joined has no other shape")
	c.known(a.Archives == "" || a.Archives == "unpack", at, "what is joined is taken out of archives")
	c.known(j.HeaderLength >= 0 && j.HeaderLength <= mostLength && j.TrailerLength >= 0 &&
		j.TrailerLength <= mostLength, at,
		"a header or trailer has at most %d bytes", mostLength)
	c.known(j.Align >= 0 && j.Align <= mostAlign, at+".align", "pieces are aligned to at most %d bytes", mostAlign)
	c.known(j.Fill >= 0 && j.Fill < 256, at+".fill", "the byte %d is not between 0 and 255", j.Fill)
	c.known(j.Record == 0 || j.Table >= 0 && j.Record > 0 && j.Table+j.Record <= int(j.HeaderLength), at+".record",
		"the header has no space for a record of %d bytes at byte %d", j.Record, j.Table)
	c.known(j.Record > 0 || len(j.Rows) == 0, at+".row", "rows need the length of a record, in the key record")
	c.recordFields(at+".header", j.Header, int(j.HeaderLength), joinedFields)
	c.recordFields(at+".row", j.Rows, j.Record, pieceFields)
	c.recordFields(at+".trailer", j.Trailer, j.TrailerLength, joinedFields)
	for i := range j.Header {
		f := &j.Header[i]
		c.known(j.Record == 0 || f.Offset+f.Length <= j.Table || f.Offset >= j.Table+j.Record,
			fmt.Sprintf("%s.header.%d.offset",
				at, i), "the field lies in the table")
	}
	for _, all := range [][]RecordField{j.Header, j.Rows, j.Trailer} {
		for i := range all {
			c.known(all[i].Sum == "", at, "a sum of all records stands in the header of a list")
		}
	}
}

// mostAlign is to how many bytes pieces are aligned at most.
const mostAlign = 1 << 30

// numbers checks the running numbers of a rule's titles.
func (c *checker) numbers(at string, a *Accept) {
	c.maybe(at+".numbers", "way to give numbers", a.Numbers, numberWords)
	c.known(a.Numbers == "" || a.Numbered(), at+".numbers", "the path has no {number}")
	c.known(!a.Numbered() || a.OverflowAfter == 0, at+".path", "a path has either {page} or {number}")
	for _, t := range []struct {
		key string
		of  Template
	}{{"path", a.Path}, {"tracks", a.Tracks}, {"too-large.parts", a.TooLarge.Parts}} {
		c.known(!t.of.any(func(n *node) bool { return n.field == FieldTags }), at+"."+t.key,
			"{tags} may be several words; ask for one of them: {if tags is v2}…{end}")
		c.known(t.of.Uses(FieldNumber) == a.Numbered() || t.of.Empty(), at+"."+t.key,
			"the number stands in the path of the title and of all its files, or of none")
		c.known(!t.of.any(func(n *node) bool {
			back, ok := n.undo(n.apply("77"))
			return n.field == FieldNumber && (!ok || back != "77")
		}), at+"."+t.key, "a number in a path can have only the transforms pad, add, hex, letters, upper and lower")
	}
}

func (c *checker) titleRule(at string, t *TitleRule) {
	c.known(t.Longest >= 0, at+".longest", "a title cannot have at most %d characters", t.Longest)
	c.maybe(at+".count", "way to count", t.Count, countWords)
	c.fields(at+".discs", t.Discs, []Field{FieldDisc, FieldDiscs})
	behind := t.Discs.Fill(&Values{FieldDisc: "1", FieldDiscs: "2"})
	c.known(t.Longest == 0 || t.Longest > t.Length(behind), at+".longest",
		"%d characters leave no space for a name in front of %q", t.Longest, t.Discs)
	c.set(at, t.Permitted, t.Forbidden)
	t.prepare()
	letters := false
	for r := 'a'; r <= 'z'; r++ {
		letters = letters || t.Permits(r) || t.Permits(r-32)
	}
	c.known(letters, at+".permitted", "no letter is allowed, so no title can be written")
	for _, r := range behind {
		c.known(t.Permits(r), at+".discs",
			"the character %q is added to the name of each disc, but is not allowed in a name", r)
	}
}

func (c *checker) tooLarge(at string, a *Accept) {
	t := &a.TooLarge
	if t.Do == "" {
		c.known(t.PartSize == 0 && t.Parts.Empty() && t.Manifest.Empty(), at, "[accept.too-large] needs the key do: %s",
			strings.Join(tooLargeWords, ", "))
		return
	}
	c.oneOf(at+".do", "way", t.Do, tooLargeWords)
	c.known(t.Over >= 0, at+".over", "a size cannot be negative")
	if t.Do != "split" {
		return
	}
	c.known(t.PartSize > 0, at, "splitting needs the size of a part, in the key part-size")
	c.known(t.Over == 0 || t.PartSize <= t.Over, at+".part-size",
		"a part of %s is larger than the limit of %s above which files are split", size.Format(int64(t.PartSize)),
		size.Format(int64(t.Over)))
	for _, x := range c.p.Attachments {
		if len(a.On) > 0 && !slices.Contains(a.On, x.Name) {
			continue
		}
		for _, f := range x.Filesystems {
			if fs, err := target.FilesystemNamed(f); err == nil {
				c.known(int64(t.PartSize) <= fs.LargestFile, at+".part-size",
					"a part of %s bytes is too large for %s, which holds %s", size.Exact(int64(t.PartSize)), fs.Shown,
					size.Exact(fs.LargestFile))
			}
		}
	}
	c.fields(at+".parts", t.Parts, partFields)
	c.known(!t.Parts.Empty(), at, "splitting needs the path of the parts, in the key parts")
	c.known(t.Parts.Empty() || (t.Parts.Uses(FieldIndex) && reports(t.Parts)), at+".parts",
		"the path of the parts must distinguish parts and titles: it needs {index}, and {id} or {title}")
	c.series(at+".parts", t.Parts)
	c.fields(at+".manifest", t.Manifest, pathFields)
	c.known(t.Manifest.Empty() || reports(t.Manifest), at+".manifest",
		"the path has neither {id} nor {title}, so every title would get the same one")
	c.known(t.Manifest.Empty() == t.ManifestText.Empty(), at,
		"a manifest needs both its path (manifest) and its text (manifest-text)")
	c.fields(at+".manifest-text", t.ManifestText.Template, textFields)
}

// series checks that the parts of a title are known as such by their paths: what one path says must make those of all
// others, wherever else they may differ.
func (c *checker) series(at string, t Template) {
	if t.Empty() {
		return
	}
	for _, v := range []Values{
		{FieldID: "AB-12", FieldTitle: "Some Name", FieldName: "Some Name", FieldRegion: "North", FieldKind: "full",
			FieldPlatform: "one", FieldExt: ".bin", FieldNumber: "17", FieldParts: "3", FieldSize: "123456789",
			FieldForm: "image", FieldYear: "1999", FieldPlayers: "2", FieldPublisher: "Nobody"},
		{FieldID: "XY7", FieldTitle: "Else", FieldName: "Else", FieldKind: "short", FieldPlatform: "two",
			FieldExt:  ".img",
			FieldDisc: "2", FieldDiscs: "3", FieldNumber: "4", FieldParts: "3", FieldSize: "1000", FieldForm: "tracks"},
	} {
		of := func(v Values, n string) string { v[FieldIndex] = n; return t.FillPath(&v) }
		first := of(v, "1")
		read, ok := t.Match(first)
		read[FieldParts] = v[FieldParts]
		if !ok || of(read, "1") != first || of(read, "2") != of(v, "2") {
			c.known(false, at, "parts are recognised by their paths, but %q does not say how the next one is named: a "+
				"section must not ask "+
				"for what the path does not write, and what it writes must be readable", first)
			return
		}
	}
}
