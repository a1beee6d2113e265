package loader

import (
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
	orderWords    = []string{"title", "id", "kind", "platform", "path", "number", "section", "place"}
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
	c.known(p.ListPage >= 0, "list-page", "a console cannot show fewer lines than none")
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

// pattern checks a pattern of file names: * and ? for anything in one name, **
// for any folders.
func (c *checker) pattern(at, pattern string) {
	c.inside(at, pattern)
	_, err := path.Match(strings.ReplaceAll(pattern, "**", "*"), "x")
	c.known(err == nil, at, "the pattern %q has an unclosed bracket", pattern)
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
