package check

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/archive"
	"polytome/internal/format/packed"
	"polytome/internal/size"
	"polytome/internal/target"
)

// broken has a line not start, with the reason. The first reason is enough.
func (l *line) broken(y *loaderAudit, f Finding) {
	if !l.Starts {
		return
	}
	l.Starts = false
	f.Grade = Fault
	if f.Path == "" {
		f.Path = l.path
	}
	f.Say = "it is listed, but does not start: " + f.Say
	y.report(f)
}

// inside looks into the game behind a line, and says what is wrong with it.
func (y *loaderAudit) inside(l *line) {
	if y.o.Depth == Names || y.o.Unmade != nil && y.o.Unmade(l.e.Path) {
		y.unlooked++
		return
	}
	switch {
	case l.rule.Joins():
		y.unjoined(l)
	case l.rule.As(title.Image) == shape.Pack:
		y.packed(l)
	case l.sheets != nil, slices.Contains(l.rule.Forms, title.Tracks):
		y.sheets(l)
	case l.e.Folder:
		y.folder(l)
	case slices.Contains(l.rule.Forms, title.Package):
		if l.Size == 0 {
			l.broken(y, Finding{Kind: Damaged, Say: "it has no bytes"})
		} else if t, err := y.identify(l.e); err == nil && t != nil && t.Form == title.Package && t.Fault() == nil {
			y.judge(l, t, nil)
		}
	case l.parts != nil:
		y.joined(l)
	case strings.EqualFold(path.Ext(l.e.Path), ".zip") && l.rule.Archives != "unpack":
		y.zipped(l)
	default:
		t, err := y.identify(l.e)
		y.judge(l, t, err)
	}
	if y.o.Depth == Whole {
		y.readAll(l)
	} else {
		y.unlooked++
	}
}

// judge says what is wrong with a game that was looked into.
func (y *loaderAudit) judge(l *line, t *title.Title, err error) {
	form := title.Image
	if len(l.rule.Forms) > 0 {
		form = l.rule.Forms[0]
	}
	switch {
	case err != nil:
		l.broken(y, y.whole(l, Finding{Kind: Damaged, Say: fmt.Sprintf("it cannot be read: %v", err)}))
		return
	case t == nil || t.Platform == "" || !slices.Contains(l.rule.Platforms, t.Platform) || t.Platform != l.Platform &&
		l.by.Uses(loader.FieldPlatform):
		if t != nil && t.Platform == "" && t.Fault() != nil && errorsOf(t) {
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Say: t.Fault().Say}))
			return
		}
		f := Finding{Kind: Folder, Say: fmt.Sprintf("it is not a %s %s", y.shown(l.Platform), form)}
		f.Remedy, f.Fixes = y.elsewhere(l, t)
		l.broken(y, f)
		return
	}
	l.in = t
	l.Kind, l.Platform = t.Discs[0].Kind, t.Platform
	if may, _ := y.asks(l.rule.When, l); !may && !y.byAnotherRule(l) {
		f := Finding{Kind: Folder, Say: "it lies where games are only " + l.rule.When.Words()}
		f.Remedy, f.Fixes = y.elsewhere(l, t)
		l.broken(y, f)
	}
	fits := y.splitAgain(l, t) || y.byRuleThatFits(l, t)
	kind := l.v[loader.FieldKind]
	if !l.by.Uses(loader.FieldKind) {
		kind = ""
	}
	l.v[loader.FieldKind], l.v[loader.FieldRegion] = t.Discs[0].Kind, t.Region
	if f := t.Fault(); f != nil && !y.wantsOldName(t, f) {
		l.broken(y, y.whole(l, Finding{Kind: Damaged, Say: f.Say}))
		return
	}
	within := t.Discs[0]
	if !fits {
		f := Finding{Kind: ID, Say: fmt.Sprintf("its name says %s, but the %s inside is %s", l.v[loader.FieldID], form,
			within.ID)}
		f.Remedy, f.Fixes = y.elsewhere(l, t)
		l.broken(y, f)
	}
	if kind != "" && !strings.EqualFold(kind, l.by.As(loader.FieldKind, within.Kind)) {
		f := Finding{Kind: Folder, Say: fmt.Sprintf("it is in the folder for %s discs, but is a %s disc",
			strings.ToLower(kind), within.Kind)}
		f.Remedy, f.Fixes = y.elsewhere(l, t)
		l.broken(y, f)
	}
}

// wantsOldName reports whether a value is missing that stands in the name that a file had before it was copied here.
func (y *loaderAudit) wantsOldName(t *title.Title, f *title.Finding) bool {
	p := y.set.Platform(t.Platform)
	if p == nil || f.Wants == "" {
		return false
	}
	r := p.Fields.Named(strings.ToLower(f.Wants))
	named := func(r *loader.Reading) bool { return r.FileName || r.Of == "id" && p.Fields.ID.FileName }
	return r != nil && (named(r) || slices.ContainsFunc(r.Or, func(o loader.Reading) bool { return named(&o) }))
}

// factsOf are what a condition can ask for of a line that was looked into.
func (y *loaderAudit) factsOf(l *line) *loader.Values {
	one := *l.in
	one.Discs = slices.Clone(one.Discs)
	one.Discs[0].File.Size, one.Discs[0].Parts = max(l.Size, l.largest), nil
	v := layout.Facts(&one, y.here())
	return &v
}

// partCount is in how many files a line lies.
func (y *loaderAudit) partCount(l *line) string {
	switch {
	case l.e.Folder:
		return strconv.Itoa(len(y.below(l.e.Path)))
	case l.parts != nil:
		return strconv.Itoa(len(l.parts))
	}
	return "1"
}

// asks reports whether a rule's condition may hold for a line, and whether it must, by what is known of it.
func (y *loaderAudit) asks(c loader.Condition, l *line) (may, must bool) {
	if c.Empty() {
		return true, true
	}
	v, known := *y.values(l), func(f loader.Field) bool {
		return f != loader.FieldSize || l.largest > 0 || !hasDiscs(l)
	}
	y.here().Put(&v)
	v[loader.FieldSize], v[loader.FieldParts] = strconv.FormatInt(max(l.Size, l.largest), 10), y.partCount(l)
	if len(l.rule.Forms) == 1 {
		v[loader.FieldForm] = string(l.rule.Forms[0])
	}
	if l.in != nil {
		facts := y.factsOf(l)
		for f := range v {
			if facts[f] != "" && loader.Field(f) != loader.FieldTitle && loader.Field(f) != loader.FieldParts {
				v[f] = facts[f]
			}
		}
	} else {
		known = func(f loader.Field) bool { // a name tells whether there are several discs
			return v[f] != "" || f == loader.FieldDisc || f == loader.FieldDiscs
		}
	}
	ofFirst := furtherDisc(l) // a title is known by its first disc
	ofHowMany := v[loader.FieldDiscs] != "" || !hasDiscs(l) && (l.in == nil || l.in.Of > 0)
	return c.Known(&v, func(f loader.Field) bool {
		switch f {
		case loader.FieldTags, loader.FieldYear, loader.FieldPlayers, loader.FieldPublisher:
			return false // which only the user's own file says, and what is known beside
		case loader.FieldExt:
			if !l.by.Uses(loader.FieldExt) {
				return false
			}
		}
		return known(f) && (f != loader.FieldDiscs || ofHowMany) &&
			(!ofFirst || f != loader.FieldID && f != loader.FieldKind)
	})
}

// splitAgain reads the path of a line again, now that it is known what is in the game: an ID or a name may hold what
// divides them in the path, and a transform may have left out some of it. It returns false where the path is none that
// the ID inside makes.
func (y *loaderAudit) splitAgain(l *line, t *title.Title) bool {
	id, kind := t.Discs[0].ID, t.Discs[0].Kind
	if !l.by.Uses(loader.FieldID) || id == "" {
		id = l.v[loader.FieldID]
	}
	ofKind := func(v *loader.Values) bool {
		return v[loader.FieldKind] == "" || strings.EqualFold(v[loader.FieldKind], l.by.As(loader.FieldKind, kind))
	}
	if !strings.EqualFold(l.v[loader.FieldID], id) || !ofKind(&l.v) {
		v, ok := first(l.by.Splits(l.e.Path, &loader.Values{loader.FieldID: id}))
		if !ok {
			return false
		}
		for other := range l.by.Splits(l.e.Path, &loader.Values{loader.FieldID: id}) {
			if !ofKind(&v) && ofKind(&other) {
				v = other
			}
		}
		for _, f := range l.by.Fields() {
			if f != loader.FieldPlatform {
				l.v[f] = v[f]
			}
		}
		if l.ID = id; l.v[loader.FieldTitle] != "" {
			l.Name = l.v[loader.FieldTitle]
			l.Name = y.shownAs(l)
		}
	}
	l.v[loader.FieldID] = id // as the game spells it
	if !l.by.Uses(loader.FieldTitle) && l.v[loader.FieldTitle] == "" {
		name, disc := y.nameOf(l, t)
		l.v[loader.FieldTitle] = name + disc
	} else if l.by.Transforms(loader.FieldTitle) || y.at.Case == "upper" || y.at.Case == "lower" {
		// the list shows what the path says, and companions and texts have the name as it was
		for _, name := range y.nameAsWas(l, t) {
			if _, ok := first(l.by.Splits(l.e.Path, &loader.Values{loader.FieldID: id, loader.FieldTitle: name})); ok {
				l.v[loader.FieldTitle] = name
				break
			}
		}
	}
	return true
}

// nameOf is the name that the loader's rules give a game, and what stands behind it for its disc.
func (y *loaderAudit) nameOf(l *line, t *title.Title) (name, disc string) {
	if d := t.Discs[0].Number; !l.rule.Title.Discs.Empty() && t.Of != 1 {
		disc = l.rule.Title.Behind(d)
	}
	return y.laid(l.e, t, l.Size).Name, disc
}

// nameAsWas are the names from which the one in a line's path may have been made, the likeliest first.
func (y *loaderAudit) nameAsWas(l *line, t *title.Title) (out []string) {
	name := clean(l.rule, t.Name)
	laid, disc := y.nameOf(l, t)
	out = []string{laid + disc, laid, name + disc, name}
	said, as := []rune(l.v[loader.FieldTitle]), []rune(name)
	same := 0
	for same < min(len(said), len(as)) && strings.EqualFold(string(said[same]), string(as[same])) {
		same++
	}
	rest := string(said[same:]) // of one that was shortened, the disc stands behind what is left of it
	if strings.EqualFold(rest, disc) {
		rest = disc
	}
	return append(out, string(as[:same])+rest)
}

// first is the first of several ways to read a path.
func first(all iter.Seq[loader.Values]) (loader.Values, bool) {
	for v := range all {
		return v, true
	}
	return loader.Values{}, false
}

// errorsOf reports whether what was found in a file is damage, and not that it is something else.
func errorsOf(t *title.Title) bool { return t.Form == title.Image && t.Fault().Wants == "" }

// shown is a platform's name for people.
func (y *loaderAudit) shown(platform string) string {
	if p := y.set.Platform(platform); p != nil {
		return p.Shown
	}
	return platform
}

// identify finds out what a file is.
func (a *audit) identify(e *target.Entry) (*title.Title, error) {
	find := func() (g game) {
		g.title, g.err = a.lookInto(e)
		return g
	}
	if a.written(e.Path) {
		g := find()
		return g.title, g.err
	}
	g := once(a.known, a.known.games, a.real(e.Path)+"\x00"+path.Base(e.Path), find) // its name tells something of it
	return g.title, g.err
}

func (a *audit) lookInto(e *target.Entry) (*title.Title, error) {
	c, err := a.open(e.Path)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	head := make([]byte, 8)
	if n, _ := c.ReadAt(head, 0); n == len(head) {
		if kind := archive.KindOf(head); kind != "" && kind != ".rar" && strings.EqualFold(kind, path.Ext(e.Path)) {
			return scan.IdentifyPacked(c, c.Size(), e.Path, a.set)
		}
	}
	return scan.Identify(c, c.Size(), e.Path, a.set)
}

// folder looks into a game that lies unpacked. Where its program gets another name on the target, it is known by that.
func (y *loaderAudit) folder(l *line) {
	if slices.ContainsFunc(l.rule.Package.Rename,
		func(r loader.Rename) bool { return slices.Contains(y.markers(l.Platform), r.From) }) {
		if marker := y.marker(l); marker == nil || marker.Size == 0 {
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Path: l.e.Path, Say: "its program has no bytes"}))
		}
		return
	}
	t, err := scan.IdentifyFolder(y.tree.FS, l.e.Path, y.set)
	if err == nil && t != nil && t.Fault() == nil {
		if marker := y.marker(l); marker != nil && marker.Size == 0 {
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Path: marker.Path, Say: path.Base(marker.Path) +
				" has no bytes"}))
			return
		}
	}
	y.judge(l, t, err)
}

// markers are the patterns of the files by which a platform's games are known.
func (y *loaderAudit) markers(platform string) []string {
	if p := y.set.Platform(platform); p != nil {
		return p.MarkerFiles()
	}
	return nil
}

// marker is the file by which a folder is known as a game; nil where it is not there.
func (y *loaderAudit) marker(l *line) *target.Entry {
	e, _ := y.markerIn(l.rule, l.Platform, l.e.Path)
	return e
}

// markerIn is the file in a folder by which it is known as a game of a platform, under the name that the rule gives it;
// where there is none, wanted is what it could be called.
func (y *loaderAudit) markerIn(rule *loader.Accept, platform, dir string) (e *target.Entry, wanted string) {
	for _, want := range y.markers(platform) {
		for _, r := range rule.Package.Rename {
			if strings.EqualFold(r.From, want) {
				want = r.To
			}
		}
		want = y.at.Cased(want)
		wanted = cmp.Or(wanted, want)
		if !strings.Contains(want, "*") {
			if e, ok := y.tree.file(dir + "/" + want); ok && (!y.cased || e.Path == dir+"/"+want) {
				return e, ""
			}
			continue
		}
		for _, e := range y.lying(dir, strings.Contains(want, "/")) {
			if !e.Folder && loader.MatchFile(want, strings.TrimPrefix(e.Path, dir+"/")) {
				return e, ""
			}
		}
	}
	return nil, wanted
}

// lying are the entries of a folder, or all below it.
func (y *loaderAudit) lying(dir string, below bool) []*target.Entry {
	if below {
		return y.below(dir)
	}
	return y.tree.within(dir)
}

// packed looks into a packed image, over all its parts.
func (y *loaderAudit) packed(l *line) {
	wrong := func(say string) {
		f := Finding{Kind: Damaged, Say: say}
		f.Remedy, f.Fixes = y.again("remove the title, and copy it here again", l.e.Path)
		l.broken(y, f)
	}
	parts := l.parts
	if parts == nil {
		parts = []*target.Entry{l.e}
	}
	j, err := y.join(parts)
	if err != nil {
		wrong(err.Error())
		return
	}
	defer j.Close()
	im, err := packed.Open(j, j.Size())
	var damage *packed.FormatError
	switch {
	case errors.As(err, &damage):
		wrong(damage.What)
		return
	case err != nil:
		wrong(err.Error())
		return
	}
	defer im.Close()
	if n := im.Stats().Compressed; n > 0 && !l.rule.Compress {
		wrong(fmt.Sprintf("%s of it are compressed, but %s does not decompress", size.Count(int(n), "block"),
			y.profile.Shown))
		return
	}
	t, err := scan.Identify(im, im.Size(), l.e.Path, y.set)
	y.judge(l, t, err)
	if y.o.Depth != Whole || !l.Starts {
		return
	}
	bad := 0
	err = im.Check(y.ctx, func(int64) {}, func(*packed.BlockError) { bad++ })
	switch {
	case bad > 0:
		wrong(fmt.Sprintf("%d of its blocks do not match their checksums", bad))
	case err != nil && y.ctx.Err() == nil:
		wrong(err.Error())
	}
}

// smallArchive is how many bytes an archive has at most that is always unpacked to see whether it is whole.
const smallArchive = 16 << 20

// zipped looks into a game that stays zipped: exactly one file in the zip is the platform's by its extension.
func (y *loaderAudit) zipped(l *line) {
	wrong := func(format string, args ...any) {
		l.broken(y, y.whole(l, Finding{Kind: Damaged, Say: fmt.Sprintf(format, args...)}))
	}
	c, err := y.open(l.e.Path)
	if err != nil {
		wrong("it cannot be read: %v", err)
		return
	}
	defer c.Close()
	head := make([]byte, 8)
	if n, _ := c.ReadAt(head, 0); archive.KindOf(head[:n]) != ".zip" {
		wrong("it is not a zip file")
		return
	}
	in, err := archive.New(c, c.Size(), archive.Options{})
	if err != nil {
		wrong("it cannot be unpacked: %v", err)
		return
	}
	defer in.Close()
	var ends []string
	if p := y.set.Platform(l.Platform); p != nil {
		ends = p.Extensions
	}
	var games []string
	for i := range in.Entries {
		if name := in.Entries[i].Name; slices.Contains(ends, strings.ToLower(path.Ext(name))) &&
			!target.OfSystem(name) {
			games = append(games, name)
		}
	}
	if l.e.Size <= smallArchive || y.o.Depth == Whole {
		if err := y.unpacks(in); err != nil {
			wrong("it cannot be unpacked: %v", err)
			return
		}
	}
	if len(games) != 1 {
		f := Finding{Kind: Folder, Say: fmt.Sprintf(
			"it holds %s of the %s, by their extensions (%s), but must hold exactly one", size.Count(len(games),
				"game"), y.shown(l.Platform), strings.Join(ends, ", "))}
		t, _ := y.identify(l.e)
		f.Remedy, f.Fixes = y.moved(l.e, t)
		l.broken(y, f)
		return
	}
	game, err := in.FS.Open(games[0])
	if err != nil {
		wrong("it cannot be unpacked: %v", err)
		return
	}
	defer game.Close()
	at, ok := game.(io.ReaderAt)
	info, err := game.Stat()
	if err != nil || !ok {
		wrong("it cannot be unpacked: %v", err)
		return
	}
	t, err := scan.Identify(at, info.Size(), games[0], y.set)
	y.judge(l, t, err)
}

// unpacks reads everything that is in an archive, with its checksums.
func (a *audit) unpacks(in *archive.Archive) error {
	for i := range in.Entries {
		if a.ctx.Err() != nil {
			return a.ctx.Err()
		}
		r, err := in.Read(&in.Entries[i])
		if err != nil {
			return err
		}
		if _, err := io.Copy(io.Discard, r); err != nil {
			return errors.Join(err, r.Close())
		}
		if err := r.Close(); err != nil {
			return err
		}
	}
	return nil
}

// readAll reads every byte of the files behind a line.
func (y *loaderAudit) readAll(l *line) {
	files := l.sheets
	switch {
	case l.e.Folder:
		files = y.below(l.e.Path)
	case l.parts != nil:
		files = l.parts
	case files == nil:
		files = []*target.Entry{l.e}
	}
	for _, e := range files {
		if err := y.readThrough(e); err != nil && y.ctx.Err() == nil {
			l.broken(y, y.whole(l, Finding{Kind: Damaged, Path: e.Path,
				Say: fmt.Sprintf("it cannot be read to its end: %v", err)}))
			return
		}
	}
}

// readThrough reads a file to its end. Runs of nothing but zeros that the target knows of are skipped.
func (a *audit) readThrough(e *target.Entry) error {
	c, err := a.open(e.Path)
	if err != nil {
		return err
	}
	defer c.Close()
	b := make([]byte, 1<<20)
	for off := int64(0); off < c.Size(); {
		if a.ctx.Err() != nil {
			return a.ctx.Err()
		}
		start, end := c.Data(off)
		if start > off {
			off = start
			continue
		}
		n, err := c.ReadAt(b[:min(int64(len(b)), end-off, c.Size()-off)], off)
		if n == 0 {
			if err == nil || errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return err
		}
		off += int64(n)
	}
	return nil
}
