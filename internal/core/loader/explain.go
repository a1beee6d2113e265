package loader

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/shape"
	"polytome/internal/target/protocols"

	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// A Section is some of a loader's rules in plain sentences.
type Section struct {
	Title string   `json:"title"`
	Lines []string `json:"lines"`
}

// Explain tells all rules of a profile in plain sentences.
func (p *Profile) Explain() []Section {
	var out []Section
	add := func(title string, lines []string) {
		if len(lines) > 0 {
			out = append(out, Section{title, lines})
		}
	}
	var reach []string
	for i := range p.Attachments {
		reach = append(reach, p.Attachments[i].sentences()...)
	}
	add("How it is connected", reach)
	var takes []string
	for i := range p.Accepts {
		takes = append(takes, p.acceptSentences(&p.Accepts[i])...)
	}
	add("What it supports, and where", takes)
	var not []string
	for i := range p.Refusals {
		r := &p.Refusals[i]
		line := fmt.Sprintf("Not %s%s: %s.", games(r.Platforms, r.Forms), strings.TrimSuffix(p.where(&r.Scope),
			","), r.Say)
		if len(r.Ways) > 0 {
			line += " Instead: " + strings.Join(r.Ways, "; or ") + "."
		}
		not = append(not, line)
	}
	add("What it does not support", not)
	var with []string
	for i := range p.Companions {
		with = append(with, p.companionSentence(&p.Companions[i]))
	}
	for i := range p.Lists {
		with = append(with, p.listSentence(&p.Lists[i]))
	}
	add("Files for each title", with)
	var kept []string
	for i := range p.Saves {
		kept = append(kept, p.Saves[i].sentence())
	}
	add("What belongs to the player", kept)
	add("Its own files", p.kitSentences())
	var boot []string
	if f := &p.FirstBoot; len(f.Folders) > 0 {
		var names []string
		for _, t := range f.Folders {
			names = append(names, t.String())
		}
		line := "The console creates these folders itself: " + strings.Join(names, ", ")
		if len(f.Platforms) > 0 {
			line += fmt.Sprintf(", for %d platforms", len(f.Platforms))
		}
		boot = append(boot, line+".")
		can := "Polytome may create all of them instead"
		if !f.MayMake {
			can = "Polytome does not create them"
		}
		if f.MayAdd {
			can += ", and may add missing ones."
		} else {
			can += ", but does not add to those that the console has created."
		}
		boot = append(boot, can)
		if f.Label != "" {
			boot = append(boot, fmt.Sprintf("It starts with an empty volume labelled %s.", f.Label))
		}
		if f.Why != "" {
			boot = append(boot, sentence(f.Why))
		}
	}
	add("The first start", boot)
	var discs []string
	for i := range p.Discs {
		discs = append(discs, p.Discs[i].sentence())
	}
	add("Discs that were burnt", discs)
	var models []string
	for i := range p.Models {
		models = append(models, p.Models[i].sentence())
	}
	add("Models of the console", models)
	var ways []string
	for _, w := range p.WaysOut {
		ways = append(ways, sentence(w.When+": "+w.Say))
	}
	add("When something does not work", ways)
	var steps []string
	for i, c := range p.Checklist {
		line := fmt.Sprintf("%d. %s", i+1, c.Say)
		if w := c.When.words(); w != "" {
			line += " (" + w + ")"
		}
		steps = append(steps, line+".")
	}
	add("At the console", steps)
	return out
}

// amount writes a size, exactly where the short form would hide something.
func amount(n int64) string {
	short := size.Format(n)
	if back, err := size.Parse(strings.ReplaceAll(strings.ReplaceAll(short, ",", ""), " ", "")); err == nil &&
		back == n {
		return short
	}
	return short + " (" + size.Exact(n) + " bytes)"
}

// sentence brings a clause into the form of a sentence.
func sentence(s string) string {
	if s == "" {
		return ""
	}
	r := []rune(s)
	return strings.TrimRight(strings.ToUpper(string(r[:1]))+string(r[1:]), ".") + "."
}

// all joins words for a sentence.
func all(words []string, last string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " " + last + " " + words[len(words)-1]
}

func (a *Attachment) sentences() []string {
	line := fmt.Sprintf("%s, over %s: %s", a.Name, ViaWord(a.Via), a.ReadsWords())
	var more []string
	say := func(ok bool, format string, args ...any) {
		if ok {
			more = append(more, fmt.Sprintf(format, args...))
		}
	}
	say(a.PartitionTable != "" && a.PartitionTable != "any", "with the partition table %s",
		strings.ToUpper(a.PartitionTable))
	say(a.Label != "", "the volume label must be %s", a.Label)
	say(len(a.LabelNot) > 0, "the volume label must not be %s", all(a.LabelNot, "or"))
	say(a.Contiguous, "every file must be contiguous")
	say(a.ReadOnly, "the console only reads it")
	say(a.Apart, "lists and covers lie apart, on a stick of the console's own")
	say(a.LargestFile > 0, "files of at most %s", amount(int64(a.LargestFile)))
	say(a.LargestVolume > 0, "volumes of at most %s", amount(int64(a.LargestVolume)))
	say(a.Cluster > 0, "clusters of %s", amount(int64(a.Cluster)))
	count := a.Count
	if count == "" {
		count = "characters"
	}
	say(a.Reserve > 0, "%s stay free", amount(int64(a.Reserve)))
	say(a.LongestName > 0, "names of at most %d %s", a.LongestName, count)
	say(a.LongestPath > 0, "paths of at most %d %s", a.LongestPath, count)
	say(len(a.Permitted) > 0, "names contain only %s", strings.Join(a.Permitted, " "))
	say(a.Forbidden != "", "names contain none of %s", a.Forbidden)
	say(a.Case == "ignored", "letter case does not matter")
	say(a.Case == "upper" || a.Case == "lower", "all names are in %s case", a.Case)
	say(a.Entries > 0, "a folder shows at most %d entries", a.Entries)
	say(a.Share != "", "the share is named %s", a.Share)
	say(a.Root != "", "everything is below /%s/", a.Root)
	if len(more) > 0 {
		line += "; " + strings.Join(more, "; ")
	}
	out := []string{sentence(line)}
	if l := a.Login; l.User != "" {
		login := "It asks for the user " + l.User
		if l.Password != "" {
			login += " and the password " + l.Password
		}
		if l.Port > 0 {
			login += fmt.Sprintf(", on port %d", l.Port)
		}
		out = append(out, login+".")
	}
	for _, v := range a.Volumes {
		line := fmt.Sprintf("Volume %s: %s", v.Name, v.For)
		if v.Size > 0 {
			line += fmt.Sprintf(" (%s as it comes)", amount(int64(v.Size)))
		}
		if v.Reserve > 0 {
			line += fmt.Sprintf("; %s stay free", amount(int64(v.Reserve)))
		}
		out = append(out, line+".")
	}
	s := a.Server
	var habits []string
	if s.Connections > 0 {
		habits = append(habits, fmt.Sprintf("%s at a time", size.Count(s.Connections, "transfer")))
	}
	if s.Listing != "" {
		habits = append(habits, "listings "+listingNames[s.Listing])
		if !s.Resume {
			habits = append(habits, "an interrupted transfer starts again")
		}
	}
	if s.Idle != "" {
		habits = append(habits, "it disconnects after "+s.Idle+" of silence")
	}
	if s.FullReply > 0 {
		habits = append(habits, fmt.Sprintf("it answers %d when a volume is full", s.FullReply))
	}
	if habits = append(habits, s.Habits...); len(habits) > 0 {
		out = append(out, sentence("Its server: "+strings.Join(habits, "; ")))
	}
	if a.Why != "" {
		out = append(out, sentence(a.Why))
	}
	return below(out)
}

// ViaWord is a connection as it stands in a sentence behind "over": "USB" for "usb".
func ViaWord(via string) string {
	if p := protocols.Named(via); p != nil {
		return p.Word
	}
	return cmp.Or(map[string]string{"usb": "USB", "adapter": "an adapter", "nbd": "NBD"}[via], via)
}

var listingNames = map[string]string{"unix": "in the style of Unix",
	"unix-no-year": "in the style of Unix, without a year", "machine": "machine-readable (MLSD)",
	"dos": "in the style of DOS"}

// games names what a rule is about.
func games(platforms []string, forms []title.Form) string {
	what := "everything"
	switch {
	case len(platforms) > 5:
		what = fmt.Sprintf("%s, %s and %d other platforms", platforms[0], platforms[1], len(platforms)-2)
	case len(platforms) > 0:
		what = all(platforms, "and")
	}
	if len(forms) > 0 {
		var f []string
		for _, form := range forms {
			f = append(f, formWords[form])
		}
		what += " " + all(f, "and")
	}
	return what
}

var formWords = map[title.Form]string{title.Image: "images", title.Tracks: "tracks with their cue sheet",
	title.Cartridge: "cartridges", title.Folder: "folders", title.Package: "packages"}

// where says at which attachments and filesystems a rule holds.
func (p *Profile) where(s *Scope) string {
	out := ""
	if len(s.On) > 0 && len(s.On) < len(p.Attachments) {
		out = " on " + all(s.On, "and")
	}
	if len(s.Filesystems) > 0 {
		var fs []string
		for _, name := range s.Filesystems {
			if f, err := target.FilesystemNamed(name); err == nil {
				fs = append(fs, f.Shown)
			}
		}
		out += " with " + all(fs, "or")
	}
	if w := s.When.words(); w != "" {
		out += ", " + w + ","
	}
	return out
}

func (p *Profile) acceptSentences(a *Accept) []string {
	line := fmt.Sprintf("%s%s go to %s", sentenceCase(games(a.Platforms, a.Forms)), p.where(&a.Scope), a.Path)
	if !a.Tracks.Empty() {
		line += ", their tracks to " + a.Tracks.String()
	}
	out := []string{line + "."}
	if a.Why != "" {
		out = append(out, sentence(a.Why))
	}
	if t := &a.Title; t.Longest > 0 || len(t.Permitted) > 0 || t.Forbidden != "" || t.ASCII {
		var rules []string
		if t.Longest > 0 {
			count := t.Count
			if count == "" {
				count = "characters"
			}
			rules = append(rules, fmt.Sprintf("has at most %d %s", t.Longest, count))
		}
		if t.ASCII {
			rules = append(rules, "is written in ASCII")
		}
		if len(t.Permitted) > 0 {
			rules = append(rules, "holds only "+strings.Join(t.Permitted, " "))
		}
		if t.Forbidden != "" {
			rules = append(rules, "holds none of "+t.Forbidden)
		}
		out = append(out, "The title "+all(rules, "and")+".")
	}
	if !a.Title.Discs.Empty() {
		out = append(out, fmt.Sprintf("Titles with several discs get %q added for each disc.", a.Title.Discs.String()))
	}
	if j := &a.Join; a.Joins() {
		out = append(out, fmt.Sprintf("The %s of a title go into one file, behind a header of %s.", j.Of,
			amount(int64(j.HeaderLength))))
		if j.Why != "" {
			out = append(out, sentence(j.Why))
		}
	}
	switch {
	case a.Appends():
		out = append(out, "Titles have running numbers; a new one gets the next, and the others keep theirs.")
	case a.Numbered():
		out = append(out, "Titles have running numbers in the order of the list, so a new one renames those behind it.")
	}
	if a.OverflowAfter > 0 {
		out = append(out, fmt.Sprintf(
			"A folder takes %d entries; the rest, in the order of names, go to page 2, 3 and so on.", a.OverflowAfter))
	}
	for _, f := range title.Forms {
		if k := shape.Of(a.As(f)); k != nil && k.Name != shape.Whole {
			out = append(out, sentence(k.Rule))
		}
	}
	if a.Straightens() {
		out = append(out, "Dumps lose a copier's header, and get their bytes in order.")
	}
	if a.Compress {
		out = append(out, "They may be compressed.")
	}
	switch a.Archives {
	case "unpack":
		out = append(out, "Archives are unpacked.")
	case "keep-zip":
		out = append(out, "Zips stay zipped, other archives are unpacked.")
	case "keep":
		out = append(out, "Archives are copied as they are.")
	}
	if g := &a.Package; len(g.Keep) > 0 {
		out = append(out, "Only these of its files are copied: "+strings.Join(g.Keep, ", ")+".")
	}
	if g := &a.Package; len(g.Drop) > 0 {
		out = append(out, "These are left out: "+strings.Join(g.Drop, ", ")+".")
	}
	for _, r := range a.Package.Rename {
		out = append(out, fmt.Sprintf("%s becomes %s.", r.From, r.To))
	}
	if t := &a.TooLarge; t.Do == "split" {
		over := "what the volume can hold in one file"
		if t.Over > 0 {
			over = amount(int64(t.Over))
		}
		line := fmt.Sprintf("Files over %s are split into parts of %s, %s", over, amount(int64(t.PartSize)), t.Parts)
		if !t.Manifest.Empty() {
			line += ", and the parts are listed in " + t.Manifest.String()
		}
		if t.Why != "" {
			line += ": " + strings.TrimSuffix(t.Why, ".")
		}
		out = append(out, line+".")
	} else if a.TooLarge.Do == "pack" {
		out = append(out, "Files too large for the volume are packed: what the disc does not use is left out.")
	} else if a.TooLarge.Do == "refuse" {
		out = append(out, "Files too large for the volume are not copied.")
	}
	if a.Unlisted {
		out = append(out, "It waits there and is not listed.")
	}
	if a.AlsoNeeds != "" {
		out = append(out, fmt.Sprintf("It must also fit on the %s.", a.AlsoNeeds))
	}
	return below(out)
}

// below puts all lines but the first under it.
func below(lines []string) []string {
	for i := 1; i < len(lines); i++ {
		lines[i] = Under + lines[i]
	}
	return lines
}

// Under begins a line that resumes what the line above is about.
const Under = "  "

func sentenceCase(s string) string { return strings.TrimSuffix(sentence(s), ".") }

func (p *Profile) companionSentence(c *Companion) string {
	line := fmt.Sprintf("%s for %s%s: %s", sentenceCase(c.Is), games(c.Platforms, c.Forms),
		strings.TrimSuffix(p.where(&c.Scope), ","), c.Path)
	if pic := c.Picture; pic.Of != "" {
		line += fmt.Sprintf(", the %s picture as %s", pic.Of, strings.ToUpper(pic.Format))
		if pic.Width > 0 {
			line += fmt.Sprintf(" %s %d x %d", map[string]string{"exact": "of exactly", "cut": "cut to",
				"inside": "of at most", "": "of at most"}[pic.Fit], pic.Width, pic.Height)
		}
		if pic.LargestFile > 0 {
			line += " and at most " + amount(int64(pic.LargestFile))
		}
	}
	switch {
	case c.IsCopy():
		line += ", a copy of " + c.File
	case c.Length > 0:
		line += fmt.Sprintf(", with %d bytes", c.Length)
	}
	if len(c.Bytes) > 0 {
		var set []string
		for i := range c.Bytes {
			set = append(set, fmt.Sprintf("%s at byte %d", c.Bytes[i].Value, c.Bytes[i].Offset))
		}
		line += ", in which stand " + all(set, "and")
	}
	if c.Per == "disc" {
		line += ", one for each disc"
	}
	if kept := c.Kept(); len(kept) > 0 {
		line += "; " + all(kept, "and") + " stay as you set them"
	}
	if c.LockedBy != "" {
		line += "; so do the values of " + c.LockedBy
	}
	if c.Shows != "" {
		line += "; the list shows the title by its " + c.Shows
	}
	if c.Places != "" {
		line += "; a title with a " + c.Places + " comes first in the list, in that order"
	}
	if c.Sections != "" {
		line += "; the list has sections, by its " + c.Sections
	}
	if c.Favours != "" {
		line += "; " + c.Favours + " marks it as a favourite"
	}
	line += "."
	if c.Why != "" {
		line += " " + sentence(c.Why)
	}
	return line
}

func (p *Profile) listSentence(l *List) string {
	if l.Bare() {
		return strings.TrimRight(fmt.Sprintf("The file %s lies beside %s%s. %s", l.Path, games(l.Platforms, l.Forms),
			strings.TrimSuffix(p.where(&l.Scope), ","), sentence(l.Why)), " ")
	}
	kind := "a line for each"
	if l.Make != "" {
		kind = "an entry for each, as " + strings.ToUpper(l.Make)
	}
	if l.Record > 0 {
		kind = fmt.Sprintf("a record of %d bytes for each", l.Record)
	}
	if l.Per == "title" {
		kind += " title, with its discs"
	}
	line := fmt.Sprintf("The list %s has all %s%s, %s", l.Path, games(l.Platforms, l.Forms), p.where(&l.Scope), kind)
	if len(l.Order) > 0 {
		line += ", in the order of " + all(l.Order, "and")
	}
	line += "."
	if l.Why != "" {
		line += " " + sentence(l.Why)
	}
	return line
}

// EditionWords names the editions, of which one of each kind is chosen.
func (k *Kit) EditionWords() string {
	names, of := k.Axes()
	var axes []string
	for _, axis := range names {
		var e []string
		for _, x := range of[axis] {
			e = append(e, strings.TrimSuffix(x.Name+" ("+x.Shown+")", " ()"))
		}
		words := all(e, "and")
		if axis != "" {
			words = axis + ": " + words
		}
		axes = append(axes, words)
	}
	return strings.Join(axes, "; ")
}

func (p *Profile) kitSentences() []string {
	var out []string
	if p.Kit.Shown != "" {
		line := sentence(p.Kit.Shown)
		if len(p.Kit.Editions) > 0 {
			line += " It comes in editions: " + p.Kit.EditionWords() + "."
		}
		out = append(out, line)
	}
	for _, f := range p.Kit.Files {
		line := f.To
		if f.Text != "" {
			line += " is written for you"
		} else if len(f.From) > 0 && !slices.Equal(f.From, []string{f.To}) {
			line += " from " + all(f.From, "or")
		}
		if len(f.Editions) > 0 {
			line += ", edition " + all(f.Editions, "or")
		}
		if f.Optional {
			line += ", if you like"
		}
		if len(f.Platforms) > 0 {
			line += ", for games of " + all(f.Platforms, "and")
		}
		if f.Why != "" {
			line += ": " + f.Why
		}
		out = append(out, line+".")
	}
	for _, s := range p.Settings {
		line := fmt.Sprintf("%s must contain %s=%s", s.File, s.Key, s.Value)
		if s.Section != "" {
			line += " under [" + s.Section + "]"
		}
		out = append(out, line+", otherwise "+strings.TrimSuffix(s.Otherwise, ".")+".")
	}
	for _, s := range p.SystemImages {
		line := fmt.Sprintf("%s goes to %s; it is recognised by its checksum, whatever its name", sentenceCase(s.Shown),
			s.To)
		if unsure := s.Unsure(); unsure != "" {
			line = fmt.Sprintf("%s goes to %s; %s", sentenceCase(s.Shown), s.To, unsure)
		}
		if s.Optional {
			line += ", and can be left out"
		}
		out = append(out, line+". "+sentence(s.Why))
	}
	return out
}
