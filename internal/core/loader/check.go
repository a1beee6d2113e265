package loader

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"

	"polytome/internal/core/shape"
	"polytome/internal/core/strict"
	"polytome/internal/core/title"
	"polytome/internal/format/sums"
	"polytome/internal/nearest"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/target/protocols"
)

// Connections are the ways on which bytes can reach a target: mounted on this computer
// (usb), through an adapter as a disk of the console's own format, over the
// protocols of [protocols.All], or as an exported block device.
var Connections = slices.Concat([]string{"usb", "adapter"}, protocols.Names(), []string{"nbd"})

// The words that keys may have.
var (
	verdictWords  = []string{"too big", "no space"}
	countWords    = []string{"characters", "bytes", "utf-16", "shift-jis"}
	caseWords     = []string{"ignored", "kept", "upper", "lower"}
	tableWords    = []string{"mbr", "gpt", "none", "any"}
	joinWords     = []string{"discs", "files"}
	perWords      = []string{"title", "disc"}
	numberWords   = []string{"in-order", "append"}
	dumpWords     = []string{string(shape.Straight), asTheyAre}
	archiveWords  = []string{"unpack", "keep-zip", "keep"}
	tooLargeWords = []string{"refuse", "split", "pack"}
	isWords       = []string{"cover", "settings", "launcher", "playlist"}
	syntaxWords   = []string{"key=value", "ini", "toml"}
	pictureWords  = title.PictureKinds
	formatWords   = []string{"jpg", "png"}
	fitWords      = []string{"inside", "exact", "cut"}
	encodingWords = Encodings
	textMakes     = []string{"json", "xml"}
	listMakes     = []string{"csv", "json", "xml", "ini"}
	orderWords    = []string{"title", "id", "kind", "platform", "path", "number"}
	listingWords  = []string{"unix", "unix-no-year", "machine", "dos"}
)

// ParseProfile reads a loader profile and checks that its rules can work.
// Errors are [*strict.Error], all of them joined.
func ParseProfile(file string, data []byte) (*Profile, error) {
	p := &Profile{File: file}
	src, err := strict.Decode(file, data, p)
	if err != nil {
		return nil, err
	}
	p.source = src
	c := &checker{src: src, p: p}
	c.known(p.Format == FormatVersion, "format", "it has format %d; this version reads format %d", p.Format,
		FormatVersion)
	c.name("name", p.Name)
	c.known(p.Shown != "", "shown", "the key shown (the loader's display name) is missing")
	c.known(len(p.Attachments) > 0, "", "[[attachment]] is missing: how the loader reaches games")
	c.known(len(p.Accepts) > 0, "", "[[accept]] is missing: what the loader supports")
	c.each("list-order", "order", p.ListOrder, slices.DeleteFunc(slices.Clone(orderWords),
		func(w string) bool { return w == "number" }))
	for i := range p.Attachments {
		c.attachment(at("attachment", i), &p.Attachments[i], i)
	}
	for i := range p.Refusals {
		r := &p.Refusals[i]
		c.scope(at("refuse", i), &r.Scope)
		c.known(r.Say != "", at("refuse", i), "a [[refuse]] must say why, in the key say")
	}
	for i := range p.Accepts {
		c.accept(at("accept", i), &p.Accepts[i])
	}
	for i := range p.Companions {
		c.companion(at("companion", i), &p.Companions[i])
	}
	for i := range p.Lists {
		c.list(at("list", i), &p.Lists[i])
	}
	c.kit(&p.Kit)
	for i := range p.Settings {
		c.setting(at("setting", i), &p.Settings[i])
	}
	for i := range p.SystemImages {
		s := &p.SystemImages[i]
		c.inside(at("system-image", i)+".to", s.To)
		for _, sum := range s.Sums {
			c.known(sums.Of(sum) != "", at("system-image", i)+".sums",
				"%q is no CRC-32, MD5, SHA-1 or SHA-256 sum: 8, 32, 40 or 64 digits 0-9 and a-f", sum)
		}
		for _, from := range s.From {
			c.pattern(at("system-image", i)+".from", from)
		}
		c.known(s.Magic == "" || len(s.Hex) == 0, at("system-image", i)+".hex",
			"magic and hex are the same bytes; write one")
		c.known(len(s.Sums) > 0 || s.Size > 0 && len(s.Lead())+len(s.From) > 0, at("system-image", i),
			"a [[system-image]] is known by sums, or by its size with magic, hex or from")
		c.known(s.Size >= 0, at("system-image", i)+".size", "a size cannot be negative")
	}
	for _, f := range p.FirstBoot.Folders {
		c.fields("first-boot.folders", f, []Field{FieldPlatform})
	}
	for i := range p.Saves {
		c.save(at("save", i), &p.Saves[i])
	}
	for i := range p.Discs {
		c.disc(at("disc", i), &p.Discs[i])
	}
	for i := range p.Models {
		c.model(at("model", i), &p.Models[i], p.Models[:i])
	}
	for i, w := range p.WaysOut {
		c.oneOf(at("way-out", i)+".when", "verdict", w.When, verdictWords)
		c.known(w.Say != "", at("way-out", i), "a [[way-out]] must say what to do, in the key say")
	}
	for i, w := range p.Checklist {
		c.known(w.Say != "", at("checklist", i), "a [[checklist]] must say what to do, in the key say")
		for _, f := range w.When.fields() {
			c.known(slices.Contains(situationFields, f), at("checklist", i)+".when",
				"a checklist cannot test the %s; it can test via, filesystem, volume, capacity, %s", f,
				strings.Join(Situations, ", "))
		}
		c.condition(at("checklist", i)+".when", w.When)
	}
	for i := range p.Examples {
		c.example(at("example", i), &p.Examples[i])
	}
	return p, errors.Join(c.all...)
}

func at(table string, i int) string { return table + "." + strconv.Itoa(i) }

type checker struct {
	src *strict.Source
	p   *Profile
	all []error
}

func (c *checker) known(ok bool, path, format string, args ...any) {
	if !ok {
		c.all = append(c.all, c.src.Errorf(path, format, args...))
	}
}

func (c *checker) oneOf(path, what, got string, words []string) {
	if slices.Contains(words, got) {
		return
	}
	c.all = append(c.all, c.src.Errorf(path, "%v", nearest.Unknown(what, got, words)))
}

// maybe is oneOf for a key that may be left out.
func (c *checker) maybe(path, what, got string, words []string) {
	if got != "" {
		c.oneOf(path, what, got, words)
	}
}

func (c *checker) each(path, what string, got, words []string) {
	for _, g := range got {
		c.oneOf(path, what, g, words)
	}
}

func (c *checker) name(path, name string) {
	ok := name != "" && !strings.ContainsFunc(name, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-')
	})
	c.known(ok, path, "the name %q must consist of lower-case letters, digits and hyphens", name)
}

func (c *checker) inside(path, file string) {
	c.known(file != "", path, "a path is missing here")
	if err := insideRoot(file); err != nil {
		c.known(false, path, "%v", err)
	}
}

// fields checks that a template uses only what is known where it stands.
func (c *checker) fields(path string, t Template, allowed []Field) {
	var names []string
	for _, f := range allowed {
		names = append(names, f.String())
	}
	for _, f := range t.Fields() {
		if !slices.Contains(allowed, f) {
			c.known(false, path, "the field %q cannot be used here; here are: %s", f, strings.Join(names, ", "))
		}
	}
}

// condition checks the words that a condition on situations asks for.
func (c *checker) condition(path string, w Condition) {
	for _, t := range w.terms() {
		if t.field == FieldSituation {
			c.each(path, "situation", t.wanted, Situations)
		}
		if t.field == FieldVia && t.is == equal {
			c.each(path, "connection", t.wanted, Connections)
		}
		if t.field == FieldVolume && t.is == equal {
			c.each(path, "volume", t.wanted, c.volumes())
		}
		if t.field == FieldForm && t.is == equal {
			c.each(path, "form", t.wanted, formNames())
		}
	}
}

func (c *checker) attachment(at string, a *Attachment, i int) {
	c.name(at+".name", a.Name)
	for j := range i {
		c.known(c.p.Attachments[j].Name != a.Name, at+".name", "two attachments are named %q", a.Name)
	}
	c.oneOf(at+".via", "connection", a.Via, Connections)
	c.root(at+".root", a.Root)
	c.known(len(a.Filesystems) > 0, at,
		"the attachment names no filesystems; name those that the loader reads, or \"any\", or \"own\" for the "+
			"console's own")
	c.each(at+".filesystems", "filesystem", a.Filesystems, append(target.FilesystemNames(), "any", "own"))
	c.maybe(at+".partition-table", "partition table", a.PartitionTable, tableWords)
	c.maybe(at+".count", "way to count", a.Count, countWords)
	c.maybe(at+".case", "case rule", a.Case, caseWords)
	c.set(at, a.Permitted, a.Forbidden)
	c.known(a.Label == "" || !slices.Contains(a.LabelNot, a.Label), at+".label-not",
		"the label %q is both required and forbidden", a.Label)
	if slices.Contains(a.Filesystems, "fat32") || slices.Contains(a.Filesystems, "exfat") {
		c.known(utf8.RuneCountInString(a.Label) <= 11, at+".label",
			"a volume label has at most 11 characters; %q has %d", a.Label, utf8.RuneCountInString(a.Label))
	}
	for key, n := range map[string]int64{"largest-file": int64(a.LargestFile), "largest-volume": int64(a.LargestVolume),
		"cluster": int64(a.Cluster), "reserve": int64(a.Reserve),
		"longest-name": int64(a.LongestName), "longest-path": int64(a.LongestPath),
		"entries-per-folder": int64(a.Entries), "server.connections": int64(a.Server.Connections)} {
		c.known(n >= 0, at+"."+key, "%s cannot be negative", key)
	}
	c.known(a.LargestVolume == 0 || a.LargestFile <= a.LargestVolume, at+".largest-file",
		"a file of %s does not fit on a volume of at most %s", size.Format(int64(a.LargestFile)),
		size.Format(int64(a.LargestVolume)))
	c.known(a.LongestPath == 0 || a.LongestName <= a.LongestPath, at+".longest-name",
		"a name of %d does not fit in a path of at most %d", a.LongestName, a.LongestPath)
	for _, f := range a.Filesystems {
		fs, err := target.FilesystemNamed(f)
		if err != nil {
			continue
		}
		c.known(a.LongestName <= fs.LongestName, at+".longest-name",
			"%s allows names of at most %d %s, but this allows %d", fs.Shown, fs.LongestName, fs.Units, a.LongestName)
		c.known(int64(a.LargestFile) <= fs.LargestFile, at+".largest-file",
			"%s holds at most %s bytes a file, but this allows %s", fs.Shown, size.Exact(fs.LargestFile),
			size.Exact(int64(a.LargestFile)))
	}
	c.known(a.Login.Port >= 0 && a.Login.Port < 1<<16, at+".login.port", "the port %d is not between 1 and 65535",
		a.Login.Port)
	c.maybe(at+".server.listing", "kind of listing", a.Server.Listing, listingWords)
	if a.Server.Names != "" {
		_, err := htmlindex.Get(a.Server.Names)
		c.known(err == nil, at+".server.names",
			"unknown encoding %q; use one such as utf-8, latin1, windows-1252 or shift_jis", a.Server.Names)
	}
	if a.Server.Idle != "" {
		_, err := time.ParseDuration(a.Server.Idle)
		c.known(err == nil, at+".server.idle", "%q is not a duration; write it like 60s or 5m", a.Server.Idle)
	}
	c.known(a.Server.FullReply == 0 || a.Server.FullReply >= 400 && a.Server.FullReply < 600, at+".server.full-reply",
		"the reply %d is not an error: those of RFC 959 are 400 to 599", a.Server.FullReply)
}

// root is a folder on a server: it may begin with a slash, and does not climb.
func (c *checker) root(at, root string) {
	if root == "" {
		return
	}
	if err := insideRoot(strings.Trim(root, "/")); err != nil || slices.Contains(strings.Split(root, "/"), ".") {
		c.known(false, at, "the root %q is not a folder on a server", root)
	}
}

func (c *checker) set(at string, permitted CharacterSet, forbidden string) {
	for _, e := range permitted {
		lo, hi, ok := runeRange(e)
		c.known(!ok || lo <= hi, at+".permitted", "the range %q runs backwards", e)
	}
	if len(permitted) == 0 {
		return
	}
	for _, r := range forbidden {
		c.known(!permitted.Has(r), at+".forbidden", "the character %q is both allowed and forbidden", r)
	}
}

func (c *checker) scope(at string, m *Scope) {
	for _, f := range m.Forms {
		c.oneOf(at+".forms", "form", string(f), formNames())
	}
	for _, f := range m.When.fields() {
		c.known(slices.Contains(conditionFields, f), at+".when", "a rule cannot test the %s of a title", f)
	}
	c.condition(at+".when", m.When)
	var names []string
	reads := map[string]bool{}
	for _, a := range c.p.Attachments {
		names = append(names, a.Name)
		if len(m.On) == 0 || slices.Contains(m.On, a.Name) {
			for _, f := range a.Filesystems {
				reads[f] = true
			}
		}
	}
	c.each(at+".on", "attachment", m.On, names)
	c.each(at+".filesystems", "filesystem", m.Filesystems, target.FilesystemNames())
	for _, f := range m.Filesystems {
		c.known(reads[f] || reads["any"] || reads["own"], at+".filesystems",
			"no attachment of this rule reads %s, so it never applies", f)
	}
}

func formNames() []string {
	var out []string
	for _, f := range title.Forms {
		out = append(out, string(f))
	}
	return out
}

// tells reports whether a path differs from title to title.
func reports(t Template) bool { return t.Uses(FieldID) || t.Uses(FieldTitle) || t.Uses(FieldName) }

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

// pattern checks a pattern of file names: * and ? for anything in one name, **
// for any folders.
func (c *checker) pattern(at, pattern string) {
	c.inside(at, pattern)
	_, err := path.Match(strings.ReplaceAll(pattern, "**", "*"), "x")
	c.known(err == nil, at, "the pattern %q has an unclosed bracket", pattern)
}

func (c *checker) companion(at string, m *Companion) {
	c.scope(at, &m.Scope)
	c.oneOf(at+".is", "kind of companion", m.Is, isWords)
	c.maybe(at+".per", "per", m.Per, perWords)
	c.known(!m.Path.Empty(), at, "a [[companion]] needs a path")
	c.fields(at+".path", m.Path, companionFields)
	c.known(m.Path.Empty() || reports(m.Path) || m.Path.Uses(FieldBase) || m.Path.Uses(FieldFolder), at+".path",
		"the path has none of {id}, {title}, {base} and {folder}, so every title would get the same one")
	c.fields(at+".text", m.Text.Template, textFields)
	c.maybe(at+".syntax", "syntax", m.Syntax, syntaxWords)
	c.maybe(at+".make", "make of text", m.Make, textMakes)
	c.known(m.Make == "" || m.Syntax == "", at+".make",
		"a text has a make, or the syntax of values that are kept, not both")
	c.known(m.Shows == "" || m.Syntax != "", at+".shows", "the key shows needs the key syntax: how the text is read")
	c.known((len(m.Kept()) == 0 && m.LockedBy == "") || m.Syntax != "", at,
		"keep, switch and locked-by need the key syntax: how the text is read")
	for i, s := range m.Switches {
		c.known(s.Key != "" && len(s.Values) > 1 && s.Helps != "", fmt.Sprintf("%s.switch %d", at, i+1),
			"a switch has a key, two values or more, and what it helps with")
	}
	pic := &m.Picture
	c.bytes(at, m)
	if m.Is != "cover" {
		c.known(!m.Text.Empty() || !m.IsText(), at,
			"a companion other than a cover needs a text, a file that it is a copy of, or the length of its bytes")
		c.known(*pic == Picture{}, at+".picture", "only a cover has a picture")
		return
	}
	c.known(m.Text.Empty(), at+".text", "a cover has a picture and no text")
	c.oneOf(at+".picture.of", "picture", pic.Of, pictureWords)
	c.oneOf(at+".picture.format", "format", pic.Format, formatWords)
	c.maybe(at+".picture.fit", "fit", pic.Fit, fitWords)
	c.known(pic.Width >= 0 && pic.Height >= 0 && (pic.Width > 0) == (pic.Height > 0), at+".picture",
		"width and height, in pixels, go together")
	c.known(pic.LargestFile >= 0, at+".picture.largest-file", "a size cannot be negative")
}

// bytes checks a companion that is a copy, or made of bytes.
func (c *checker) bytes(at string, m *Companion) {
	c.known(len(m.Bytes) == 0 || m.File != "" || m.Length > 0, at+".bytes",
		"bytes are set in a copy (file), or in a file of a fixed length (length)")
	c.known(m.Length >= 0 && m.Length <= mostLength, at+".length", "such a file has at most %d bytes", mostLength)
	within := mostLength
	if m.Length > 0 {
		within = m.Length
	}
	c.recordFields(at+".bytes", m.Bytes, within, textFields)
	for i := range m.Bytes {
		c.known(m.Bytes[i].Sum == "", fmt.Sprintf("%s.bytes.%d.sum", at, i), "a sum stands in the header of a list")
	}
	c.maybe(at+".encoding", "encoding", m.Encoding, textEncodings)
	if m.File == "" && m.Length == 0 {
		return
	}
	c.known(m.File == "" || m.Length == 0, at+".length", "a companion is a copy, or has a fixed length, not both")
	c.known(m.Is != "cover" && m.Is != "playlist" && m.Text.Empty() && m.Make == "" && m.Encoding == "" &&
		m.Syntax == "",
		at, "a companion that is a copy, or of a fixed length, is a launcher or settings, and has no text, make, "+
			"encoding or "+
			"syntax")
	if m.File != "" {
		c.inside(at+".file", m.File)
		same := func(to string) bool {
			return strings.EqualFold(to, m.File) || strings.HasPrefix(strings.ToUpper(m.File), strings.ToUpper(to)+"/")
		}
		c.known(slices.ContainsFunc(c.p.Kit.Files, func(f KitFile) bool { return same(f.To) && f.Text == "" }) ||
			slices.ContainsFunc(c.p.SystemImages, func(s SystemImage) bool { return same(s.To) }), at+".file",
			"no [[kit.file]] with from, and no [[system-image]], brings %s to the target", m.File)
	}
}

// mostLength is how many bytes a companion of bytes has at most, and up to where bytes are set in a copy.
const mostLength = 1 << 20

func (c *checker) list(at string, l *List) {
	c.scope(at, &l.Scope)
	c.known(!l.Path.Empty(), at, "a [[list]] needs a path")
	c.fields(at+".path", l.Path, listPathFields)
	c.maybe(at+".per", "per", l.Per, perWords)
	c.known(!l.Line.Repeats() || l.Per == "title", at+".line",
		"{each} goes through the discs of a title: the list needs per = \"title\"")
	c.each(at+".order", "order", l.Order, orderWords)
	c.fields(at+".header", l.Header.Template, []Field{FieldDiscs})
	c.fields(at+".line", l.Line.Template, lineFields)
	c.fields(at+".footer", l.Footer.Template, []Field{FieldDiscs})
	c.maybe(at+".make", "make of list", l.Make, listMakes)
	c.maybe(at+".encoding", "encoding", l.Encoding, textEncodings)
	c.known(l.Key == "" || l.Make != "", at+".key", "a key is looked for in lists of the makes %s",
		strings.Join(listMakes,
			", "))
	_, err := strconv.Atoi(l.Key)
	c.known(l.Make != "csv" || l.Key == "" || err == nil, at+".key",
		"the key of a CSV list is the number of a column, from 1")
	c.known(l.Between == "" || l.Make == "json" || l.Make == "xml", at+".between",
		"between is for lists of the makes json and xml")
	if l.Record == 0 {
		c.known(l.HeaderLength == 0 && len(l.HeaderFields) == 0, at+".header-length",
			"a header of a fixed length needs records, in the key record")
		c.known(!l.Line.Empty() || !l.Header.Empty(), at,
			"a list needs the text of its lines (line), the length of its "+
				"records (record), or nothing but a text (header)")
		c.known(len(l.Fields) == 0, at+".field", "fields need the length of a record, in the key record")
		return
	}
	c.known(l.Record > 0, at+".record", "a record cannot have %d bytes", l.Record)
	c.known(l.Line.Empty(), at+".line", "a list has lines or records, not both")
	c.known(len(l.Fields) > 0, at, "the records have no [[list.field]]")
	c.known(l.Make == "" && l.Encoding == "", at, "make and encoding are of lists of texts")
	c.known(l.HeaderLength >= 0 && l.HeaderLength <= maxHeader, at+".header-length", "a header has at most %d bytes",
		maxHeader)
	c.known(l.HeaderLength == 0 || l.Header.Empty() && l.Footer.Empty(), at+".header",
		"a list has a text as its header, or one of a fixed length")
	c.recordFields(at+".field", l.Fields, l.Record, lineFields)
	c.recordFields(at+".header-field", l.HeaderFields, l.HeaderLength, []Field{FieldDiscs})
	for i := range l.Fields {
		c.known(l.Fields[i].Sum == "", fmt.Sprintf("%s.field.%d.sum", at, i),
			"a sum of all records stands in the header")
	}
}

// recordFields checks the fields of a record of so many bytes.
func (c *checker) recordFields(at string, all []RecordField, bytes int, allowed []Field) {
	for i := range all {
		f, fat := &all[i], fmt.Sprintf("%s.%d", at, i)
		if f.Sum != "" {
			c.oneOf(fat+".sum", "sum", f.Sum, slices.DeleteFunc(slices.Clone(checkWords),
				func(w string) bool { return w == "length" }))
			c.known(f.Value.Empty(), fat+".value", "the field is a sum, and has no value of its own")
			f.Encoding = cmp.Or(f.Encoding, "number-le")
		}
		c.oneOf(fat+".encoding", "encoding", f.Encoding, encodingWords)
		c.fields(fat+".value", f.Value.Template, allowed)
		c.known(f.Fill >= 0 && f.Fill < 256, fat+".fill", "the byte %d is not between 0 and 255", f.Fill)
		c.known(f.Offset >= 0 && f.Length > 0 && f.Offset+f.Length <= bytes, fat,
			"bytes %d to %d are not in a record of %d", f.Offset, f.Offset+f.Length, bytes)
		for j := range i {
			o := all[j]
			c.known(f.Offset >= o.Offset+o.Length || o.Offset >= f.Offset+f.Length, fat+".offset",
				"the field overlaps field %d of the record", j+1)
		}
	}
}

// ofTarget checks a condition that can ask for the target only.
func (c *checker) ofTarget(at string, w Condition) {
	for _, f := range w.fields() {
		c.known(slices.Contains(hereFields, f), at,
			"the %s is none of the target's; a rule for the loader's own files "+
				"can test via, filesystem, volume and capacity", f)
	}
	c.condition(at, w)
}

// volumes are the names of the volumes of all attachments.
func (c *checker) volumes() (names []string) {
	for i := range c.p.Attachments {
		for _, v := range c.p.Attachments[i].Volumes {
			names = append(names, v.Name)
		}
	}
	return names
}

// attachments are the names of the profile's attachments.
func (c *checker) attachments() (names []string) {
	for _, a := range c.p.Attachments {
		names = append(names, a.Name)
	}
	return names
}

// insideRoot says why a path of a profile would leave the target.
func insideRoot(path string) error {
	switch {
	case strings.HasPrefix(path, "/"), len(path) > 1 && path[1] == ':':
		return fmt.Errorf("the path %q must be relative to the target's root", path)
	case slices.Contains(strings.Split(path, "/"), ".."):
		return fmt.Errorf("the path %q leads out of the target", path)
	case strings.ContainsFunc(path, func(r rune) bool { return r < ' ' || r == '\\' || r == 0x7F }):
		return fmt.Errorf("the path %q has a forbidden character; folders are separated by /", path)
	}
	return nil
}
