package teach

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/strict"
	"polytome/internal/core/title"
)

// TOML writes the description of the platform, with how each thing was found.
func (p *Platform) TOML() string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# %s: learnt from %d games, such as %s.", p.Shown, p.Games, clean(p.Such))
	line("format = %d\nname = %s\nshown = %s\nforms = [%s]", loader.FormatVersion, strict.Quote(p.Name),
		strict.Quote(p.Shown),
		strict.Quote(string(p.Form)))
	switch {
	case p.Form == title.Package:
		line("packages = %s", inQuotes(p.Exts))
	case len(p.Exts) > 0:
		line("extensions = %s", inQuotes(p.Exts))
	}
	var main loader.Marker
	for i := range p.Markers {
		m := &p.Markers[i]
		if i == 0 {
			main = *m
		}
		line("\n[[marker]]")
		if m.File != "" {
			line("file = %s", strict.Quote(m.File))
		}
		if hex, _ := m.Hex.MarshalText(); len(m.Hex) > 0 {
			line("hex = %s\noffset = %d", strict.Quote(string(hex)), m.Offset)
		}
		if m.Syntax != "" {
			line("syntax = %s", strict.Quote(m.Syntax))
		}
		if m.Encoding != "" {
			line("encoding = %s", strict.Quote(m.Encoding))
		}
	}
	for _, name := range loader.FieldNames {
		f, ok := p.Fields[name]
		if !ok || name == "name" && f.Reading.FileName && f.Pattern == "" { // where scans look for it anyway
			continue
		}
		line("\n# %s", clean(f.Evidence))
		line("[field.%s]", name)
		f.toml(line, &main)
	}
	return b.String()
}

func inQuotes(all []string) string {
	out := make([]string, len(all))
	for i, s := range all {
		out[i] = strict.Quote(s)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// toml writes where the value stands, in a platform with that marker.
func (f *Found) toml(line func(string, ...any), main *loader.Marker) {
	r := &f.Reading
	if f.File != "" && f.File != main.File || f.File != "" && f.Marker.Syntax != main.Syntax {
		line("file = %s\nsyntax = %s", strict.Quote(f.File), strict.Quote(f.Marker.Syntax))
	}
	if f.File != "" && f.Marker.Encoding != "" && f.Marker.Encoding != main.Encoding {
		line("encoding = %s", strict.Quote(f.Marker.Encoding))
	}
	switch {
	case r.FileName:
		line("filename = true")
	case r.Volume:
		line("volume = true")
	case r.Key != "":
		if r.Section != "" {
			line("section = %s", strict.Quote(r.Section))
		}
		line("key = %s", strict.Quote(r.Key))
	case r.Line > 0:
		line("line = %d", r.Line)
	case r.Search:
		line("search = true")
		if r.Offset != nil {
			line("offset = %d\nlength = %d", *r.Offset, r.Length)
		}
	case r.Offset != nil:
		line("offset = %d\nlength = %d\nencoding = %s", *r.Offset, r.Length, strict.Quote(r.Encoding))
	}
	if f.Pattern != "" {
		line("pattern = %s", strict.Quote(f.Pattern))
	}
	if f.As != "" {
		line("as = %s", strict.Quote(f.As))
	}
	if len(f.Values) > 0 {
		var all []string
		for _, v := range slices.Sorted(keysOf(f.Values)) {
			all = append(all, fmt.Sprintf("%s = %s", strict.Quote(v), strict.Quote(f.Values[v])))
		}
		line("values = { %s }", strings.Join(all, ", "))
	}
}

// clean keeps a remark in its line.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7F {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
}

// Parse reads the description as a platform.
func (p *Platform) Parse() (*loader.Platform, error) {
	return loader.ParsePlatform(cmp.Or(p.Name, "learnt")+".toml", []byte(p.TOML()))
}
