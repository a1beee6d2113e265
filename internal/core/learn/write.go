package learn

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
	"polytome/internal/core/strict"
	"polytome/internal/core/title"
	"polytome/internal/target/protocols"
)

// TOML writes the draft as a profile: with the evidence and what is still open as
// comments, so that a person can go on from there.
func (d *Draft) TOML() string {
	w := &writer{}
	w.comment("A draft of a loader profile. Read it, correct what is wrong, and answer the open questions; " +
		"docs/profile-format.md explains every key.")
	for _, f := range d.Findings {
		w.comment(fmt.Sprintf("- %s (%s: %s)", f.Say, f.Confidence, f.Evidence))
	}
	if len(d.Open) > 0 {
		w.comment("")
		w.comment("Open:")
		for _, q := range d.Open {
			w.comment("- " + q.Say)
		}
	}
	if len(d.Against) > 0 {
		w.comment("")
		w.comment("Against it:")
		for _, say := range d.Against {
			w.comment("- " + say)
		}
	}
	w.line("format = %d", loader.FormatVersion)
	w.text("name", d.Name)
	w.text("shown", d.Shown)
	w.text("console", d.Console)
	w.text("about", d.About)
	if len(d.ListOrder) == 0 {
		w.list("list-order", []string{"title"})
	}
	w.list("list-order", d.ListOrder)

	w.table("[[attachment]]", "How the loader reaches games.")
	w.text("name", attachmentName(d.Via))
	w.text("via", d.Via)
	w.list("filesystems", d.Filesystems)
	w.text("label", d.Label)
	w.text("case", d.Case)
	if d.Contiguous {
		w.line("contiguous = true")
	}

	for _, r := range d.Rules {
		w.rule(&r)
	}
	for _, c := range d.Companions {
		w.companion(&c)
	}
	for _, r := range d.Saves {
		w.save(&r)
	}
	for _, l := range d.Lists {
		w.listFile(&l)
	}
	w.kit(d.Kit)
	if b := d.Boot; b != nil {
		w.table("[first-boot]", "Folders that the console makes by itself.")
		w.list("folders", b.Folders)
		w.list("platforms", b.Platforms)
		w.line("may-make = true")
		w.line("may-add = %t", b.MayAdd)
		w.text("why", b.Why)
	}
	for _, say := range d.Checklist {
		w.table("[[checklist]]", "What to do at the console.")
		w.text("say", say)
	}
	return w.b.String()
}

func attachmentName(via string) string {
	if p := protocols.Named(via); p != nil {
		return p.Disk
	}
	return map[string]string{"usb": "stick", "adapter": "disk", "nbd": "network-disk"}[via]
}

type writer struct{ b strings.Builder }

func (w *writer) line(format string, args ...any) { fmt.Fprintf(&w.b, format+"\n", args...) }

// commentWidth is where comments are broken.
const commentWidth = 100

func (w *writer) comment(text string) {
	line := "#"
	for word := range strings.FieldsSeq(clean(text)) {
		if len(line)+len(word) >= commentWidth {
			w.line("%s", line)
			line = "#  "
		}
		line += " " + word
	}
	w.line("%s", line)
}

// clean keeps what a name could hold from extension a comment.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7F {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
}

func (w *writer) table(head, about string) {
	w.line("")
	if about != "" {
		w.comment(about)
	}
	w.line("%s", head)
}

func (w *writer) text(key, value string) {
	if value != "" {
		w.line("%s = %s", key, strict.Quote(value))
	}
}

func (w *writer) number(key string, n int64) {
	if n > 0 {
		w.line("%s = %s", key, strconv.FormatInt(n, 10))
	}
}

func (w *writer) list(key string, values []string) {
	if len(values) == 0 {
		return
	}
	var q []string
	for _, v := range values {
		q = append(q, strict.Quote(v))
	}
	w.line("%s = [%s]", key, strings.Join(q, ", "))
}

func (w *writer) rule(r *Rule) {
	w.table("[[accept]]", "What the loader supports, and the path it needs. Fields such as {id}, {title} and {ext} "+
		"stand for what is read from each game.")
	platforms := slices.Clone(r.Platforms)
	slices.Sort(platforms)
	w.list("platforms", slices.Compact(platforms))
	w.list("forms", []string{string(r.Form)})
	w.text("when", r.When)
	w.text("path", r.Path)
	if r.Tracks != "" {
		w.text("tracks", r.Tracks)
		if r.OneFile {
			w.text("tracks-as", "one-file")
		}
	}
	if r.Packed {
		w.text("images", "pack")
	}
	w.text("archives", r.Archives)
	w.number("overflow-after", int64(r.Overflow))
	w.text("numbers", r.Numbers)
	w.text("why", r.Why)
	if r.Longest > 0 || r.ASCII || r.Forbidden != "" || r.Discs != "" {
		w.table("[accept.title]", "How a title is written: its maximum length in characters, what it must not "+
			"contain, what distinguishes its discs.")
		w.number("longest", int64(r.Longest))
		if r.ASCII {
			w.line("ascii = true")
		}
		w.text("forbidden", r.Forbidden)
		w.text("discs", r.Discs)
	}
	if len(r.Rename) > 0 || len(r.Drop) > 0 {
		w.table("[accept.package]", "What happens to the files of an unpacked game.")
		w.list("drop", r.Drop)
	}
	if len(r.Rename) > 0 {
		var all []string
		for _, x := range r.Rename {
			all = append(all, fmt.Sprintf("{ from = %s, to = %s }", strict.Quote(x.From), strict.Quote(x.To)))
		}
		w.line("rename = [%s]", strings.Join(all, ", "))
	}
	if r.PartSize > 0 {
		w.table("[accept.too-large]", "What happens to a file that is too large: here it is split into parts of this "+
			"size.")
		w.text("do", "split")
		w.number("over", r.Over)
		w.number("part-size", r.PartSize)
		w.text("parts", r.Parts)
		w.text("manifest", r.Manifest)
		w.text("manifest-text", r.ManifestText)
	}
}

func (w *writer) save(r *Save) {
	w.table("[[save]]", "What players have reached.")
	w.list("platforms", r.Platforms)
	w.text("path", r.Path)
	w.text("beside", r.Beside)
	if r.Folder {
		w.line("folder = true")
	}
	w.number("size", r.Size)
	w.text("why", r.Why)
}

func (w *writer) companion(c *Companion) {
	w.table("[[companion]]", "A file for each title. {base} is the game's own name without its extension.")
	w.text("is", c.Is)
	w.list("platforms", c.Platforms)
	w.text("when", c.When)
	if c.PerDisc {
		w.text("per", "disc")
	}
	w.text("path", c.Path)
	switch {
	case c.Is == "cover":
	case c.Length > 0:
		w.number("length", int64(c.Length))
	default:
		w.line("text = %s", strict.Quote(c.Text))
		w.text("make", c.Make)
		w.text("encoding", c.Encoding)
		w.text("syntax", c.Syntax)
		w.list("keep", c.Keep)
	}
	w.text("why", c.Why)
	if c.Is == "cover" {
		w.table("[companion.picture]", "")
		w.text("of", pictureKind(c.Path))
		w.text("format", c.Picture)
		w.number("width", int64(c.Width))
		w.number("height", int64(c.Height))
		w.text("fit", "inside")
	}
	w.fields("companion.bytes", c.Bytes)
}

// fields writes values at fixed places of records.
func (w *writer) fields(table string, all []infer.Field) {
	for _, f := range all {
		w.table("[["+table+"]]", "")
		w.line("offset = %d", f.Offset)
		w.line("length = %d", f.Length)
		w.text("value", f.Value)
		w.text("encoding", f.Encoding)
		w.number("fill", int64(f.Fill))
	}
}

func (w *writer) listFile(l *List) {
	w.table("[[list]]", "A file in which titles are listed.")
	w.text("path", l.Path)
	w.list("platforms", l.Platforms)
	w.text("when", l.When)
	if l.PerTitle {
		w.text("per", "title")
	}
	w.text("make", l.Make)
	w.text("key", l.Key)
	w.text("encoding", l.Encoding)
	w.text("header", l.Header)
	w.text("line", l.Line)
	w.text("between", l.Between)
	w.text("footer", l.Footer)
	w.number("record", int64(l.Record))
	w.number("header-length", int64(l.HeaderLength))
	w.list("order", l.Order)
	w.text("why", l.Why)
	w.fields("list.header-field", l.HeaderFields)
	w.fields("list.field", l.Fields)
}

// kit writes the loader's own files.
func (w *writer) kit(all []KitFile) {
	for _, f := range all {
		w.table("[[kit.file]]", "A file of the loader's own.")
		w.text("to", f.Path)
		if f.Text == "" {
			w.list("from", []string{path.Base(f.Path)})
			w.line("optional = true")
		} else {
			w.text("text", f.Text)
		}
		w.text("why", f.Why)
	}
}

// TOML writes the description of a platform.
func (p *Platform) TOML() string {
	w := &writer{}
	w.comment(p.Shown +
		": a platform of your own. Describe in [[marker]] and [field.…] how its games are recognised; " +
		"see docs/profile-format.md.")
	w.line("format = %d", loader.FormatVersion)
	w.text("name", p.Name)
	w.text("shown", p.Shown)
	w.list("forms", []string{string(p.Form)})
	if p.Form == title.Package {
		w.list("packages", []string{p.Ext})
	} else {
		w.list("extensions", []string{p.Ext})
	}
	return w.b.String()
}

// pictureKind is what a companion shows, as far as its path says so: a folder that is named like a kind of picture;
// else the front.
func pictureKind(at string) string {
	for folder := range strings.SplitSeq(strings.ToLower(at), "/") {
		if slices.Contains(title.PictureKinds, folder) {
			return folder
		}
	}
	return title.PictureKinds[0]
}
