package proof

import (
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/intake"
	"polytome/internal/core/loader"
	"polytome/internal/format/joined"
	"polytome/internal/place"
	"polytome/internal/size"
)

// largestManifest is how many bytes a list of parts has at most.
const largestManifest = 1 << 20

// manifest judges the list of the parts of a title: it is the title's line in the loader's list.
func (a *audit) manifest(e place.Entry, rule *loader.Accept, v *loader.Values) {
	l := Listed{ID: v[loader.FieldID], Name: v[loader.FieldTitle], Platform: a.platform(rule, *v), Path: path.Dir(e.Path), Starts: true}
	wrong := func(say, remedy string) {
		if l.Starts { // the first reason is enough
			l.Starts = false
			a.find(Fault, e.Path, "it is listed, but does not start: "+say, remedy)
		}
	}
	again := "take the title's folder off, and let Polytome put it here again"
	parts := a.partsOf(rule, v)
	for _, p := range parts {
		l.Size += p.Size
	}
	text, err := a.read(e)
	if err != nil {
		wrong(fmt.Sprintf("its list of parts cannot be read: %v", err), again)
	}
	told, ok := a.told(rule, v, parts, text)
	if ok {
		l.Name, l.Kind = told[loader.FieldTitle], told[loader.FieldKind]
	}
	if l.Name == "" {
		l.Name = l.ID
	}
	switch {
	case err != nil:
	case len(parts) == 0:
		wrong("none of its parts is there", again)
	case !ok:
		wrong(fmt.Sprintf("its list does not tell the %s that are there, %s together", size.Count(len(parts), "part"), size.Format(l.Size)), again)
	default:
		a.joined(rule, v, &l, parts, wrong)
	}
	for _, part := range parts {
		if say := a.inPieces(part.Path); say != "" {
			wrong(part.Path+": "+say, gather)
		}
	}
	a.r.Listed = append(a.r.Listed, l)
}

// partsOf are the parts of a title that are there, in their order, up to the first that is missing.
func (a *audit) partsOf(rule *loader.Accept, v *loader.Values) (out []place.Entry) {
	row := *v
	for n := 1; ; n++ {
		row[loader.FieldIndex] = strconv.Itoa(n)
		e, ok := a.there[a.facts.Filesystem.Fold(rule.TooLarge.Parts.Fill(&row))]
		if !ok || e.Folder {
			return out
		}
		out = append(out, e)
	}
}

// told reads the title and the kind out of a list of parts. It holds only when the list tells exactly
// the parts that are there.
func (a *audit) told(rule *loader.Accept, v *loader.Values, parts []place.Entry, text string) (out loader.Values, ok bool) {
	const titleMark, kindMark, sumMark = "\x01t", "\x01k", "\x01s"
	whole := *v
	whole[loader.FieldTitle], whole[loader.FieldName], whole[loader.FieldKind] = titleMark, titleMark, kindMark
	rows := make([]loader.Values, len(parts))
	for n, p := range parts {
		rows[n] = whole
		rows[n][loader.FieldIndex], rows[n][loader.FieldFile] = strconv.Itoa(n+1), path.Base(p.Path)
		rows[n][loader.FieldSize], rows[n][loader.FieldSum] = strconv.FormatInt(p.Size, 10), sumMark
	}
	expr := regexp.QuoteMeta(strings.TrimPrefix(rule.TooLarge.ManifestText.FillEach(&whole, rows), "\n"))
	for mark, pattern := range map[string]string{titleMark: "(?P<t>[^\n]*)", kindMark: "(?P<k>[^\n]*)", sumMark: "[0-9A-Fa-f]{8}"} {
		first := strings.Index(expr, mark)
		if first < 0 {
			continue
		}
		rest := strings.ReplaceAll(expr[first+len(mark):], mark, "[^\n]*")
		if mark == sumMark {
			rest = strings.ReplaceAll(expr[first+len(mark):], mark, pattern)
		}
		expr = expr[:first] + pattern + rest
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

// joined looks into the image that parts make together.
func (a *audit) joined(rule *loader.Accept, v *loader.Values, l *Listed, parts []place.Entry, wrong func(say, remedy string)) {
	again := "take the title's folder off, and let Polytome put it here again"
	j, err := a.join(parts)
	if err != nil {
		wrong(err.Error(), again)
		return
	}
	defer j.Close()
	t, err := intake.Identify(j, j.Size(), path.Base(rule.Path.String()), a.set)
	switch {
	case err != nil:
		wrong(fmt.Sprintf("its parts make no image: %v", err), again)
	case t == nil || !slices.Contains(rule.Platforms, t.Platform):
		wrong(fmt.Sprintf("its parts are no %s %s", l.Platform, rule.Forms[0]), again)
	case t.Fault() != nil:
		wrong(t.Fault().Say, t.Fault().Remedy)
	default:
		within := t.Discs[0]
		if id := v[loader.FieldID]; id != "" && !strings.EqualFold(within.ID, id) {
			wrong(fmt.Sprintf("its folder says %s, but the image in its parts is %s", id, within.ID), again)
		}
		l.Kind = within.Kind
	}
}

// lonePart tells of a part whose title has no list.
func (a *audit) lonePart(e place.Entry, rule *loader.Accept, v *loader.Values) bool {
	if _, ok := a.there[a.facts.Filesystem.Fold(rule.TooLarge.Manifest.Fill(v))]; ok {
		index, _ := strconv.Atoi(v[loader.FieldIndex])
		if parts := a.partsOf(rule, v); index > len(parts) {
			a.find(Remark, e.Path, "a part before it is missing, so it is of no use", "take the title's folder off, and let Polytome put it here again")
		}
		return true
	}
	a.find(Fault, e.Path, fmt.Sprintf("%s passes it over: it is a part of a title, and there is no list of its parts", a.profile.Shown), "run again, which writes the list, or take it off")
	return true
}

// read reads a small file of the place.
func (a *audit) read(e place.Entry) (string, error) {
	if e.Size > largestManifest {
		return "", fmt.Errorf("with %s it is too long", size.Format(e.Size))
	}
	c, err := a.place.Open(a.ctx, e.Path)
	if err != nil {
		return "", err
	}
	defer c.Close()
	b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	return string(b), err
}

// join opens files of the place as one. The one that cannot be read is named.
func (a *audit) join(parts []place.Entry) (*joined.Contents, error) {
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
