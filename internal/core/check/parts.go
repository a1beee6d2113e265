package check

import (
	"cmp"
	"fmt"
	"hash/crc32"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"polytome/internal/core/fix"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/scan"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
	"polytome/internal/format/joined"
	"polytome/internal/size"
	"polytome/internal/target"
)

// manifest judges the list of the parts of a title: it is the title's line in the loader's list.
func (y *loaderAudit) manifest(e *target.Entry, rule *loader.Accept, platform string, v loader.Values) {
	if say := layout.Unlikely(y.set, rule, rule.TooLarge.Manifest, platform, &v); say != "" {
		y.report(Finding{Kind: Name, Grade: Fault, Path: path.Dir(e.Path), Say: fmt.Sprintf("%s ignores the folder: %s",
			y.profile.Shown, say), Remedy: "name the folder by the title's ID"})
		return
	}
	l := &line{Listed: Listed{Loader: y.profile.Name, ID: v[loader.FieldID], Name: v[loader.FieldTitle],
		Platform: platform, Path: path.Dir(e.Path), Starts: true}, v: v, rule: rule, e: e, by: rule.TooLarge.Manifest,
		path: e.Path}
	l.v[loader.FieldPlatform] = platform
	wrong := func(kind Kind, say string, also ...string) {
		f := Finding{Kind: kind, Path: e.Path, Say: say}
		f.Remedy, f.Fixes = y.again("remove the title's folder, and copy the title here again", append(also, e.Path)...)
		l.broken(y, f)
	}
	parts := y.partsOf(rule, &v)
	if l.parts = parts; len(parts) > 0 {
		l.path = parts[0].Path
	}
	for _, p := range parts {
		l.Size += p.Size
	}
	text, err := y.tree.text(e)
	if err != nil {
		wrong(Parts, fmt.Sprintf("its list of parts cannot be read: %v", err))
	}
	reported, ok := y.reported(rule, &v, parts, text, nil)
	if ok {
		l.Name, l.Kind = reported[loader.FieldTitle], reported[loader.FieldKind]
		l.v[loader.FieldTitle], l.v[loader.FieldKind] = l.Name, l.Kind
	} else if named := anyTitle(rule, text); named != "" {
		l.Name = named
	}
	if l.Name == "" {
		l.Name = l.ID
	}
	switch {
	case err != nil:
	case len(parts) == 0:
		wrong(Parts, "all its parts are missing")
	case !ok:
		say := fmt.Sprintf("its list does not match the %s that are there, %s in total", size.Count(len(parts), "part"),
			size.Format(l.Size))
		if again := y.rewritten(l, text); again != "" {
			l.broken(y, Finding{Kind: Parts, Path: e.Path, Say: say, Remedy: "rewrite the list: the parts are right",
				Fixes: []fix.Fix{{Do: fix.Write, Path: e.Path, Text: again}}})
			break
		}
		wrong(Parts, say, parts[0].Path)
	case y.o.Depth == Names || y.o.Unmade != nil && y.o.Unmade(parts[0].Path):
		y.unlooked++
	default:
		y.joined(l)
		if y.o.Depth == Whole {
			y.sums(l, parts, text, wrong)
		} else {
			y.unlooked++
		}
	}
	y.playlist(l)
	y.contiguous(l)
	y.lines = append(y.lines, l)
}

// rewritten is a list of parts again, where the list alone is wrong: the parts make a whole image with the right ID,
// and the list tells no part that is longer or that is not there. The parts are read to their ends for it: checksums of
// a list that is wrong are not believed. It is "" where that cannot be said.
func (y *loaderAudit) rewritten(l *line, text string) string {
	if y.o.Depth == Names || y.imagined {
		return ""
	}
	j, err := y.join(l.parts)
	if err != nil {
		return ""
	}
	defer j.Close()
	t, err := scan.Identify(j, j.Size(), path.Base(l.rule.Path.String()), y.set)
	if err != nil || t == nil || t.Fault() != nil || !slices.Contains(l.rule.Platforms, t.Platform) ||
		!y.splitAgain(l, t) {
		return ""
	}
	const size, sum = "7770777", "07707770" // marks that stand for them
	at := y.completed(l.rule.TooLarge.Parts, &l.v)
	rows := make([]loader.Values, len(l.parts)+1)
	for n := range rows {
		at[loader.FieldIndex] = strconv.Itoa(n + 1)
		rows[n] = l.v
		rows[n][loader.FieldIndex], rows[n][loader.FieldFile] = at[loader.FieldIndex],
			path.Base(y.made(l.rule.TooLarge.Parts, &at))
		rows[n][loader.FieldSize], rows[n][loader.FieldSum] = size, sum
		reported := strings.TrimSpace(l.rule.TooLarge.ManifestText.Row(&rows[n]))
		expr := strings.NewReplacer(size, "([0-9]+)", sum, "[0-9A-Fa-f]{8}").Replace(regexp.QuoteMeta(reported))
		re, err := regexp.Compile(`(?m)^` + expr + `\s*$`)
		if err != nil {
			return ""
		}
		m := re.FindStringSubmatch(strings.ReplaceAll(text, "\r\n", "\n"))
		if n == len(l.parts) {
			if m != nil {
				return "" // it tells one more
			}
			break
		}
		p := l.parts[n]
		rows[n][loader.FieldSize], rows[n][loader.FieldSum] = strconv.FormatInt(p.Size, 10), ""
		if len(m) > 1 {
			if reported, err := strconv.ParseInt(m[1], 10, 64); err != nil || reported > p.Size {
				return "" // the part is short
			}
		}
		if strings.Contains(reported, sum) {
			sum, err := y.sum(p)
			if err != nil {
				return ""
			}
			rows[n][loader.FieldSum] = fmt.Sprintf("%08x", sum)
		}
	}
	whole := l.v
	if named := anyTitle(l.rule, text); named != "" {
		whole[loader.FieldTitle] = named
	} else if name, disc := y.nameOf(l, t); name != "" {
		whole[loader.FieldTitle] = name + disc
	}
	whole[loader.FieldName], whole[loader.FieldKind], whole[loader.FieldID] = whole[loader.FieldTitle], t.Discs[0].Kind,
		cmp.Or(t.Discs[0].ID, l.v[loader.FieldID])
	return strings.TrimPrefix(l.rule.TooLarge.ManifestText.FillEach(&whole, rows[:len(l.parts)]), "\n")
}

// firstPart takes a title up into the list that is in parts without a list of them: it is known by its first one.
func (y *loaderAudit) firstPart(e *target.Entry, rule *loader.Accept, platform string, v loader.Values) {
	if say := layout.Unlikely(y.set, rule, rule.TooLarge.Parts, platform, &v); say != "" {
		f := Finding{Kind: Name, Grade: Fault, Path: e.Path, Say: fmt.Sprintf("%s ignores it: %s", y.profile.Shown,
			say)}
		f.Remedy, f.Fixes = y.again("remove it with its further parts, and copy the title here again", e.Path)
		y.report(f)
		return
	}
	y.line(e, rule, rule.TooLarge.Parts, v, platform)
}

// ahead is how many numbers behind a missing part are looked for: one beyond that is taken for no part of the title.
const ahead = 16

// cut are the parts that a title without a list of parts is in, in their order; nil for one that lies whole. A part
// that is missing in between is reported.
func (y *loaderAudit) cut(l *line) []*target.Entry {
	if l.rule.TooLarge.Parts.Empty() || !l.rule.TooLarge.Manifest.Empty() {
		return nil
	}
	parts := y.partsOf(l.rule, &l.v)
	if len(parts) == 0 || parts[0] != l.e {
		return nil
	}
	row := l.v
	for n := len(parts) + 2; n < len(parts)+2+ahead; n++ {
		row[loader.FieldIndex] = strconv.Itoa(n)
		if e, ok := y.tree.file(y.made(l.rule.TooLarge.Parts, &row)); ok {
			row[loader.FieldIndex] = strconv.Itoa(len(parts) + 1)
			missing := y.made(l.rule.TooLarge.Parts, &row)
			f := Finding{Kind: Parts, Path: l.e.Path, Say: fmt.Sprintf("its part %s is missing, but %s is there",
				path.Base(missing), path.Base(e.Path))}
			f.Remedy, f.Fixes = y.again("copy the part or the title here again", missing)
			l.broken(y, f)
			break
		}
	}
	for _, p := range parts[:len(parts)-1] {
		if want := int64(l.rule.TooLarge.PartSize); l.rule.As(title.Image) != shape.Pack && want > 0 && p.Size != want {
			f := Finding{Kind: Parts, Path: p.Path,
				Say: fmt.Sprintf("its part %s has %s bytes, but every part except the last has %s", path.Base(p.Path),
					size.Exact(p.Size), size.Exact(want))}
			f.Remedy, f.Fixes = y.again("copy the part or the title here again", p.Path)
			l.broken(y, f)
		}
	}
	return parts
}

// contiguous looks whether the files behind a line are contiguous, where the loader wants that.
func (y *loaderAudit) contiguous(l *line) {
	files := l.parts
	if files == nil {
		if l.e.Folder {
			return
		}
		files = []*target.Entry{l.e}
		if l.path != l.e.Path {
			files = nil
			if e, ok := y.tree.file(l.path); ok {
				files = []*target.Entry{e}
			}
		}
	}
	for _, e := range files {
		if say := y.fragmented(e.Path); say != "" {
			l.Starts = false // reported also beside another reason
			y.report(Finding{Kind: Fragmented, Grade: Fault, Path: e.Path, Say: "it is listed, but does not start: " +
				say, Remedy: "defragment it", Fixes: []fix.Fix{{Do: fix.Defragment, Path: e.Path}}})
		}
	}
}

// further reports whether a file is the second or a later part of one that is cut without a list of parts. One
// whose first part is missing is reported.
func (y *loaderAudit) further(e *target.Entry) bool {
	for _, rule := range y.held {
		if !rule.TooLarge.Manifest.Empty() {
			continue
		}
		_, v, ok := layout.Split(y.set, rule, rule.TooLarge.Parts, e.Path)
		if !ok {
			continue
		}
		index := y.indexOf(rule, &v, e)
		if index < 2 {
			continue
		}
		if parts := y.partsOf(rule, &v); len(parts) == 0 {
			f := Finding{Kind: Parts, Grade: Fault, Path: e.Path,
				Say:     fmt.Sprintf("%s ignores it: its first part is missing", y.profile.Shown),
				Matters: "the game will not be in the list"}
			v[loader.FieldIndex] = "1"
			f.Remedy, f.Fixes = y.again("remove it, and copy the title here again", y.made(rule.TooLarge.Parts, &v))
			y.report(f)
		} else if index > len(parts) {
			y.report(Finding{Kind: Spare, Grade: Remark, Path: e.Path,
				Say:    "an earlier part is missing, so it is useless",
				Remedy: "remove it, and copy the title here again"})
		}
		return true
	}
	return false
}

// partsOf are the parts of a title that are there, in their order, up to the first that is missing.
func (y *loaderAudit) partsOf(rule *loader.Accept, v *loader.Values) (out []*target.Entry) {
	row := y.completed(rule.TooLarge.Parts, v)
	for n := 1; ; n++ {
		row[loader.FieldIndex] = strconv.Itoa(n)
		e, ok := y.tree.file(y.made(rule.TooLarge.Parts, &row))
		if !ok {
			return out
		}
		out = append(out, e)
	}
}

// mostParts is how many parts a title may have at most, for the number that a path says.
const mostParts = 10_000

// indexOf is which part of a title a file is, as its path says: from 1, 0 where that is not known.
func (y *loaderAudit) indexOf(rule *loader.Accept, v *loader.Values, e *target.Entry) int {
	if n, err := strconv.Atoi(v[loader.FieldIndex]); err == nil && rule.TooLarge.Parts.Counts(loader.FieldIndex) {
		return n
	}
	row := y.completed(rule.TooLarge.Parts, v)
	for n := 1; n <= mostParts; n++ {
		row[loader.FieldIndex] = strconv.Itoa(n)
		if y.tree.fold(y.made(rule.TooLarge.Parts, &row)) == y.tree.fold(e.Path) {
			return n
		}
	}
	return 0
}

// completed are values with those that a path needs and that they lack, as a file has them that is there under such a
// path: a list of parts may tell the ID, and its parts the title too.
func (y *loaderAudit) completed(t loader.Template, v *loader.Values) loader.Values {
	if !slices.ContainsFunc(t.Needs(), func(f loader.Field) bool { return f != loader.FieldIndex && v[f] == "" }) {
		return *v
	}
	known := *v
	known[loader.FieldIndex] = "1"
	for _, e := range y.tree.within(path.Dir(y.made(t, v))) {
		if got, ok := first(t.Splits(e.Path, &known)); ok && !e.Folder {
			for f := range known {
				known[f] = cmp.Or(known[f], got[f])
			}
			break
		}
	}
	return known
}

// reported reads the title and the kind out of a list of parts. It holds only when the list tells exactly
// the parts that are there; with sums, these too.
func (y *loaderAudit) reported(rule *loader.Accept, v *loader.Values, parts []*target.Entry, text string,
	sums []string) (out loader.Values, ok bool) {
	const titleMark, kindMark, sumMark, idMark = "\x01t", "\x01k", "\x01s", "\x01i"
	whole := *v
	whole[loader.FieldID] = idMark // letter case makes no difference in it, and the path may tell another form of it
	whole[loader.FieldTitle], whole[loader.FieldName], whole[loader.FieldKind] = titleMark, titleMark, kindMark
	rows := make([]loader.Values, len(parts))
	for n, p := range parts {
		rows[n] = whole
		at := y.completed(rule.TooLarge.Parts, v)
		at[loader.FieldIndex] = strconv.Itoa(n + 1)
		rows[n][loader.FieldIndex], rows[n][loader.FieldFile] = at[loader.FieldIndex],
			path.Base(y.made(rule.TooLarge.Parts, &at))
		rows[n][loader.FieldSize], rows[n][loader.FieldSum] = strconv.FormatInt(p.Size, 10), sumMark
		if sums != nil && sums[n] != "" {
			rows[n][loader.FieldSum] = sums[n]
		}
	}
	expr := regexp.QuoteMeta(strings.Trim(rule.TooLarge.ManifestText.FillEach(&whole, rows), "\n"))
	expr = strings.ReplaceAll(expr, sumMark, "[0-9A-Fa-f]{8}")
	for mark, pattern := range map[string]string{titleMark: "(?P<t>[^\x00-\x1f]*)", kindMark: "(?P<k>[^\n]*)",
		idMark: "(?P<i>[^\n]*)"} {
		if first := strings.Index(expr, mark); first >= 0 {
			expr = expr[:first] + pattern + strings.ReplaceAll(expr[first+len(mark):], mark, "[^\n]*")
		}
	}
	re, err := regexp.Compile("(?s)^" + expr + `\s*$`)
	if err != nil {
		return out, false
	}
	m := re.FindStringSubmatch(strings.ReplaceAll(text, "\r\n", "\n"))
	if m == nil {
		return out, false
	}
	for i, name := range re.SubexpNames() {
		switch name {
		case "t":
			out[loader.FieldTitle] = m[i]
		case "k":
			out[loader.FieldKind] = m[i]
		case "i":
			if said := v[loader.FieldID]; said != "" && rule.TooLarge.Manifest.Keeps(loader.FieldID) &&
				!strings.EqualFold(said, m[i]) {
				return out, false
			}
			out[loader.FieldID] = m[i]
		}
	}
	return out, true
}

// anyTitle is the title that a list of parts tells, whatever else is wrong with it: what stands in its lines as the
// rule's text has it.
func anyTitle(rule *loader.Accept, text string) string {
	const mark = "\x01t"
	var v loader.Values
	v[loader.FieldTitle] = mark
	for want := range strings.Lines(rule.TooLarge.ManifestText.FillEach(&v, nil)) {
		before, after, ok := strings.Cut(strings.TrimRight(want, "\n"), mark)
		if !ok {
			continue
		}
		for line := range strings.Lines(text) {
			line = strings.TrimRight(line, "\r\n")
			if rest, ok := strings.CutPrefix(line, before); ok && strings.HasSuffix(rest, after) &&
				!strings.ContainsFunc(rest, unicode.IsControl) {
				return strings.TrimSuffix(rest, after)
			}
		}
	}
	return ""
}

// joined looks into the image that the parts of a line make together.
func (y *loaderAudit) joined(l *line) {
	j, err := y.join(l.parts)
	if err != nil {
		y.judge(l, nil, err)
		return
	}
	defer j.Close()
	t, err := scan.Identify(j, j.Size(), path.Base(l.rule.Path.String()), y.set)
	y.judge(l, t, err)
}

// sums compares the checksums in a list of parts with the parts.
func (y *loaderAudit) sums(l *line, parts []*target.Entry, text string, wrong func(Kind, string, ...string)) {
	sums := make([]string, len(parts))
	for n, p := range parts {
		sum, err := y.sum(p)
		if err != nil {
			if y.ctx.Err() == nil {
				wrong(Parts, fmt.Sprintf("its part %s cannot be read to its end: %v", path.Base(p.Path), err), p.Path)
			}
			return
		}
		sums[n] = fmt.Sprintf("%08x", sum)
		one := make([]string, len(parts))
		one[n] = sums[n]
		if _, ok := y.reported(l.rule, &l.v, parts, text, one); !ok {
			wrong(Parts, fmt.Sprintf("its part %s does not match its list: the checksum is %s", path.Base(p.Path),
				sums[n]), p.Path)
			return
		}
	}
}

// sum is the CRC-32 (IEEE 802.3) of a file.
func (a *audit) sum(e *target.Entry) (uint32, error) {
	c, err := a.open(e.Path)
	if err != nil {
		return 0, err
	}
	defer c.Close()
	h, r, b := crc32.NewIEEE(), io.NewSectionReader(c, 0, c.Size()), make([]byte, 1<<20)
	for {
		n, err := r.Read(b)
		_, _ = h.Write(b[:n])
		switch {
		case err == io.EOF:
			return h.Sum32(), nil
		case err != nil:
			return 0, err
		case a.ctx.Err() != nil:
			return 0, a.ctx.Err()
		}
	}
}

// lonePart describes a part whose title has no list.
func (y *loaderAudit) lonePart(e *target.Entry, rule *loader.Accept, v *loader.Values) {
	all := y.completed(rule.TooLarge.Manifest, v)
	manifest := y.made(rule.TooLarge.Manifest, &all)
	if _, ok := y.tree.file(manifest); ok {
		index := y.indexOf(rule, v, e)
		if parts := y.partsOf(rule, v); index > len(parts) {
			y.report(Finding{Kind: Spare, Grade: Remark, Path: e.Path,
				Say:    "an earlier part is missing, so it is useless",
				Remedy: "remove the title's folder, and copy the title here again"})
		}
		return
	}
	f := Finding{Kind: Parts, Grade: Fault, Path: e.Path,
		Say: fmt.Sprintf("%s ignores it: it is a part of a title, but its list of parts is missing",
			y.profile.Shown),
		Matters: "the game will not be in the list"}
	if near, how := y.nearest(manifest, func(e *target.Entry) bool { return true }); near != nil {
		f.Say += fmt.Sprintf("; there is %s: %s", path.Base(near.Path), how)
		f.Remedy, f.Fixes = "give the list its exact name", []fix.Fix{{Do: fix.Rename, Path: near.Path, To: manifest}}
		y.claim(near.Path)
	} else {
		f.Remedy, f.Fixes = y.again("copy the title here again, or remove it", manifest)
	}
	y.report(f)
}

// join opens files of the target as one. The one that cannot be read is named.
func (a *audit) join(parts []*target.Entry) (*joined.Contents, error) {
	var open []joined.Content
	for _, p := range parts {
		c, err := a.open(p.Path)
		if err != nil {
			_ = joined.Of(open...).Close()
			return nil, fmt.Errorf("its part %s cannot be read: %w", path.Base(p.Path), err)
		}
		open = append(open, c)
	}
	return joined.Of(open...), nil
}
