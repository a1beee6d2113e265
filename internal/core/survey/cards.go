package survey

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/saves"
	"polytome/internal/core/settings"
	"polytome/internal/target"
)

// cardRule is the rule by which title i uses a card that others may use too, and the files in which it is said which,
// one for each disc; nil where the loader knows no such cards for it.
func (s *Survey) cardRule(i int) (r *loader.SaveRule, files []string) {
	l := s.Sheet.Loader(i)
	at := s.attachment(l.Profile)
	for k := range l.Profile.Saves {
		r := &l.Profile.Saves[k]
		if r.Link.Key == "" || !slices.Contains(r.Platforms, s.Titles[i].Platform) || at == nil || !r.Holds(at.Name) {
			continue
		}
		values := l.Tree.Values(i)
		for d := range values {
			if file := at.Cased(r.Link.File.FillPath(&values[d])); !slices.Contains(files, file) {
				files = append(files, file)
			}
		}
		return r, files
	}
	return nil, nil
}

// Cards are the names of the cards on the target that title i can use, and which it uses, "" for one of its own. ok is
// false where the loader knows none for it.
func (s *Survey) Cards(i int) (names []string, uses string, ok bool) {
	r, _ := s.cardRule(i)
	if r == nil {
		return nil, "", false
	}
	for _, x := range s.Saves() {
		if x.Shared {
			if _, is := r.Of(x.Path); is {
				names = append(names, cardName(x.Path))
				if slices.Contains(x.Titles, i) {
					uses = cardName(x.Path)
				}
			}
		}
	}
	return names, uses, true
}

// readLinks finds which titles use which of the cards that are on the target.
func (s *Survey) readLinks(ctx context.Context) {
	s.linked = map[string][]int{}
	if !slices.ContainsFunc(s.savesIn(s.There), func(x saves.Save) bool { return x.Shared }) {
		return
	}
	r := &textReader{s: s}
	defer r.close()
	for i := range s.Titles {
		rule, files := s.cardRule(i)
		if rule == nil || ctx.Err() != nil {
			continue
		}
		for _, file := range files {
			text, _, ok := r.read(ctx, file)
			if name := settings.Text(text, settings.Syntax(rule.Link.Syntax), "", rule.Link.Key); ok && name != "" {
				key := s.Facts.Filesystem.Fold(rule.Card(name))
				if !slices.Contains(s.linked[key], i) {
					s.linked[key] = append(s.linked[key], i)
				}
			}
		}
	}
}

// LinkCard has title i use a card of a name, "" for one of its own. Where that card is not there yet, it begins with
// what the title has reached. What is there is kept first. It returns what was done, in a sentence.
func (s *Survey) LinkCard(ctx context.Context, i int, card string) (say string, err error) {
	rule, files := s.cardRule(i)
	if rule == nil {
		return "", fmt.Errorf("%s knows no cards that several titles share", s.Sheet.Loader(i).Profile.Shown)
	}
	label := s.Titles[i].Label()
	if _, is := rule.Of(rule.Card(card)); card != "" && !is {
		return "", fmt.Errorf("%q is no name for such a card: they are %s", card, rule.Shared)
	}
	to, err := s.Open(ctx)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, to.Close()) }()
	p := s.place()
	p.Target, p.Why = to, "before "+label+" was set to another card"
	if _, _, err := s.keep(ctx, p); err != nil {
		return "", fmt.Errorf("nothing was changed, as the saves cannot be kept: %w", err)
	}
	if card != "" {
		if say, err = s.beginCard(ctx, p, i, rule, rule.Card(card)); err != nil {
			return "", err
		}
	}
	for _, file := range files {
		if err := setCard(ctx, to, rule, file, card); err != nil {
			return "", fmt.Errorf("%s: %w", file, err)
		}
	}
	if card == "" {
		return label + " uses a card of its own.", nil
	}
	return fmt.Sprintf("%s uses the card %s%s.", label, card, say), nil
}

// beginCard makes a card that is not there out of the title's own, or leaves it to the loader to make one.
func (s *Survey) beginCard(ctx context.Context, p saves.Place, i int, rule *loader.SaveRule, card string) (say string,
	err error) {
	if _, err := p.Target.Stat(ctx, card); !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	versions, err := s.vault.Versions()
	if err != nil {
		return "", err
	}
	for _, own := range s.savePaths(i) {
		for k := len(versions) - 1; k >= 0; k-- {
			if v := &versions[k]; v.ID == p.ID && v.Path == own && !v.Folder {
				x := *v
				x.Of, x.Shared = "", true
				_, err := s.vault.Restore(ctx, p, &x, card)
				return ", which was made and begins with what was reached in it", err
			}
		}
	}
	if rule.MadeBy != "" {
		return fmt.Sprintf(", which the %s makes at the next start: nothing was reached yet", rule.MadeBy), nil
	}
	return "", fmt.Errorf("there is no card %s, and %s has none of its own yet to begin it with: play it once", card,
		s.Titles[i].Label())
}

// setCard writes which card a title uses into its settings, and leaves the rest of them.
func setCard(ctx context.Context, to target.Target, rule *loader.SaveRule, file, card string) error {
	text := ""
	switch c, err := to.Open(ctx, file); {
	case errors.Is(err, fs.ErrNotExist) && card == "":
		return nil
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	default:
		if c.Size() > largestText {
			return errors.Join(errors.New("it is too long for a file of settings"), c.Close())
		}
		b, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
		if err = errors.Join(err, c.Close()); err != nil {
			return err
		}
		text = string(b)
	}
	now, err := "", error(nil)
	if syntax := settings.Syntax(rule.Link.Syntax); card == "" {
		now, err = settings.Unset(text, syntax, "", rule.Link.Key)
	} else {
		now, err = settings.Set(text, syntax, "", rule.Link.Key, card)
	}
	if err != nil || now == text {
		return err
	}
	return saves.Write(ctx, to, file, []byte(now))
}

// cardName is how a title's settings name a card.
func cardName(file string) string { return strings.TrimSuffix(path.Base(file), path.Ext(file)) }
