package proof

import (
	"fmt"
	"hash/crc32"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/intake"
	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/mend"
	"polytome/internal/format/joined"
	"polytome/internal/place"
	"polytome/internal/size"
)

// manifest judges the list of the parts of a title: it is the title's line in the loader's list. It returns false for one
// whose path is none that the loader looks at.
func (y *eyes) manifest(e *place.Entry, rule *loader.Accept, v *loader.Values) bool {
	platform := layout.PlatformOf(rule, v)
	if p := y.set.Platform(platform); p != nil && p.Fields.ID.Pattern.Regexp != nil && v[loader.FieldID] != "" && !p.Fields.ID.Pattern.MatchString(strings.ToUpper(v[loader.FieldID])) {
		y.find(Finding{Kind: Name, Grade: Fault, Path: path.Dir(e.Path), Say: fmt.Sprintf("%s passes the folder over: %q is no ID of the %s", y.profile.Shown, v[loader.FieldID], p.Shown), Remedy: "give the folder the title's ID for a name"})
		return true
	}
	l := &line{Listed: Listed{Loader: y.profile.Name, ID: v[loader.FieldID], Name: v[loader.FieldTitle], Platform: platform, Path: path.Dir(e.Path), Starts: true}, v: *v, rule: rule, e: e, path: e.Path}
	l.v[loader.FieldPlatform] = platform
	wrong := func(kind Kind, say string, also ...string) {
		f := Finding{Kind: kind, Path: e.Path, Say: say}
		f.Remedy, f.Mends = y.again("take the title's folder off, and put the title here again", append(also, e.Path)...)
		l.broken(y, f)
	}
	parts := y.partsOf(rule, v)
	for _, p := range parts {
		l.Size += p.Size
	}
	text, err := y.tree.text(e)
	if err != nil {
		wrong(Parts, fmt.Sprintf("its list of parts cannot be read: %v", err))
	}
	told, ok := told(rule, v, parts, text, nil)
	if ok {
		l.Name, l.Kind = told[loader.FieldTitle], told[loader.FieldKind]
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
		wrong(Parts, "none of its parts is there")
	case !ok:
		wrong(Parts, fmt.Sprintf("its list does not tell the %s that are there, %s together", size.Count(len(parts), "part"), size.Format(l.Size)), parts[0].Path)
	case y.o.Depth == Names:
		y.unlooked++
	default:
		y.joined(l, parts, wrong)
		if y.o.Depth == Whole {
			y.sums(l, parts, text, wrong)
		} else {
			y.unlooked++
		}
	}
	for _, part := range parts {
		if say := y.inPieces(part.Path); say != "" {
			l.broken(y, Finding{Kind: Pieces, Path: part.Path, Say: say, Remedy: "bring it into one piece", Mends: []mend.Mend{{Do: mend.Gather, Path: part.Path}}})
		}
	}
	y.lines = append(y.lines, l)
	return true
}

// further reports whether a file is the second or a later part of one that is cut without a list of parts. One
// whose first part is missing is told.
func (y *eyes) further(e *place.Entry) bool {
	for _, rule := range y.held {
		v, ok := rule.TooLarge.Parts.Match(e.Path)
		if !ok || !rule.TooLarge.Manifest.Empty() {
			continue
		}
		index, err := strconv.Atoi(v[loader.FieldIndex])
		if err != nil || index < 2 {
			continue
		}
		if parts := y.partsOf(rule, &v); len(parts) == 0 {
			f := Finding{Kind: Parts, Grade: Fault, Path: e.Path, Say: fmt.Sprintf("%s passes it over: it goes on with a file whose first part is missing", y.profile.Shown), Matters: "the game will not be in the list"}
			v[loader.FieldIndex] = "1"
			f.Remedy, f.Mends = y.again("take it off, and put the title here again", rule.TooLarge.Parts.Fill(&v))
			y.find(f)
		} else if index > len(parts) {
			y.find(Finding{Kind: Spare, Grade: Remark, Path: e.Path, Say: "a part before it is missing, so it is of no use", Remedy: "take it off, and put the title here again"})
		}
		return true
	}
	return false
}

// partsOf are the parts of a title that are there, in their order, up to the first that is missing.
func (y *eyes) partsOf(rule *loader.Accept, v *loader.Values) (out []*place.Entry) {
	row := *v
	for n := 1; ; n++ {
		row[loader.FieldIndex] = strconv.Itoa(n)
		e, ok := y.tree.file(rule.TooLarge.Parts.Fill(&row))
		if !ok {
			return out
		}
		out = append(out, e)
	}
}

// told reads the title and the kind out of a list of parts. It holds only when the list tells exactly
// the parts that are there; with sums, these too.
func told(rule *loader.Accept, v *loader.Values, parts []*place.Entry, text string, sums []string) (out loader.Values, ok bool) {
	const titleMark, kindMark, sumMark = "\x01t", "\x01k", "\x01s"
	whole := *v
	whole[loader.FieldTitle], whole[loader.FieldName], whole[loader.FieldKind] = titleMark, titleMark, kindMark
	rows := make([]loader.Values, len(parts))
	for n, p := range parts {
		rows[n] = whole
		rows[n][loader.FieldIndex], rows[n][loader.FieldFile] = strconv.Itoa(n+1), path.Base(p.Path)
		rows[n][loader.FieldSize], rows[n][loader.FieldSum] = strconv.FormatInt(p.Size, 10), sumMark
		if sums != nil && sums[n] != "" {
			rows[n][loader.FieldSum] = sums[n]
		}
	}
	expr := regexp.QuoteMeta(strings.Trim(rule.TooLarge.ManifestText.FillEach(&whole, rows), "\n"))
	expr = strings.ReplaceAll(expr, sumMark, "[0-9A-Fa-f]{8}")
	for mark, pattern := range map[string]string{titleMark: "(?P<t>[^\n]*)", kindMark: "(?P<k>[^\n]*)"} {
		if first := strings.Index(expr, mark); first >= 0 {
			expr = expr[:first] + pattern + strings.ReplaceAll(expr[first+len(mark):], mark, "[^\n]*")
		}
	}
	re, err := regexp.Compile("(?is)^" + expr + `\s*$`)
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
		}
	}
	return out, true
}

// anyTitle is the title that a list of parts tells, whatever else is wrong with it: what stands in its lines as the rule's
// text has it.
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
			if rest, ok := strings.CutPrefix(line, before); ok && strings.HasSuffix(rest, after) {
				return strings.TrimSuffix(rest, after)
			}
		}
	}
	return ""
}

// joined looks into the image that parts make together.
func (y *eyes) joined(l *line, parts []*place.Entry, wrong func(Kind, string, ...string)) {
	j, err := y.join(parts)
	if err != nil {
		wrong(Parts, err.Error())
		return
	}
	defer j.Close()
	t, err := intake.Identify(j, j.Size(), path.Base(l.rule.Path.String()), y.set)
	switch {
	case err != nil:
		wrong(Parts, fmt.Sprintf("its parts make no image: %v", err))
	case t == nil || !slices.Contains(l.rule.Platforms, t.Platform):
		wrong(Parts, fmt.Sprintf("its parts are no %s %s", y.shown(l.Platform), l.rule.Forms[0]))
	case t.Fault() != nil:
		wrong(Parts, t.Fault().Say)
	default:
		l.in = t
		within := t.Discs[0]
		if id := l.v[loader.FieldID]; id != "" && !strings.EqualFold(within.ID, id) {
			wrong(ID, fmt.Sprintf("its folder says %s, but the image in its parts is %s", id, within.ID))
		}
		l.Kind = within.Kind
	}
}

// sums compares the checksums in a list of parts with the parts.
func (y *eyes) sums(l *line, parts []*place.Entry, text string, wrong func(Kind, string, ...string)) {
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
		if _, ok := told(l.rule, &l.v, parts, text, one); !ok {
			wrong(Parts, fmt.Sprintf("its part %s is not what its list says: the checksum is %s", path.Base(p.Path), sums[n]), p.Path)
			return
		}
	}
}

// sum is the CRC-32 (IEEE 802.3) of a file.
func (a *audit) sum(e *place.Entry) (uint32, error) {
	c, err := a.place.Open(a.ctx, e.Path)
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

// lonePart tells of a part whose title has no list.
func (y *eyes) lonePart(e *place.Entry, rule *loader.Accept, v *loader.Values) bool {
	manifest := rule.TooLarge.Manifest.Fill(v)
	if _, ok := y.tree.file(manifest); ok {
		index, _ := strconv.Atoi(v[loader.FieldIndex])
		if parts := y.partsOf(rule, v); index > len(parts) {
			y.find(Finding{Kind: Spare, Grade: Remark, Path: e.Path, Say: "a part before it is missing, so it is of no use", Remedy: "take the title's folder off, and put the title here again"})
		}
		return true
	}
	f := Finding{Kind: Parts, Grade: Fault, Path: e.Path, Say: fmt.Sprintf("%s passes it over: it is a part of a title, and there is no list of its parts", y.profile.Shown), Matters: "the game will not be in the list"}
	if near, how := y.nearest(manifest, func(e *place.Entry) bool { return true }); near != nil {
		f.Say += fmt.Sprintf("; there is %s: %s", path.Base(near.Path), how)
		f.Remedy, f.Mends = "give the list its exact name", []mend.Mend{{Do: mend.Rename, Path: near.Path, To: manifest}}
		y.claim(near.Path)
	} else {
		f.Remedy, f.Mends = y.again("put the title here again, which writes the list, or take it off", manifest)
	}
	y.find(f)
	return true
}

// join opens files of the place as one. The one that cannot be read is named.
func (a *audit) join(parts []*place.Entry) (*joined.Contents, error) {
	var open []joined.Content
	for _, p := range parts {
		c, err := a.place.Open(a.ctx, p.Path)
		if err != nil {
			_ = joined.Of(open...).Close()
			return nil, fmt.Errorf("its part %s cannot be read: %w", path.Base(p.Path), err)
		}
		open = append(open, c)
	}
	return joined.Of(open...), nil
}
