package learn

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// packed finds out whether images are packed, and from which length on the packed ones are cut: their further parts are
// named as the format has it.
func (s *student) packed(r *Rule, all []*sample) {
	if r.Packed = !slices.ContainsFunc(all,
		func(x *sample) bool { return len(s.look.Packed[x.path]) == 0 }); !r.Packed {
		return
	}
	s.find(Certain, fmt.Sprintf("images of %s are packed", r.Platforms[0]), "%s, such as %s", size.Count(len(all),
		"file"), all[0].path)
	for _, x := range all {
		if len(s.look.Packed[x.path]) < 2 {
			continue
		}
		for _, e := range s.look.Entries {
			if e.Path == x.path {
				r.PartSize = max(r.PartSize, e.Size)
			}
		}
		ext := path.Ext(r.Path)
		r.Parts = strings.TrimSuffix(r.Path, ext) + "{if index over 1}.{index}{end}" + ext
	}
	if r.Over = r.PartSize; r.Over > 0 {
		s.find(Likely, fmt.Sprintf("%s images that are too large are split into parts of %s", r.Platforms[0],
			size.Format(r.PartSize)), "such as %s", all[0].path)
	}
}

// cut finds out how titles are named that are there in parts, and from which length on a title is.
func (s *student) cut(r *Rule, whole []*sample) {
	var when loader.Condition
	_ = when.UnmarshalText([]byte(r.When)) // it was parsed before
	var rows []infer.Row
	var of []*sample
	least, most := int64(0), int64(0)
	for _, x := range whole {
		most = max(most, x.of().Size())
	}
	for _, x := range s.split {
		if !slices.Contains(r.Platforms, x.t.Platform) || x.t.Form != r.Form || x.ruled || !when.Empty() &&
			!when.Holds(&x.facts) {
			continue
		}
		x.ruled = true
		of = append(of, x)
		if n := x.of().Size(); least == 0 || n < least {
			least = n
		}
		for k, part := range x.parts {
			v := x.values
			v[loader.FieldTitle], _ = s.naming(r.naming).Name(x.t.Name)
			if m := digitFirst.FindStringIndex(part); m != nil {
				n, _ := strconv.Atoi(leading.FindString(part[m[1]-1:]))
				v[loader.FieldNumber] = strconv.Itoa(n)
			}
			v[loader.FieldIndex], v[loader.FieldParts] = strconv.Itoa(k+1), strconv.Itoa(len(x.parts))
			rows = append(rows, infer.Row{Values: v, Text: part})
		}
		r.PartSize = max(r.PartSize, x.size)
	}
	if len(of) == 0 {
		return
	}
	fields := append(slices.Clone(pathFields), loader.FieldIndex, loader.FieldParts)
	o := infer.Options{Fields: slices.DeleteFunc(slices.Clone(fields), func(f loader.Field) bool {
		return f == loader.FieldNumber // it may be the index
	}), Whens: append(whens(of), "index over 1"), Whole: true, Fold: s.fold}
	m, ok := infer.Template(rows, o)
	if r.Numbers != "" || r.When == "" {
		o.Fields = fields
		if n, is := infer.Template(rows, o); is && strings.Contains(n.Text, "{index") && (!ok || n.Cost < m.Cost ||
			r.When != "") {
			m, ok = n, true
		}
	}
	if r.When != "" && strings.Contains(m.Text, "{number") != (r.Numbers != "") {
		ok = false // all files of a title have its number, or none
	}
	if !ok {
		name := "{id}"
		if r.Numbers != "" {
			name = "{number|pad:3} {id}"
		}
		m.Text = infer.Literal(path.Dir(of[0].parts[0])) + "/" + name + ".{index|pad:2}"
		s.ask(Question{Key: "parts " + r.Platforms[0], Usual: m.Text, Path: of[0].parts[0],
			Say: fmt.Sprintf("how are the parts of %s named? Such as %s", r.Platforms[0], of[0].parts[0])},
			func(text string) error {
				if _, err := loader.ParseTemplate(text); err != nil {
					return err
				}
				m.Text = text
				return nil
			})
	}
	if r.When == "" && strings.Contains(m.Text, "{number") != (r.Numbers != "") {
		s.ofParts(r, of, m.Text, most, least)
		return
	}
	r.Parts = m.Text
	limit := s.look.Facts.Filesystem.LargestFile
	if limit == 0 || least <= limit {
		if r.Over = r.PartSize; r.Over < most || r.Over >= least { // as a rule what fits a part is not cut
			r.Over, _ = size.Parse(between(most, least))
		}
	}
	s.manifest(r, of)
	s.find(Likely, fmt.Sprintf("%s %s that are too large are split into parts of %s", r.Platforms[0], formWords[r.Form],
		size.Format(r.PartSize)), "%s, such as %s", size.Count(len(of), "title"), of[0].parts[0])
	for _, x := range of {
		s.made(r.Path, x.parts...)
	}
}

// ofParts has a rule of its own for titles that are there in parts, where those follow other rules than the ones in one
// piece: all that are as large are cut, so that nothing shows where one in one piece would lie.
func (s *student) ofParts(r *Rule, of []*sample, parts string, most, least int64) {
	when := between(most, least)
	big := Rule{Platforms: r.Platforms, Form: r.Form, When: "size over " + when, naming: r.naming, PartSize: r.PartSize,
		Parts: parts, Why: fmt.Sprintf("learnt from %s, such as %s", size.Count(len(of), "title"), of[0].parts[0])}
	big.Over, _ = size.Parse(when)
	big.Path = strings.TrimRight(indexes.ReplaceAllString(strings.TrimSuffix(parts, path.Ext(parts)), ""), "/") +
		r.ext()
	if strings.Contains(parts, "{number") {
		big.Numbers = "in-order"
	}
	r.PartSize = 0
	s.add(big)
	s.find(Likely, fmt.Sprintf("%s %s over %s are split into parts of %s", r.Platforms[0], formWords[r.Form],
		size.Format(big.Over), size.Format(big.PartSize)), "%s, such as %s; none as large is in one piece",
		size.Count(len(of), "title"), of[0].parts[0])
	for _, x := range of {
		s.made(big.Path, x.parts...)
	}
}

// indexes are the parts of a template that count a title's parts.
var indexes = regexp.MustCompile(`[ ._-]?\{(index|parts)[^}]*\}`)

// ext is that of the rule's path.
func (r *Rule) ext() string {
	if at := strings.LastIndex(r.Path, "{ext"); at >= 0 {
		return r.Path[at:]
	}
	return path.Ext(r.Path)
}

// tracks finds out how track files are named that go by their cue sheet's name or by their title's.
func (s *student) tracks(r *Rule, all []*sample) {
	if r.Form != title.Tracks {
		return
	}
	var rows []infer.Row
	several := false
	for _, x := range all {
		several = several || len(x.of().Parts) > 1
		for k, p := range x.of().Parts {
			v := x.values
			v[loader.FieldTitle], _ = s.naming(r.naming).Name(x.t.Name)
			v[loader.FieldIndex] = strconv.Itoa(k + 1)
			rows = append(rows, infer.Row{Values: v, Text: s.rel(p.File.Path)})
		}
	}
	m, ok := infer.Template(rows, infer.Options{Fields: append(slices.Clone(pathFields), loader.FieldIndex),
		Whole: true, Fold: s.fold})
	if !ok || constant(m.Text, all) {
		return
	}
	r.Tracks = m.Text
	if at := strings.LastIndexAny(r.Tracks, "0123456789"); !several && at > 0 && strings.Contains(r.Tracks[at:], ".") &&
		!strings.ContainsAny(r.Tracks[at:], "{}") { // the number of a disc's only track
		number := counted.FindString(r.Tracks[strings.LastIndexFunc(r.Tracks[:at],
			func(c rune) bool { return c < '0' || c > '9' })+1:])
		if n, _ := strconv.Atoi(number); n == 1 {
			index := "{index}"
			if len(number) > 1 {
				index = fmt.Sprintf("{index|pad:%d}", len(number))
			}
			r.Tracks = r.Tracks[:at+1-len(number)] + index + r.Tracks[at+1:]
		}
	}
	if !strings.Contains(r.Tracks, "{index") {
		if r.OneFile = !several && !strings.HasSuffix(strings.ToLower(r.Tracks), ".bin"); !r.OneFile {
			r.Tracks = "" // they keep the names that they have
			return
		}
	}
	s.find(Likely, "their track files go to "+r.Tracks, "all are named after their cue sheets")
	if !several {
		s.ask(Question{Key: "tracks " + r.Platforms[0], Usual: "each lies beside the sheet", Say: fmt.Sprintf(
			"what becomes of %s discs of several tracks? All that are there have one", r.Platforms[0])}, nil)
	}
}

var sum = regexp.MustCompile(`\b[0-9a-f]{8}\b`)

// manifest finds the list of parts that lies with each title in parts, and what stands in it.
func (s *student) manifest(r *Rule, of []*sample) {
	var rows []infer.Row
	var texts []string
	var entries []infer.Entry
	for _, x := range of {
		for _, e := range s.unexplained() {
			if path.Dir(e.Path) != path.Dir(x.parts[0]) {
				continue
			}
			b, ok := s.read(e.Path)
			if as, text := teach.EncodingOf([][]byte{b}); !ok || !text || as != "" || infer.WordIn(string(b),
				path.Base(x.parts[0])) < 0 {
				continue
			}
			v := x.values
			v[loader.FieldTitle], _ = s.naming(r.naming).Name(x.t.Name)
			v[loader.FieldParts] = strconv.Itoa(len(x.parts))
			entry := infer.Entry{Values: v}
			sums := sum.FindAllString(string(b), -1)
			left := x.of().Size()
			for k, part := range x.parts {
				p := v
				p[loader.FieldFile], p[loader.FieldSize] = path.Base(part), strconv.FormatInt(min(left, x.size), 10)
				if left -= x.size; len(sums) == len(x.parts) {
					p[loader.FieldSum] = sums[k]
				}
				entry.Discs = append(entry.Discs, p)
			}
			rows = append(rows, infer.Row{Values: v, Text: e.Path})
			texts, entries = append(texts, string(b)), append(entries, entry)
			break
		}
	}
	if len(rows) < len(of) {
		return
	}
	at, ok := infer.Template(rows, infer.Options{Fields: pathFields, Whole: true, Fold: s.fold})
	fields := append(slices.Clone(textFields), loader.FieldSum)
	text, ok2 := infer.Each(texts, entries, infer.Options{Fields: fields})
	if !ok || !ok2 {
		return
	}
	for i := range rows {
		s.used[rows[i].Text] = Piece
	}
	r.Manifest, r.ManifestText = at.Text, text.Text
	s.find(Likely, "a list of their parts goes to "+at.Text, "%s, such as %s", size.Count(len(rows), "file"),
		rows[0].Text)
	for i := range rows {
		s.made(r.Path, rows[i].Text)
	}
}
