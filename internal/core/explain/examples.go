package explain

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"testing/fstest"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/core/title"
	"polytome/internal/target"
)

// Examples runs those of a profile: a step for each, which says what came out instead where that is something else.
func Examples(p *loader.Profile, set *loader.Set) (out []Step) {
	for i := range p.Examples {
		e := &p.Examples[i]
		name := cmp.Or(e.Name, e.ID, e.File, fmt.Sprint(i+1))
		wrong := example(e, p, set)
		for _, say := range wrong {
			out = append(out, Step{false, fmt.Sprintf("example %d (%s): %s", i+1, name, say)})
		}
		if len(wrong) == 0 {
			out = append(out, Step{true, fmt.Sprintf("example %d (%s)", i+1, name)})
		}
	}
	return out
}

// laid lays the game of an example.
func laid(e *loader.Example, p *loader.Profile, set *loader.Set) (*layout.Tree, error) {
	d := layout.Destination{Attachment: &p.Attachments[0], Set: set}
	for i := range p.Attachments {
		if p.Attachments[i].Name == e.On {
			d.Attachment = &p.Attachments[i]
		}
	}
	fs, err := target.FilesystemNamed(cmp.Or(e.Filesystem, d.Attachment.DefaultFilesystem()))
	if err != nil {
		return nil, err
	}
	d.Filesystem, d.Volume, d.Capacity = fs, e.Volume, int64(e.Capacity)
	return layout.Lay([]title.Title{game(e, set)}, p, d), nil
}

// made are all files that come out, but for covers.
func made(tree *layout.Tree) (out []string) {
	for i := range tree.Placements[0].Items {
		out = append(out, tree.Placements[0].Items[i].Path)
	}
	for _, c := range tree.Companions(0) {
		if c.Is != "cover" {
			out = append(out, c.Path)
		}
	}
	return out
}

// Paths are the files that come out of an example, but for covers. The error says why it is not taken.
func Paths(e *loader.Example, p *loader.Profile, set *loader.Set) ([]string, error) {
	tree, err := laid(e, p, set)
	if err != nil {
		return nil, err
	}
	if r := tree.Placements[0].Refusal; r != nil {
		return nil, errors.New(r.Say)
	}
	return made(tree), nil
}

// example says what is other than the example wants.
func example(e *loader.Example, p *loader.Profile, set *loader.Set) (wrong []string) {
	tree, err := laid(e, p, set)
	if err != nil {
		return []string{err.Error()}
	}
	pl := &tree.Placements[0]
	switch {
	case pl.Refusal != nil && e.Refused == "":
		return []string{"it is not taken: " + pl.Refusal.Say}
	case pl.Refusal != nil && !strings.Contains(strings.ToLower(pl.Refusal.Say), strings.ToLower(e.Refused)):
		return []string{fmt.Sprintf("it is refused for another reason than %q: %s", e.Refused, pl.Refusal.Say)}
	case pl.Refusal == nil && e.Refused != "":
		return []string{"it is taken, and goes to " + pl.Items[0].Path}
	case pl.Refusal != nil:
		return nil
	}
	all := made(tree)
	for _, want := range e.Paths {
		if !slices.Contains(all, want) {
			wrong = append(wrong, fmt.Sprintf("there is no %s", want))
		}
	}
	for _, is := range all {
		if !slices.Contains(e.Paths, is) {
			wrong = append(wrong, fmt.Sprintf("there is %s", is))
		}
	}
	lists := tree.Lists(func(int) bool { return true })
	for _, at := range slices.Sorted(maps.Keys(e.Lists)) {
		i := slices.IndexFunc(lists, func(l layout.ListFile) bool { return l.Path == at })
		switch {
		case i < 0:
			wrong = append(wrong, fmt.Sprintf("it is listed in no %s", at))
		case !bytes.Contains(lists[i].Data, []byte(e.Lists[at])):
			wrong = append(wrong, fmt.Sprintf("%s has %q", at, lists[i].Data))
		}
	}
	return wrong
}

// game is the title that an example is about.
func game(e *loader.Example, set *loader.Set) title.Title {
	t := title.Title{Key: "example", Platform: e.Platform, Form: e.Form, Name: e.Name, ID: e.ID, Region: e.Region,
		Of: max(1, e.Discs)}
	t.Tags = e.Tags
	x := set.Platform(e.Platform)
	if t.Form == "" && x != nil {
		t.Form = x.Forms[0]
	}
	file := e.File
	if file == "" {
		file = cmp.Or(e.Name, e.ID)
		if x != nil && t.Form == title.Package && len(x.Packages) > 0 {
			file += x.Packages[0]
		} else if x != nil && t.Form != title.Folder && len(x.Extensions) > 0 {
			file += x.Extensions[0]
		}
	}
	for n := range t.Of {
		disc := title.Disc{Number: n + 1, ID: e.ID, Kind: e.Kind, File: title.File{Path: "/games/" + file,
			Size: int64(e.Size)}}
		if t.Of > 1 {
			ext := path.Ext(file)
			disc.File.Path = fmt.Sprintf("/games/%s (Disc %d)%s", strings.TrimSuffix(file, ext), n+1, ext)
		}
		for _, part := range e.Parts {
			part = strings.ReplaceAll(part, "{disc}", strconv.Itoa(n+1))
			disc.Parts = append(disc.Parts, title.Part{Name: part,
				File: title.File{Path: path.Join(path.Dir(disc.File.Path),
					part)}})
		}
		t.Discs = append(t.Discs, disc)
	}
	return t
}

// Games runs the examples of a platform's description.
func Games(p *loader.Platform) (out []Step) {
	for i := range p.Examples {
		e := &p.Examples[i]
		name := cmp.Or(e.File, e.ID, fmt.Sprint(i+1))
		wrong := read(e, p)
		for _, say := range wrong {
			out = append(out, Step{false, fmt.Sprintf("example %d (%s): %s", i+1, name, say)})
		}
		if len(wrong) == 0 {
			out = append(out, Step{true, fmt.Sprintf("example %d (%s)", i+1, name)})
		}
	}
	return out
}

func read(e *loader.GameExample, p *loader.Platform) (wrong []string) {
	name := cmp.Or(e.File, "example")
	data := e.Content()
	whole := reading.Of(bytes.NewReader(data), int64(len(data)), name)
	whole.Volume = e.Volume
	if len(e.Files) > 0 {
		all := fstest.MapFS{}
		for name, text := range e.Files {
			all[name] = &fstest.MapFile{Data: []byte(text)}
		}
		whole.FS = all
	}
	if path.Ext(name) == "" {
		whole.Called = name + "."
	}
	var lacks []string
	for i := range p.Markers {
		m := &p.Markers[i]
		at, lack, err := whole.Marked(m)
		if err != nil {
			return []string{err.Error()}
		}
		if at == nil {
			lacks = append(lacks, lack.Say())
			continue
		}
		if e.None {
			return []string{"it is taken for a game: " + describe(m)}
		}
		return values(e, p, m, at)
	}
	if e.None {
		return nil
	}
	if len(p.Markers) > 0 {
		return []string{"it is taken for no game: " + strings.Join(lacks, "; ")}
	}
	return values(e, p, &loader.Marker{Syntax: loader.Binary}, whole)
}

// values compares what is read with what an example wants.
func values(e *loader.GameExample, p *loader.Platform, m *loader.Marker, at *reading.Source) (wrong []string) {
	known := map[string]string{}
	for _, field := range loader.FieldNames {
		v, err := at.Read(field, p.Fields.Named(field), m, func(field string) string { return known[field] })
		if err == nil && !v.Odd {
			known[field] = v.Text
		}
		if field == "kind" && known[field] == "" {
			known[field] = at.Kind(p, known["id"])
		}
		switch want := e.Wanted(field); {
		case err != nil:
			wrong = append(wrong, fmt.Sprintf("the %s cannot be read: %v", field, err))
		case v.Odd:
			wrong = append(wrong, fmt.Sprintf("%s: %q does not fit the pattern of the %s: %s", v.From, v.Text, field,
				p.Fields.Named(field).Pattern))
		case want != known[field] && want != "":
			wrong = append(wrong, fmt.Sprintf("the %s is %q instead of %q", field, known[field], want))
		}
	}
	return wrong
}
