package layout

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

// layer targets single titles by a profile's rules.
type layer struct {
	p           *loader.Profile
	destination Destination
	legal       map[*loader.Accept]*legal // what names may hold under each rule
	decide      []*loader.Companion       // without which titles do not start
	asks        bool                      // a rule for placing titles has a condition
	unnumbered  int                       // the number in paths until titles have theirs
}

// legal is what names may hold: worked out once for ASCII, which most names are made of.
type legal struct {
	ascii   [utf8.RuneSelf]bool
	permits func(rune) bool
	facts   bool // paths have fields of [rare]
}

func newLayer(p *loader.Profile, destination Destination) *layer {
	l := &layer{p: p, destination: destination, legal: map[*loader.Accept]*legal{}}
	forbidden := destination.Filesystem.Forbidden
	var permitted loader.CharacterSet
	if at := destination.Attachment; at != nil {
		forbidden += at.Forbidden
		permitted = at.Permitted
	}
	for i := range p.Accepts {
		rule := &p.Accepts[i]
		permits := func(c rune) bool {
			return rule.Title.Permits(c) && !strings.ContainsRune(forbidden, c) && (len(permitted) == 0 ||
				permitted.Has(c))
		}
		of := &legal{}
		for r := range of.ascii {
			of.ascii[r] = permits(rune(r))
		}
		of.permits = func(r rune) bool {
			if r >= 0 && r < utf8.RuneSelf {
				return of.ascii[r]
			}
			return permits(r)
		}
		for _, t := range []loader.Template{rule.Path, rule.Tracks, rule.TooLarge.Parts, rule.TooLarge.Manifest} {
			of.facts = of.facts || slices.ContainsFunc(t.Fields(), func(f loader.Field) bool {
				return slices.Contains(rareFields, f)
			})
		}
		l.legal[rule] = of
	}
	l.asks = slices.ContainsFunc(p.Accepts, func(a loader.Accept) bool { return !a.When.Empty() }) ||
		slices.ContainsFunc(p.Refusals, func(r loader.Refusal) bool { return !r.When.Empty() })
	for i := range p.Companions {
		if c := &p.Companions[i]; c.Decides() {
			l.decide = append(l.decide, c)
		}
	}
	return l
}

// here is where the loader's own files are.
func (l *layer) here() loader.Here {
	return l.destination.Here()
}

// place gives a title the path that it would have if it were alone. It gets the
// name that it holds, where that is one that the rules allow.
func (l *layer) place(t *title.Title, held string) Placement {
	if t.Platform == "" {
		return refuse("the file was not recognized", "see the evidence in Games")
	}
	var facts *loader.Values
	if l.asks {
		facts = l.facts(t)
	}
	rule, refusal := l.p.Accept(t.Platform, t.Form, l.destination.attachment(), l.destination.Filesystem.Name, facts)
	switch {
	case refusal != nil:
		return refuse(refusal.Say, refusal.Ways...)
	case rule == nil && !l.p.Knows(t.Platform):
		out := refuse(fmt.Sprintf("%s does not read %s titles", l.p.Shown, l.destination.Set.PlatformShown(t.Platform)))
		out.Refusal.Foreign = true
		return out
	case rule == nil:
		return l.noRule(t)
	}
	return l.within(t, rule, held, nil, "")
}

// placeMarked is the place of a title with something put behind the name that it has
// alone.
func (l *layer) targetMarked(t *title.Title, alone *Placement, mark string) Placement {
	return l.within(t, alone.Rule, "", alone, mark)
}

// within places a title so that its paths are not too long.
func (l *layer) within(t *title.Title, rule *loader.Accept, held string, alone *Placement, mark string) Placement {
	naming := l.naming(rule, t)
	pl := l.targetAs(t, rule, naming, held, alone, mark)
	if pl.Refusal == nil {
		for i := range pl.Items {
			if p := pl.Items[i].Path; !fs.ValidPath(p) || p == "." || strings.ContainsFunc(p, unicode.IsControl) {
				return unnamed(fmt.Sprintf("the profile makes the impossible path %q of it", p), "fix the profile")
			}
		}
	}
	if pl.Refusal != nil || !l.tooLong(&pl) {
		return pl
	}
	// A name that makes a path too long is cut to the longest that does not.
	best := unnamed(fmt.Sprintf("its path %s would be too long there, however short the name", pl.Items[0].Path),
		"use a target that allows longer paths")
	low, high := 1, naming.Units.Count(pl.Name)
	for low <= high {
		naming.Longest = (low + high) / 2
		pl = l.targetAs(t, rule, naming, "", nil, mark)
		if pl.Refusal == nil && !l.tooLong(&pl) {
			best, low = pl, naming.Longest+1
		} else if pl.Refusal != nil && mark != "" {
			low = naming.Longest + 1 // there is no space for the mark yet
		} else {
			high = naming.Longest - 1
		}
	}
	return best
}

// noRule says why no rule takes a title of a platform that the loader knows.
func (l *layer) noRule(t *title.Title) Placement {
	where := ""
	if l.destination.Attachment != nil {
		where = " here"
	}
	if rule, _ := l.p.Accept(t.Platform, t.Form, l.destination.attachment(), l.destination.Filesystem.Name,
		nil); rule != nil { // its condition does not hold, and none of the others' does
		return refuse(fmt.Sprintf("%s reads %s titles only %s", l.p.Shown, l.destination.Set.PlatformShown(t.Platform),
			rule.When.Words()))
	}
	var elsewhere []string
	for _, a := range l.p.Attachments {
		if rule, _ := l.p.Accept(t.Platform, t.Form, a.Name, "", nil); rule != nil &&
			a.Name != l.destination.attachment() {
			elsewhere = append(elsewhere, "its attachment "+a.Name+" takes it")
		}
	}
	if len(elsewhere) == 0 {
		where = ""
	}
	return refuse(fmt.Sprintf("%s does not read %s titles in the form %s%s", l.p.Shown,
		l.destination.Set.PlatformShown(t.Platform), t.Form, where),
		elsewhere...)
}

// naming is how the rule wants names, narrowed to what the target can hold.
func (l *layer) naming(rule *loader.Accept, t *title.Title) Naming {
	r := &rule.Title
	n := Naming{Longest: r.Longest, Units: loader.Units(r.Count), Permits: l.legal[rule].permits}
	if t.Of > 1 && n.Longest > 0 && !r.Discs.Empty() {
		v := loader.Values{loader.FieldDisc: strconv.Itoa(t.Of), loader.FieldDiscs: strconv.Itoa(t.Of)}
		n.Longest -= n.Units.Count(r.Discs.Fill(&v))
	}
	return n
}

// targetAs fills the rule's templates.
func (l *layer) targetAs(t *title.Title, rule *loader.Accept, naming Naming, held string, alone *Placement,
	mark string) Placement {
	pl := Placement{Rule: rule}
	if alone != nil {
		pl.Name, pl.How = alone.Name, alone.How
	}
	if held != "" {
		if again, _ := naming.Name(held); again == held {
			pl.Name = held
		}
	}
	if pl.Name == "" {
		pl.Name, pl.How = naming.Name(t.Name)
	}
	if pl.Name == "" && rule.Path.Uses(loader.FieldTitle) {
		from := "its ID"
		if pl.Name, _ = naming.Name(t.ID); pl.Name == "" {
			base := path.Base(strings.ReplaceAll(t.Source(), `\`, "/"))
			pl.Name, _ = naming.Name(strings.TrimSuffix(base, path.Ext(base)))
			from = "the name of its file"
		}
		if pl.Name == "" {
			return unnamed(fmt.Sprintf("its name %q has no character that %s allows", t.Name, l.p.Shown),
				"give it another name")
		}
		pl.How = "its name has no character that " + l.p.Shown + " allows, so " + from + " is used instead"
	}
	if mark != "" {
		pl.Name = naming.With(pl.Name, mark)
		if pl.Name == "" {
			return unnamed("its name leaves no space for what distinguishes it from others")
		}
	}
	whole := l.valuesOf(t, &pl)
	for i := range t.Discs {
		v := whole
		l.disc(&v, t, &pl, i)
		if f, missing := lacks(&rule.Path, &v); missing {
			return refuse(fmt.Sprintf("%s needs the %s in the path %s, but the file has none", l.p.Shown, f, rule.Path))
		}
		if say := l.laying(&pl, t, i, rule, &v).items(); say != "" {
			return refuse(say)
		}
	}
	if len(pl.Items) == 0 {
		return refuse("nothing of it is left to copy: the rule keeps none of its files")
	}
	if c := l.without(t, &pl); c != nil {
		return refuse(fmt.Sprintf("its %s is a copy of %s, which is not there", c.Is, c.File),
			"copy the loader's own files there first (Drives, or polytome drives prepare --kit)")
	}
	l.decisive(t, &pl)
	if twice := pl.twice(); twice != "" {
		return unnamed(fmt.Sprintf("two of its files would get the same path %s", twice),
			"give the files different names")
	}
	if rule.OverflowAfter == 0 && !rule.Numbered() {
		return pl
	}
	l.disc(&whole, t, &pl, 0)
	if rule.Numbered() {
		pl.shelf = l.numbered(t, &pl, &whole)
	} else {
		folder, _ := rule.Path.Before(loader.FieldPage, &whole)
		pl.shelf = &shelf{folder: strings.ToUpper(folder), order: strings.ToUpper(pl.Name)}
		pl.shelf.entries = entries(&pl)
	}
	return pl
}

// lacks reports which value the path needs and the title has not.
func lacks(tpl *loader.Template, v *loader.Values) (loader.Field, bool) {
	for _, f := range tpl.Needs() {
		if v[f] == "" {
			return f, true
		}
	}
	return 0, false
}

// twice finds a path that two of the title's own files would get.
func (pl *Placement) twice() string {
	if len(pl.Items) == 1 {
		return ""
	}
	seen := make(map[string]bool, len(pl.Items))
	for i := range pl.Items {
		key := strings.ToUpper(pl.Items[i].Path)
		if seen[key] {
			return pl.Items[i].Path
		}
		seen[key] = true
	}
	return ""
}

// tooLong reports whether a path of the placement is longer than the target takes.
func (l *layer) tooLong(pl *Placement) bool {
	at, fs := l.destination.Attachment, &l.destination.Filesystem
	for i := range pl.Items {
		p := pl.Items[i].Path
		if at != nil && at.LongestPath > 0 && loader.Units(at.Count).Count(p) > at.LongestPath {
			return true
		}
		if len(p) <= fs.LongestName && (at == nil || at.LongestName == 0 || len(p) <= at.LongestName) {
			continue // no name in it can be longer than the whole
		}
		for part := range strings.SplitSeq(p, "/") {
			if fs.Units.Count(part) > fs.LongestName || at != nil && at.LongestName > 0 && loader.Units(at.Count).
				Count(part) > at.LongestName {
				return true
			}
		}
	}
	return false
}

// unnamed is the placement of a title that cannot be given a name that is allowed.
func unnamed(say string, ways ...string) Placement {
	p := refuse(say, ways...)
	p.Refusal.Name = true
	return p
}

func refuse(say string, ways ...string) Placement {
	return Placement{Refusal: &Refusal{Say: say, Ways: ways}}
}

// hold reports whether the target holds all of these names as they are, and distinguishes them.
func (l *layer) hold(names []string) bool {
	seen := make(map[string]string, len(names)) // as folded -> as written
	for _, name := range names {
		for elem := range strings.SplitSeq(name, "/") {
			if l.destination.Filesystem.CheckName(elem) != "" || l.allows(elem) != "" {
				return false
			}
		}
		for at := name; at != "."; at = path.Dir(at) { // folders too: two that differ in letter case are one
			key := l.destination.Filesystem.Fold(at)
			was, known := seen[key]
			if known && (was != at || at == name) {
				return false
			}
			if known {
				break // and so are those above it
			}
			seen[key] = at
		}
	}
	return true
}

func twice(names []string) bool {
	sorted := slices.Sorted(slices.Values(names))
	return len(slices.Compact(sorted)) < len(names)
}

// allows says what an attachment has against a name inside of a title.
func (l *layer) allows(name string) string {
	at := l.destination.Attachment
	if at == nil {
		return ""
	}
	if at.LongestName > 0 && loader.Units(at.Count).Count(name) > at.LongestName {
		return "too long"
	}
	for _, r := range name {
		if strings.ContainsRune(at.Forbidden, r) || len(at.Permitted) > 0 && !at.Permitted.Has(r) {
			return "a character that is not allowed"
		}
	}
	return ""
}

func (p *Placement) add(item Item) {
	p.Items = append(p.Items, item)
	p.claim(item.Path)
}

// claim says that no other title may have a path.
func (p *Placement) claim(path string) {
	if !p.settled {
		p.claims = append(p.claims, strings.ToUpper(path))
	}
}

// cased brings a path into the letter case that the console wants.
func (l *layer) cased(p string) string {
	if l.destination.Attachment != nil {
		return l.destination.Attachment.Cased(p)
	}
	return p
}

// packageName is the name that a file of a package gets; ok is false for one that
// stays behind.
func packageName(p *loader.Package, name string) (as string, ok bool) {
	matches := func(patterns []string) bool {
		for _, pattern := range patterns {
			if loader.MatchFile(pattern, name) {
				return true
			}
		}
		return false
	}
	if (len(p.Keep) > 0 && !matches(p.Keep)) || matches(p.Drop) {
		return "", false
	}
	for _, r := range p.Rename {
		if loader.MatchFile(r.From, name) {
			return r.To, true
		}
	}
	return name, true
}

// entries is how many entries a title that is not on a further page makes in its folder. What lies elsewhere, as parts
// may, makes none there.
func entries(p *Placement) int {
	if len(p.Items) == 1 {
		return 1
	}
	folder := p.shelf.folder[:strings.LastIndex(p.shelf.folder, "/")+1]
	seen := map[string]bool{}
	for i := range p.Items {
		if rest, ok := strings.CutPrefix(strings.ToUpper(p.Items[i].Path), folder); ok {
			name, _, _ := strings.Cut(rest, "/")
			seen[name] = true
		}
	}
	return len(seen)
}

// turn lays a title again for its page or number.
func (l *layer) turn(t *title.Title, p *Placement) {
	whole := l.valuesOf(t, p)
	p.settled = true // names are unique over all pages and numbers, so the first claims stay
	p.Items, p.Refusal = p.Items[:0], nil
	for i := range t.Discs {
		v := whole
		l.disc(&v, t, p, i)
		l.laying(p, t, i, p.Rule, &v).items()
	}
	l.decisive(t, p)
	if p.Rule.Numbered() && l.tooLong(p) {
		p.Refusal = unnamed(fmt.Sprintf("its path %s would be too long there", p.Items[0].Path),
			"give it a shorter name").Refusal
		p.Items = nil
	}
}
