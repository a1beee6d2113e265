package layout

import (
	"path"
	"strconv"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

var slashes = strings.NewReplacer("/", "-", `\`, "-")

// valuesOf collects the fields of a placed title. A value can never make a folder.
func (l *layer) valuesOf(t *title.Title, p *Placement) loader.Values {
	v := loader.Values{
		loader.FieldID: harmless(t.ID), loader.FieldTitle: p.Name, loader.FieldName: harmless(t.Name),
		loader.FieldRegion:   harmless(t.Region),
		loader.FieldPlatform: harmless(t.Platform), loader.FieldExt: harmless(ext(t, p.Rule)),
	}
	if t.Of > 1 {
		v[loader.FieldDiscs] = strconv.Itoa(t.Of)
	}
	if s := l.destination.Slots[t.Key]; s.Section != "" {
		v[loader.FieldSection], _ = l.naming(p.Rule, t).Name(s.Section)
	}
	page := 0
	if p.shelf != nil {
		page = p.shelf.page
	}
	if page > 1 || p.Rule.PageOne {
		v[loader.FieldPage] = strconv.Itoa(max(1, page))
	}
	if p.Rule.Numbered() {
		l.number(&v, p, 0)
	}
	return v
}

// listed sets what the loader's list has of a title beside its section.
func (l *layer) listed(v *loader.Values, t *title.Title) {
	if place := l.destination.Slots[t.Key].Place; place > 0 {
		v[loader.FieldPlace] = strconv.Itoa(place)
	}
	if of := l.destination.Favourites; of != nil && of(t.Key) {
		v[loader.FieldFavourite] = "yes"
	}
	v[loader.FieldLocked] = strings.Join(t.Locked, " ")
}

// Facts are what a rule's condition can ask for of a title at a target: its size is that of its largest disc.
func Facts(t *title.Title, here loader.Here) loader.Values {
	d := &t.Discs[0]
	bytes, parts := int64(0), 0
	for i := range t.Discs {
		bytes = max(bytes, t.Discs[i].Size())
		if parts += len(t.Discs[i].Parts); t.Form != title.Folder {
			parts++
		}
	}
	v := loader.Values{loader.FieldID: t.ID, loader.FieldTitle: t.Name, loader.FieldName: t.Name,
		loader.FieldRegion: t.Region, loader.FieldKind: d.Kind, loader.FieldPlatform: t.Platform,
		loader.FieldForm: string(t.Form), loader.FieldSize: strconv.FormatInt(bytes, 10),
		loader.FieldParts: strconv.Itoa(parts), loader.FieldTags: strings.Join(t.Tags, "\n"), loader.FieldYear: t.Year,
		loader.FieldPlayers: t.Players, loader.FieldPublisher: t.Publisher, loader.FieldExt: ext(t, &loader.Accept{})}
	if t.Of > 1 {
		v[loader.FieldDiscs] = strconv.Itoa(t.Of)
	}
	here.Put(&v)
	return v
}

// facts are those of a title at the target that the tree is for.
func (l *layer) facts(t *title.Title) *loader.Values {
	v := Facts(t, l.here())
	return &v
}

// extension is that of the file as it goes over, with its dot.
func ext(t *title.Title, rule *loader.Accept) string {
	if keepsArchive(t, rule) {
		return t.Archive
	}
	if t.Ext != "" {
		return t.Ext
	}
	source := t.Source()
	if t.Archive != "" {
		source = strings.TrimSuffix(source, t.Archive)
		if len(t.Discs[0].Parts) > 0 {
			source = t.Discs[0].Parts[0].Name
		}
	}
	return strings.ToLower(path.Ext(source))
}

// keepsArchive reports whether the title's archive goes over packed.
func keepsArchive(t *title.Title, rule *loader.Accept) bool {
	if t.Among > 1 || len(t.Discs[0].Volumes) > 0 { // it would take others along, or be a part of one only
		return false
	}
	switch rule.Archives {
	case "keep":
		return t.Archive != ""
	case "keep-zip":
		return strings.EqualFold(t.Archive, ".zip")
	}
	return false
}

// harmless takes out of a value what would make folders or steer a terminal.
func harmless(s string) string {
	bad := false
	for i := range len(s) {
		if c := s[i]; c < ' ' || c == '/' || c == '\\' || c == 0x7F || c == '.' {
			bad = true
			break
		}
	}
	if !bad {
		return s
	}
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7F {
			return -1
		}
		return r
	}, slashes.Replace(s))
	if strings.Trim(s, ".") == "" {
		return ""
	}
	return s
}

// below makes the path of a part, which may lie in folders of its own, harmless.
func below(name string) string {
	parts := strings.Split(strings.ReplaceAll(name, `\`, "/"), "/")
	kept := parts[:0]
	for _, p := range parts {
		if p = harmless(p); p != "" {
			kept = append(kept, p)
		}
	}
	return strings.Join(kept, "/")
}

var rareFields = []loader.Field{loader.FieldSize, loader.FieldParts, loader.FieldForm, loader.FieldTags,
	loader.FieldYear, loader.FieldPlayers, loader.FieldPublisher}

// rare sets what some paths have of a disc and few others.
func rare(v *loader.Values, t *title.Title, d *title.Disc) {
	parts := len(d.Parts)
	if t.Form != title.Folder {
		parts++
	}
	v[loader.FieldSize], v[loader.FieldParts] = strconv.FormatInt(d.Size(), 10), strconv.Itoa(parts)
	v[loader.FieldForm], v[loader.FieldTags] = string(t.Form), strings.Join(t.Tags, "\n")
	v[loader.FieldYear], v[loader.FieldPlayers], v[loader.FieldPublisher] = harmless(t.Year), harmless(t.Players),
		harmless(t.Publisher)
}

// disc sets the fields of one disc.
func (l *layer) disc(v *loader.Values, t *title.Title, p *Placement, i int) {
	rule := p.Rule
	d := &t.Discs[i]
	if d.ID != "" {
		v[loader.FieldID] = harmless(d.ID)
	}
	v[loader.FieldKind] = harmless(d.Kind)
	if rule.Numbered() {
		l.number(v, p, i)
	}
	if l.legal[rule].facts {
		rare(v, t, d)
	}
	if t.Of > 1 {
		v[loader.FieldDisc] = strconv.Itoa(d.Number)
		if !rule.Title.Discs.Empty() {
			v[loader.FieldTitle] += rule.Title.Discs.Fill(v)
		}
	}
}
