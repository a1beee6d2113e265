package check

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/fix"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/cuesheet"
	"polytome/internal/target"
)

// sheets looks at the cue sheets of a line, and at their tracks.
func (y *loaderAudit) sheets(l *line) {
	all := l.sheets
	if all == nil {
		all = []*target.Entry{l.e}
	}
	for n, e := range all {
		if n > 0 && !y.listedBy(l, e) {
			y.needTracks(e) // the console does not look at it, and the playlist is reported
			continue
		}
		text, err := y.tree.text(e)
		if err != nil {
			y.unsure[y.tree.fold(path.Dir(e.Path))] = true
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Path: e.Path,
				Say: fmt.Sprintf("its cue sheet cannot be read: %v", err)}))
			continue
		}
		sheet, err := cuesheet.Parse(text)
		if err != nil {
			y.unsure[y.tree.fold(path.Dir(e.Path))] = true
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Path: e.Path, Say: "its cue sheet has an error: " +
				err.Error()}))
			continue
		}
		lost := false
		for _, f := range sheet.Files {
			if strings.Contains(f.Name, "/") {
				lost = true
				y.inFolder(l, e, text, f.Name)
				continue
			}
			at := path.Join(path.Dir(e.Path), f.Name)
			if track, ok := y.tree.file(at); ok && (!y.cased || track.Path == at) {
				y.need(at)
				l.Size += track.Size
				continue
			}
			lost = true
			y.lostTrack(l, e, at, text, f.Name)
		}
		if lost || !l.Starts {
			continue
		}
		t, err := y.tracksOf(e, sheet)
		if n == 0 || err != nil || t.Fault() != nil {
			y.judge(l, t, err)
		}
	}
}

// tracksOf finds out what the tracks of a sheet are.
func (y *loaderAudit) tracksOf(e *target.Entry, sheet *cuesheet.Sheet) (*title.Title, error) {
	find := func() (g game) {
		g.title, g.err = scan.IdentifyTracks(y.tree.FS, e.Path, y.set)
		return g
	}
	if y.audit.written(e.Path) {
		g := find()
		return g.title, g.err
	}
	key := y.real(e.Path) + "\x00" + path.Base(e.Path)
	for _, f := range sheet.Files {
		key += "\x00" + y.real(path.Join(path.Dir(e.Path), f.Name))
	}
	g := once(y.known, y.known.games, key, find)
	return g.title, g.err
}

// listedBy reports whether the playlist of a line names a cue sheet; one that is not there names all.
func (y *loaderAudit) listedBy(l *line, sheet *target.Entry) bool {
	for i := range y.profile.Companions {
		c := &y.profile.Companions[i]
		if !c.Decides() || !y.has(c, l) {
			continue
		}
		e, ok := y.tree.file(y.made(c.Path, y.valuesFor(c, l)))
		if !ok {
			return true
		}
		text, err := y.tree.text(e)
		return err != nil || names(layout.Decoded(c.Encoding, text), path.Base(sheet.Path), c)
	}
	return true
}

// inFolder describes a track that a cue sheet names with a folder in front: loaders look beside the sheet.
func (y *loaderAudit) inFolder(l *line, sheet *target.Entry, text, name string) {
	f := Finding{Kind: Half, Path: sheet.Path,
		Say: fmt.Sprintf("its cue sheet names %s with a folder, but track files must be beside it", name)}
	at := path.Join(path.Dir(sheet.Path), name)
	beside := path.Join(path.Dir(sheet.Path), path.Base(name))
	f.Remedy, f.Fixes = y.again("put the track file beside the cue sheet", beside, sheet.Path)
	if _, ok := y.tree.file(beside); ok {
		f.Remedy, f.Fixes = "change the cue sheet to name the file beside it",
			[]fix.Fix{{Do: fix.Write, Path: sheet.Path, Text: cuesheet.Rename(text,
				map[string]string{name: path.Base(name)})}}
		y.need(beside)
	} else {
		y.need(at)
	}
	l.broken(y, f)
}

// linesIn are the lines of a playlist that name files; # begins a comment.
func linesIn(text string, c *loader.Companion) []string {
	if c != nil {
		text = c.Text.Repeated(text)
	}
	lines := strings.FieldsFunc(strings.TrimPrefix(text, "\uFEFF"), func(r rune) bool { return r == '\n' || r == '\r' })
	for i := range lines {
		lines[i] = strings.TrimSpace(lines[i])
	}
	return slices.DeleteFunc(lines, func(line string) bool { return line == "" || line[0] == '#' })
}

// nameIn is the file that a line of a playlist names, as its rule writes it.
func nameIn(line string, c *loader.Companion) string {
	if c != nil {
		if v, ok := c.Text.ReadRow(line); ok && v[loader.FieldFile] != "" {
			return v[loader.FieldFile]
		}
	}
	return line
}

// names reports whether a line of a playlist is a file's name.
func names(text, file string, c *loader.Companion) bool {
	return slices.ContainsFunc(linesIn(text, c),
		func(line string) bool { return strings.EqualFold(nameIn(line, c), file) })
}

// needTracks notes the files that a cue sheet names.
func (y *loaderAudit) needTracks(e *target.Entry) {
	text, err := y.tree.text(e)
	if err != nil {
		return
	}
	sheet, err := cuesheet.Parse(text)
	if err != nil {
		y.unsure[y.tree.fold(path.Dir(e.Path))] = true
		return
	}
	for _, f := range sheet.Files {
		y.need(path.Join(path.Dir(e.Path), f.Name))
	}
}

// lostTrack describes a track that a cue sheet names and that is not there. One that is nearly named so is proposed.
func (y *loaderAudit) lostTrack(l *line, sheet *target.Entry, at, text, name string) {
	f := Finding{Kind: Half, Path: sheet.Path, Say: fmt.Sprintf("its track file %s is missing", path.Base(at))}
	if e, how := y.nearest(at, func(
		e *target.Entry) bool {
		return strings.EqualFold(path.Ext(e.Path), path.Ext(at))
	}); e != nil {
		f.Say += fmt.Sprintf("; %s is there: %s", path.Base(e.Path), how)
		f.Remedy, f.Fixes = "give it the name in the cue sheet", []fix.Fix{{Do: fix.Rename, Path: e.Path, To: at}}
		y.need(e.Path)
	} else if only := y.onlyTrack(sheet, text); only != nil {
		f.Say += fmt.Sprintf("; only %s is beside it", path.Base(only.Path))
		f.Remedy = "change the cue sheet to that file"
		f.Fixes = []fix.Fix{{Do: fix.Write, Path: sheet.Path, Text: cuesheet.Rename(text,
			map[string]string{name: path.Base(only.Path)})}}
		y.need(only.Path)
	} else {
		f.Remedy, f.Fixes = y.again("put the track file beside the cue sheet", at, sheet.Path)
	}
	l.broken(y, f)
}

// onlyTrack is the one track file beside a sheet of a single file, when nothing else names it.
func (y *loaderAudit) onlyTrack(sheet *target.Entry, text string) (only *target.Entry) {
	parsed, err := cuesheet.Parse(text)
	if err != nil || len(parsed.Files) != 1 || !oneSheet(y.tree.within(path.Dir(sheet.Path))) {
		return nil
	}
	for _, e := range y.tree.within(path.Dir(sheet.Path)) {
		if strings.EqualFold(path.Ext(e.Path), path.Ext(parsed.Files[0].Name)) && !e.Folder {
			if only != nil {
				return nil
			}
			only = e
		}
	}
	return only
}

// oneSheet reports whether a single cue sheet is among entries.
func oneSheet(all []*target.Entry) bool {
	n := 0
	for _, e := range all {
		if strings.EqualFold(path.Ext(e.Path), ".cue") {
			n++
		}
	}
	return n == 1
}

// nearest finds the file beside a path that is nearly named so and that nothing else is known to need.
func (y *loaderAudit) nearest(at string, takes func(*target.Entry) bool) (found *target.Entry, how string) {
	for _, e := range y.tree.within(path.Dir(at)) {
		if e.Folder || y.tree.fold(e.Path) == y.tree.fold(at) && !y.cased || !takes(e) {
			continue
		}
		if h := nearly(path.Base(e.Path), path.Base(at)); h != "" && !y.named(e) {
			return e, h
		}
	}
	return nil, ""
}

// named reports whether a file has the very name that a title of the list gives it.
func (y *loaderAudit) named(e *target.Entry) bool {
	key := y.tree.fold(e.Path)
	return y.needed[key] || y.claimed[key] && y.beside[key] == nil && y.tracks[key] == nil
}

// playlist looks for the files without which a title does not start.
func (y *loaderAudit) playlist(l *line) {
	for i := range y.profile.Companions {
		c := &y.profile.Companions[i]
		if !c.Decides() || !y.has(c, l) {
			continue
		}
		at := y.made(c.Path, y.valuesFor(c, l))
		if e, ok := y.tree.file(at); ok {
			y.need(at)
			switch {
			case e.Size == 0 && (!c.Text.Empty() || !c.IsText()):
				f := Finding{Kind: Half, Path: e.Path, Say: fmt.Sprintf("its %s %s has no bytes", c.Is, path.Base(at))}
				f.Remedy, f.Fixes = y.rewrite(c, l, e.Path)
				l.broken(y, f)
			case y.o.Depth != Names && !c.IsText():
				y.bytes(c, l, e)
			case y.o.Depth != Names && c.Is == "playlist":
				y.playlistNames(l, e)
			}
			continue
		}
		f := Finding{Kind: Half, Path: at, Say: fmt.Sprintf("its %s %s is missing", c.Is, path.Base(at))}
		if near, how := y.nearest(at, func(e *target.Entry) bool {
			return y.beside[y.tree.fold(e.Path)] != nil || !y.claimed[y.tree.fold(e.Path)]
		}); near != nil {
			f.Say += fmt.Sprintf("; there is %s: %s", path.Base(near.Path), how)
			f.Remedy, f.Fixes = "give it the exact name", []fix.Fix{{Do: fix.Rename, Path: near.Path, To: at}}
			y.need(near.Path)
		} else {
			f.Remedy, f.Fixes = y.rewrite(c, l, at)
		}
		l.broken(y, f)
	}
}

// rewrite is how a companion of a line that is missing or wrong is made again.
func (y *loaderAudit) rewrite(c *loader.Companion, l *line, at string) (remedy string, fixes []fix.Fix) {
	switch {
	case c.IsCopy():
		return y.again("fill the target again", at)
	case c.Length > 0:
		return "write it", []fix.Fix{{Do: fix.Write, Path: at,
			Text: fix.Text(layout.CompanionBytes(c, y.valuesFor(c, l)))}}
	}
	return "write it", []fix.Fix{{Do: fix.Write, Path: at, Text: fix.Text(layout.CompanionContent(c, y.written(c, l)))}}
}

// bytes compares a companion of a line, byte by byte, with the file that it is a copy of, and with what is set in it.
func (y *loaderAudit) bytes(c *loader.Companion, l *line, e *target.Entry) {
	wrong := ""
	switch has, err := y.tree.text(e); {
	case err != nil && !errors.Is(err, errLong):
		wrong = fmt.Sprintf("cannot be read: %v", err)
	case c.IsCopy():
		from, there := y.tree.file(c.File)
		if !there {
			return // which is reported by itself
		}
		if from.Size != e.Size {
			wrong = fmt.Sprintf("is no copy of %s as it is now", c.File)
			break
		}
		want, err := y.tree.text(from)
		if err != nil { // which is reported by itself, or too long to be read whole
			return
		}
		b := make([]byte, len(want))
		_, _ = shape.Overlaid(strings.NewReader(want), layout.Patches(c, y.valuesFor(c, l))).ReadAt(b, 0)
		if string(b) != has {
			wrong = fmt.Sprintf("is no copy of %s as it is now", c.File)
		}
	case err == nil && has != string(layout.CompanionBytes(c, y.valuesFor(c, l))):
		wrong = "has other bytes than it should"
	}
	if wrong == "" {
		return
	}
	f := Finding{Kind: Half, Path: e.Path, Say: fmt.Sprintf("its %s %s %s", c.Is, path.Base(e.Path), wrong)}
	f.Remedy, f.Fixes = y.rewrite(c, l, e.Path)
	l.broken(y, f)
}

// playlistNames looks for the files that a playlist names.
func (y *loaderAudit) playlistNames(l *line, e *target.Entry) {
	text, err := y.tree.text(e)
	if err != nil {
		l.broken(y, Finding{Kind: Half, Path: e.Path, Say: fmt.Sprintf("its playlist cannot be read: %v", err),
			Remedy: "write it again"})
		return
	}
	c := y.decisive(e.Path)
	if c != nil {
		text = layout.Decoded(c.Encoding, text)
	}
	again := []fix.Fix{{Do: fix.Write, Path: e.Path, Text: y.content(c, l)}}
	lines := linesIn(text, c)
	if len(lines) == 0 {
		l.broken(y, Finding{Kind: Half, Path: e.Path, Say: "its playlist is empty", Remedy: "list all discs in it",
			Fixes: again})
		return
	}
	discs := y.discRows(l)
	listed := make([]bool, len(discs))
	for _, line := range lines {
		named := nameIn(line, c)
		k := slices.IndexFunc(discs, func(d loader.Values) bool {
			return c != nil && strings.EqualFold(strings.TrimSpace(c.Text.Row(&d)), line)
		})
		if k < 0 {
			k = slices.IndexFunc(discs, func(
				d loader.Values) bool {
				return strings.EqualFold(d[loader.FieldFile], named)
			})
		}
		if k >= 0 {
			listed[k] = true
			continue
		}
		if y.besideList(e, l, named) {
			continue
		}
		f := Finding{Kind: Half, Path: e.Path, Say: fmt.Sprintf("its playlist names %s, which is missing", named)}
		if want := y.written(c, l); want != "" && !sameLines(text, want) {
			f.Remedy, f.Fixes = "list the discs that are there", again
		} else {
			f.Remedy, f.Fixes = y.again("put that disc beside it", path.Join(path.Dir(e.Path), named))
		}
		l.broken(y, f)
		return
	}
	if k := slices.Index(listed, false); k >= 0 {
		y.report(Finding{Kind: List, Grade: Fault, Path: e.Path,
			Say:     fmt.Sprintf("the playlist lacks %s, which is there", discs[k][loader.FieldFile]),
			Matters: "the game cannot continue on that disc",
			Remedy:  "list all discs in it", Fixes: again})
	}
}

// besideList reports whether a file that a playlist names is there: beside the playlist, or beside the game, where its
// rule gives the name alone.
func (y *loaderAudit) besideList(e *target.Entry, l *line, named string) bool {
	for _, dir := range []string{path.Dir(e.Path), path.Dir(l.path)} {
		if _, ok := y.tree.file(path.Join(dir, named)); ok {
			return true
		}
	}
	return false
}

func sameLines(a, b string) bool {
	return strings.Join(strings.Fields(a), " ") == strings.Join(strings.Fields(b), " ")
}

// decisive is the rule of a companion without which a title does not start, by its path.
func (y *loaderAudit) decisive(file string) *loader.Companion {
	for i := range y.profile.Companions {
		if c := &y.profile.Companions[i]; c.Decides() {
			if _, ok := c.Path.Match(file); ok {
				return c
			}
		}
	}
	return nil
}

// written is the text of a companion of a line.
func (y *loaderAudit) written(c *loader.Companion, l *line) string {
	if c == nil {
		return ""
	}
	return layout.CompanionText(c, y.valuesFor(c, l), y.discRows(l))
}

// content is a companion of a line as it is on the target.
func (y *loaderAudit) content(c *loader.Companion, l *line) string {
	if c == nil {
		return ""
	}
	return fix.Text(layout.CompanionContent(c, y.written(c, l)))
}

// discRows are the values of each disc of a line's title, for texts that name them: it is one line with its cue sheets,
// or each disc has a line.
func (y *loaderAudit) discRows(l *line) (rows []loader.Values) {
	for n, s := range l.sheets {
		row := *y.values(l)
		row[loader.FieldFile], row[loader.FieldIndex], row[loader.FieldDisc] = path.Base(s.Path), strconv.Itoa(n+1),
			strconv.Itoa(n+1)
		rows = append(rows, row)
	}
	if len(rows) > 0 {
		return rows
	}
	for n, o := range y.discsOf(l) {
		row := *y.values(o)
		row[loader.FieldIndex] = strconv.Itoa(n + 1)
		rows = append(rows, row)
	}
	return rows
}

// discKey is what the lines of one title have in common.
type discKey struct {
	name, platform, page string
	rule                 *loader.Accept
}

// discKeyOf is a line's. It reports whether anything says that the line is one of several.
func discKeyOf(l *line) (k discKey, several bool) {
	name, n := withoutDisc(l)
	return discKey{name, l.Platform, l.v[loader.FieldPage], l.rule}, n > 0 || l.v[loader.FieldDisc] != ""
}

// discsOf are the lines of a title's discs, in their order, of which one is given. All lines are known.
func (y *loaderAudit) discsOf(l *line) []*line {
	k, several := discKeyOf(l)
	if !several {
		return []*line{l}
	}
	if y.together == nil {
		y.together = map[discKey][]*line{}
		for _, o := range y.lines {
			of, _ := discKeyOf(o)
			y.together[of] = append(y.together[of], o)
		}
		for _, all := range y.together {
			slices.SortStableFunc(all, func(a, b *line) int { return discNumber(a) - discNumber(b) })
		}
	}
	return y.together[k]
}

// has reports whether a line has a companion of a rule.
func (y *loaderAudit) has(c *loader.Companion, l *line) bool {
	forms := l.rule.Forms
	if len(forms) == 0 {
		forms = []title.Form{""}
	}
	if c.Per != "disc" && furtherDisc(l) && !y.unknown(c, l) { // it needs none, and may have one
		_, there := y.tree.file(y.made(c.Path, y.valuesFor(c, l)))
		return there && !c.Decides()
	}
	may, must := y.asks(c.When, l)
	if !may || !slices.ContainsFunc(forms,
		func(f title.Form) bool { return c.Match(l.Platform, f, y.on, y.facts.Filesystem.Name) }) {
		return false
	}
	if !must || y.unknown(c, l) {
		_, there := y.tree.file(y.made(c.Path, y.valuesFor(c, l)))
		return there
	}
	return true
}

// unknown reports whether only a look inside reports whether a line has a companion, and how it is named: its path
// leaves open which of several platforms it is of, or its ID or title as it was.
func (y *loaderAudit) unknown(c *loader.Companion, l *line) bool {
	if l.in != nil {
		return false
	}
	if !l.by.Keeps(loader.FieldID) || !l.by.Keeps(loader.FieldTitle) {
		return true
	}
	if c.Per != "disc" {
		if _, n := withoutDisc(l); n > 0 { // or its name ends so
			return true
		}
	}
	v := y.valuesFor(c, l)
	if slices.ContainsFunc(c.Path.Needs(), func(f loader.Field) bool { return v[f] == "" }) {
		return true
	}
	if l.by.Uses(loader.FieldPlatform) {
		return false
	}
	likely := 0
	for _, p := range l.rule.Platforms {
		if layout.Unlikely(y.set, l.rule, l.by, p, &l.v) == "" {
			likely++
		}
	}
	return likely > 1
}

// furtherDisc reports whether a line is the second or a later disc of a title, which has a line for each.
func furtherDisc(l *line) bool { return discNumber(l) > 1 }

// discNumber is which disc of its title a line is; 0 where nothing says that it is one of several.
func discNumber(l *line) int {
	if l.in != nil {
		return l.in.Discs[0].Number
	}
	if n, err := strconv.Atoi(l.v[loader.FieldDisc]); err == nil {
		return n
	}
	_, n := withoutDisc(l)
	return n
}

// withoutDisc is the title of a line as its path says it, without what stands behind it for the number of its disc; the
// number is 0 where nothing does.
func withoutDisc(l *line) (name string, disc int) {
	name = l.v[loader.FieldTitle]
	for n := 1; n <= mostDiscs && !l.rule.Title.Discs.Empty(); n++ {
		if l.in != nil && (l.in.Of == 1 || l.in.Discs[0].Number != n) {
			continue
		}
		end := l.rule.Title.Behind(n)
		if before := len(name) - len(end); before > 0 && strings.EqualFold(name[before:], end) {
			return name[:before], n
		}
	}
	return name, 0
}

// mostDiscs is how many discs of a title are known by the end of its name.
const mostDiscs = 20

// valuesFor are the values of a line for a companion. One that a title has once is named by the title, and not by one
// of its discs.
func (y *loaderAudit) valuesFor(c *loader.Companion, l *line) *loader.Values {
	v := y.values(l)
	if c.Per != "disc" {
		v[loader.FieldTitle], _ = withoutDisc(l)
		v[loader.FieldName] = v[loader.FieldTitle]
	}
	return v
}

// values are the fields of a line as templates of companions and lists use them.
func (y *loaderAudit) values(l *line) *loader.Values {
	v := l.v
	v[loader.FieldFile], v[loader.FieldFolder] = path.Base(l.path), path.Dir(l.path)
	v[loader.FieldBase] = strings.TrimSuffix(v[loader.FieldFile], path.Ext(v[loader.FieldFile]))
	if l.e.Folder {
		v[loader.FieldBase] = v[loader.FieldFile]
	}
	v[loader.FieldName] = v[loader.FieldTitle]
	if l.in != nil && !l.by.Uses(loader.FieldTitle) {
		v[loader.FieldName] = cmp.Or(l.in.Name, v[loader.FieldName])
	}
	if l.in != nil {
		v[loader.FieldRegion] = cmp.Or(v[loader.FieldRegion], l.in.Region)
		v[loader.FieldKind] = cmp.Or(v[loader.FieldKind], l.in.Discs[0].Kind)
	}
	v[loader.FieldSize] = strconv.FormatInt(l.Size, 10)
	v[loader.FieldParts] = y.partCount(l)
	if len(l.rule.Forms) == 1 {
		v[loader.FieldForm] = string(l.rule.Forms[0])
	}
	if v[loader.FieldID] == "" && l.in != nil {
		v[loader.FieldID] = l.in.Discs[0].ID
	}
	return &v
}
