// Package share has a loader be one text file that can be given away: its profile, the platforms that it needs, an
// example, and what the giver says of it. There is nothing in it but descriptions.
package share

import (
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/explain"
	"polytome/internal/core/loader"
	"polytome/internal/core/strict"
)

// A Parcel is what is given away.
type Parcel struct {
	Notes string // what the giver says
	// Documents are the descriptions: the platforms, and last the loader.
	Documents []Document
}

// A Document is the description of a platform or loader.
type Document struct {
	Kind string // platform or loader
	Name string
	Text string // TOML
}

// The lines of a parcel that are no TOML.
const (
	opening  = "# A loader for Polytome. Add it with: polytome loaders add FILE"
	noteMark = "#: "
	head     = "#== "
)

// The kinds of documents.
const (
	PlatformKind = "platform"
	LoaderKind   = "loader"
)

// Of has a loader be given away, with the platforms that it needs and that do not ship. Remarks and reasons are left
// out: those of a profile that was learnt name the giver's own games.
func Of(p *loader.Profile, set *loader.Set, notes string) (*Parcel, error) {
	out := &Parcel{Notes: strings.TrimSpace(notes)}
	for _, name := range platforms(p) {
		pf := set.Platform(name)
		if pf == nil || !pf.Own {
			continue // it ships
		}
		text, err := pf.Text()
		if err != nil {
			return nil, err
		}
		out.Documents = append(out.Documents, Document{PlatformKind, pf.Name, bare(string(text))})
	}
	text, err := p.Text()
	if err != nil {
		return nil, err
	}
	own := bare(string(text))
	if len(p.Examples) == 0 {
		own += sample(p, set)
	}
	out.Documents = append(out.Documents, Document{LoaderKind, p.Name, own})
	return out, nil
}

// platforms are those whose games a loader takes.
func platforms(p *loader.Profile) (out []string) {
	for i := range p.Accepts {
		for _, name := range p.Accepts[i].Platforms {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// generated are the reasons that learning writes down, which name games.
var generated = regexp.MustCompile(`^why = "(learnt from|guessed|it lies on the target|as answered|there are folders)`)

// bare is a description without remarks, and without the reasons that name somebody's games.
func bare(text string) string {
	var out strings.Builder
	quote := "" // of a text of several lines that the line is in
	blank := true
	for line := range strings.Lines(text) {
		trimmed := strings.TrimSpace(line)
		if quote == "" && (strings.HasPrefix(trimmed, "#") || generated.MatchString(trimmed) || trimmed == "" &&
			blank) {
			continue
		}
		blank = quote == "" && trimmed == ""
		for _, q := range []string{`"""`, "'''"} {
			if (quote == "" || quote == q) && strings.Count(line, q)%2 == 1 {
				if quote == "" {
					quote = q
				} else {
					quote = ""
				}
				break
			}
		}
		out.WriteString(line)
	}
	return strings.TrimRight(out.String(), "\n") + "\n"
}

// sample is an example with a game that there is not, so that whoever takes the loader sees that it does what it did
// here; "" where none can be made.
func sample(p *loader.Profile, set *loader.Set) string {
	if len(p.Accepts) == 0 {
		return ""
	}
	e := loader.Example{Platform: p.Accepts[0].Platforms[0], ID: "ABC-01234", Name: "Some Game", Size: 1 << 10}
	if pf := set.Platform(e.Platform); pf != nil {
		e.Region, e.Kind = usual(&pf.Fields.Region), usual(&pf.Fields.Kind)
	}
	paths, err := explain.Paths(&e, p, set)
	if err != nil || len(paths) == 0 {
		return ""
	}
	quoted := make([]string, len(paths))
	for i, at := range paths {
		quoted[i] = strict.Quote(at)
	}
	var b strings.Builder
	fmt.Fprintf(&b, "\n[[example]]\nplatform = %s\nid = %s\nname = %s\n", strict.Quote(e.Platform), strict.Quote(e.ID),
		strict.Quote(e.Name))
	for _, x := range [][2]string{{"region", e.Region}, {"kind", e.Kind}} {
		if x[1] != "" {
			fmt.Fprintf(&b, "%s = %s\n", x[0], strict.Quote(x[1]))
		}
	}
	fmt.Fprintf(&b, "size = %d\npaths = [%s]\n", e.Size, strings.Join(quoted, ", "))
	return b.String()
}

// usual is a value that a field may have; "" for none that is known.
func usual(f *loader.Reading) string {
	var all []string
	for _, v := range f.Values {
		all = append(all, v)
	}
	if len(all) == 0 {
		return ""
	}
	return slices.Min(all)
}

// String is the parcel as a file.
func (p *Parcel) String() string {
	var b strings.Builder
	b.WriteString(opening + "\n")
	if p.Notes != "" {
		for line := range strings.SplitSeq(p.Notes, "\n") {
			b.WriteString(strings.TrimRight(noteMark+line, " ") + "\n")
		}
	}
	for _, d := range p.Documents {
		fmt.Fprintf(&b, "\n%s%s %s\n%s", head, d.Kind, d.Name, d.Text)
	}
	return b.String()
}

// heads tells where a document begins.
var heads = regexp.MustCompile(`^#== (platform|loader) ([a-z0-9][a-z0-9-]{0,39})$`)

// Parse reads a parcel.
func Parse(text string) (*Parcel, error) {
	p := &Parcel{}
	if !strings.HasPrefix(text, opening[:len("# A loader for Polytome.")]) {
		return nil, errors.New("this is no loader that was shared: its first line does not say so")
	}
	var notes []string
	var d *Document
	for line := range strings.Lines(text) {
		bare := strings.TrimRight(line, "\r\n")
		if m := heads.FindStringSubmatch(bare); m != nil {
			if slices.ContainsFunc(p.Documents, func(o Document) bool { return o.Kind == m[1] && o.Name == m[2] }) {
				return nil, fmt.Errorf("it describes the %s %s twice", m[1], m[2])
			}
			p.Documents = append(p.Documents, Document{Kind: m[1], Name: m[2]})
			d = &p.Documents[len(p.Documents)-1]
			continue
		}
		if strings.HasPrefix(bare, head) {
			return nil, fmt.Errorf("it has something that is neither a platform nor a loader: %q", bare)
		}
		switch {
		case d != nil:
			d.Text += strings.TrimSuffix(line, "\r\n")
			if strings.HasSuffix(line, "\r\n") {
				d.Text += "\n"
			}
		case strings.HasPrefix(bare, strings.TrimSpace(noteMark)):
			notes = append(notes, strings.TrimPrefix(strings.TrimPrefix(bare, strings.TrimSpace(noteMark)), " "))
		}
	}
	for i := range p.Documents {
		p.Documents[i].Text = strings.TrimRight(p.Documents[i].Text, "\n") + "\n"
	}
	p.Notes = strings.Join(notes, "\n")
	if n := len(p.Documents); n == 0 || p.Documents[n-1].Kind != LoaderKind {
		return nil, errors.New("it has no loader")
	}
	return p, nil
}

// A Reading is a parcel as it was understood.
type Reading struct {
	Profile   *loader.Profile
	Platforms []*loader.Platform
	Set       *loader.Set // that knows its platforms too
	Failed    []explain.Step
}

// Read checks a parcel as strictly as any description, and runs its examples.
func (p *Parcel) Read(set *loader.Set) (*Reading, error) {
	r := &Reading{Set: set}
	for _, d := range p.Documents {
		name := d.Name + ".toml"
		switch d.Kind {
		case PlatformKind:
			x, err := loader.ParsePlatform(name, []byte(d.Text))
			if err != nil {
				return nil, err
			}
			if x.Name != d.Name {
				return nil, fmt.Errorf("%s: it describes %s", name, x.Name)
			}
			x.Own = true
			r.Platforms = append(r.Platforms, x)
			r.Set = r.Set.With(x)
			r.Failed = append(r.Failed, failed(explain.Games(x))...)
		case LoaderKind:
			if r.Profile != nil {
				return nil, errors.New("it has two loaders")
			}
			x, err := loader.ParseProfile(name, []byte(d.Text))
			if err == nil {
				err = r.Set.Check(x)
			}
			if err != nil {
				return nil, err
			}
			if x.Name != d.Name {
				return nil, fmt.Errorf("%s: it describes %s", name, x.Name)
			}
			r.Profile = x
			r.Failed = append(r.Failed, failed(explain.Examples(x, r.Set))...)
		}
	}
	return r, nil
}

func failed(all []explain.Step) (out []explain.Step) {
	for _, s := range all {
		if !s.OK {
			out = append(out, s)
		}
	}
	return out
}

// reason is what learning has written down of a rule, in a sentence.
var reason = regexp.MustCompile(`\s*(Learnt from|Guessed|It lies on the target|As answered|There are folders) .*$`)

// Differences are the sentences that one description has and another has not: what is new begins with "+ ", what goes
// with "- ".
func Differences(was, is []loader.Section) (out []string) {
	lines := func(all []loader.Section) (out []string) {
		for _, s := range all {
			for _, l := range s.Lines {
				if l = reason.ReplaceAllString(strings.TrimPrefix(l, loader.Under), ""); l != "" {
					out = append(out, s.Title+": "+l)
				}
			}
		}
		return out
	}
	a, b := lines(was), lines(is)
	for _, l := range a {
		if !slices.Contains(b, l) {
			out = append(out, "- "+l)
		}
	}
	for _, l := range b {
		if !slices.Contains(a, l) {
			out = append(out, "+ "+l)
		}
	}
	return out
}

// FileOf is where a document of a parcel goes below the user's folder.
func (d *Document) FileOf(dir string) string {
	if d.Kind == PlatformKind {
		return filepath.Join(dir, loader.PlatformDir, d.Name+".toml")
	}
	return loader.OwnFile(dir, d.Name)
}
