package explain

import (
	"fmt"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
	"polytome/internal/size"
)

// Platform tells the description of a platform in plain sentences.
func Platform(p *loader.Platform) (out []loader.Section) {
	var forms []string
	for _, f := range p.Forms {
		forms = append(forms, string(f))
	}
	known := []string{fmt.Sprintf("%s games come as: %s.", p.Shown, strings.Join(forms, ", "))}
	if all := append(append([]string{}, p.Extensions...), p.Packages...); len(all) > 0 {
		known = append(known, "Their files end in "+strings.Join(all, ", ")+".")
	}
	for i := range p.Markers {
		say := describe(&p.Markers[i])
		if i > 0 {
			say = "or " + say
		}
		known = append(known, strings.ToUpper(say[:1])+say[1:]+".")
	}
	if len(p.Markers) == 0 {
		known = append(known, "They are known by their extension alone.")
	}
	out = append(out, loader.Section{Title: "How a game is known", Lines: known})
	var fields []string
	for _, name := range loader.FieldNames {
		f := p.Fields.Named(name)
		what := strings.Replace(name, "id", "ID", 1)
		if !f.Reports() {
			if name == "name" {
				fields = append(fields, "The name is that of the game's own file.")
			}
			continue
		}
		line := fmt.Sprintf("The %s is the %s", what, where(f))
		for i := range f.Or {
			line += ", else the " + where(&f.Or[i])
		}
		if f.Required {
			line += "; every game must have it"
		}
		fields = append(fields, line+".")
	}
	for i := range p.Kinds {
		k := &p.Kinds[i]
		var when []string
		if k.Smallest > 0 {
			when = append(when, "at least "+size.Format(k.Smallest))
		}
		if k.Largest > 0 {
			when = append(when, "at most "+size.Format(k.Largest))
		}
		if k.ID.Regexp != nil {
			when = append(when, "an ID like "+k.ID.String())
		}
		if k.File != "" {
			when = append(when, k.File+" in it")
		}
		if len(when) > 0 {
			fields = append(fields, fmt.Sprintf("Games of the kind %s have %s.", k.Name, strings.Join(when, ", and ")))
		}
	}
	for i := range p.Checks {
		h := &p.Checks[i]
		fields = append(fields, fmt.Sprintf("A %s at byte %d is checked.", map[bool]string{true: "length",
			false: "sum"}[h.
			Is == "length"], h.At))
	}
	return append(out, loader.Section{Title: "What is read from it", Lines: fields})
}

// where is the place of a value, and what of it counts.
func where(f *loader.Reading) string {
	line := reading.Where(f)
	if f.File != "" {
		line += " in " + f.File
	}
	if f.Pattern.Regexp != nil && !f.Search {
		line += fmt.Sprintf(", like %s", f.Pattern)
	}
	return line
}
