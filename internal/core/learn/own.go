package learn

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"polytome/internal/core/loader"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// kit takes what no title explains for the loader's own, where it may be; the rest is asked for.
func (s *student) kit() {
	var unknown []string
	for _, e := range s.unexplained() {
		if len(s.d.Rules) == 0 || slices.Contains(seldom, strings.ToLower(path.Ext(e.Path))) || e.Size > largestKit ||
			remarks.MatchString(path.Base(e.Path)) || s.gameLike(e.Path) || s.named(e.Path) ||
			!strings.Contains(e.Path, "/") && strings.EqualFold(path.Ext(e.Path), ".txt") {
			unknown = append(unknown, e.Path)
			continue
		}
		s.used[e.Path] = Own
		f := KitFile{Path: e.Path, Why: "it lies on the target, and belongs to no title"}
		if b, ok := s.read(e.Path); ok && len(b) > 0 && len(b) <= longestKitText {
			if as, text := teach.EncodingOf([][]byte{b}); text && as == "" {
				f.Text = string(b)
			}
		}
		s.d.Kit = append(s.d.Kit, f)
	}
	if n := len(s.d.Kit); n > 0 {
		s.find(Guess, fmt.Sprintf("%s may be the loader's own, such as %s", size.Count(n, "file"), s.d.Kit[0].Path),
			"no title explains them")
	}
	s.strangers(unknown)
}

// named reports whether a file has the name or ID of a title: it is that one's, whatever it is for.
func (s *student) named(file string) bool {
	base := bare(strings.TrimSuffix(path.Base(file), path.Ext(file)))
	return slices.ContainsFunc(append(slices.Clone(s.all), s.split...), func(x *sample) bool {
		return base == bare(x.t.Name) || base == bare(x.values[loader.FieldID])
	})
}

// gameLike reports whether a file is named as games are.
func (s *student) gameLike(file string) bool {
	ext := strings.ToLower(path.Ext(file))
	return ext != "" && slices.ContainsFunc(s.d.Rules, func(r Rule) bool {
		return slices.ContainsFunc(r.Platforms, func(name string) bool {
			p := s.set.Platform(name)
			return p != nil && (slices.Contains(p.Extensions, ext) || slices.Contains(p.Packages, ext))
		})
	})
}

// Kinds of files that are seldom a loader's own, and how long its files are at most.
var seldom = []string{".jpg", ".jpeg", ".mp3", ".mp4", ".mov", ".doc", ".pdf", ".zip", ".exe"}

// remarks are what people write for themselves.
var remarks = regexp.MustCompile(`(?i)^(read.?me|notes?|todo|about)(\.(txt|rtf|html?))?$|\.(md|bak|old|log)$`)

const (
	largestKit     = 64 << 20
	longestKitText = 4 << 10
)

// strangers asks what files are for that nothing explains: all at once, and each by itself once one was answered.
func (s *student) strangers(unknown []string) {
	var left []string
	for _, p := range unknown {
		if answer, ok := s.look.Answers.To("file " + p); ok && answer == "keep" {
			s.used[p] = Own
			s.d.Kit = append(s.d.Kit, KitFile{Path: p, Why: "as answered when this profile was learnt"})
		} else {
			left = append(left, p)
		}
	}
	if len(left) == 0 {
		return
	}
	shown := left[:min(len(left), 5)]
	s.ask(Question{Key: "strangers", Usual: Ignored, Choices: []string{Ignored}, Path: left[0],
		Say: fmt.Sprintf("what are these for? %s (%s in all)", strings.Join(shown, ", "),
			size.Count(len(left), "file"))},
		nil)
}

// rest asks what no target can answer.
func (s *student) rest() {
	s.ask(Question{Key: "names", Usual: s.d.Shown, Say: "what are the names of the loader and the console?"},
		func(names string) error {
			shown, console, _ := strings.Cut(names, ",")
			if shown = strings.TrimSpace(shown); shown == "" {
				return errors.New("give the loader's name, a comma, and the console's")
			}
			s.d.Name, s.d.Shown, s.d.Console = Slug(shown), shown, strings.TrimSpace(console)
			return nil
		})
	s.discs()
	s.confirm()
	s.ask(Question{Key: "at the console", Say: "what must be done at the console before new games are listed?"},
		func(say string) error {
			if say != "" {
				s.d.Checklist = append(s.d.Checklist, strings.TrimSuffix(say, "."))
			}
			return nil
		})
	i := slices.IndexFunc(s.d.Rules, func(r Rule) bool { return r.PartSize == 0 && r.Form == title.Image })
	if i < 0 {
		return
	}
	s.ask(Question{Key: "too large", Usual: "nothing",
		Say: "what happens to an image that is too large for the volume? " +
			"(the size of its parts, such as 2GiB, or nothing)"}, func(part string) error {
		if part == "nothing" {
			return nil
		}
		n, err := size.Parse(part)
		if err != nil {
			return err
		}
		for i := range s.d.Rules {
			if r := &s.d.Rules[i]; r.PartSize == 0 && r.Form == title.Image {
				r.PartSize, r.Parts = n, strings.TrimSuffix(r.Path, "{ext}")+".{index|pad:3}"
			}
		}
		return nil
	})
}

// confirm asks about IDs and names that the draft needs, and that were found but may be something else.
func (s *student) confirm() {
	text := s.d.TOML()
	for _, p := range s.d.Taught {
		s.missing(p)
		for name, needs := range map[string]string{"id": "{id", "name": "{title"} {
			f, ok := p.Fields[name]
			if !ok || f.Sure || f.Plain || f.Reading.FileName || !strings.Contains(text, needs) {
				continue
			}
			s.ask(Question{Key: name + " " + p.Name, Usual: Yes, Path: p.Such, Say: fmt.Sprintf(
				"is %s the %s of %s? It was found %s", f.Example, fieldWords[name], p.Such, f.Evidence)},
				func(answer string) error {
					if answer != Yes && answer != NoField && !strings.Contains(answer, ": ") {
						return fmt.Errorf("answer %s, %s, or a game's path, a colon, and its %s", Yes, NoField,
							fieldWords[name])
					}
					return nil
				})
		}
	}
}

// missing asks where the ID and name of a platform stand that were not found, where not all of its games are placed by
// a rule without them.
func (s *student) missing(p *teach.Platform) {
	if !s.astray(p.Name) {
		return
	}
	for _, name := range []string{"id", "name"} {
		key := name + " " + p.Name
		if _, ok := p.Fields[name]; ok {
			continue
		}
		if _, said := s.look.Answers.To(key); !said { // that there is none
			s.ask(Question{Key: key, Say: fmt.Sprintf("where does the %s stand in %s games?", fieldWords[name],
				p.Shown),
				Path: p.Such}, nil)
		}
	}
}

// astray reports whether no rule places some games of a platform, but for a guess.
func (s *student) astray(platform string) bool {
	sure := map[string]bool{}
	for _, f := range s.d.Findings {
		sure[f.Rule] = sure[f.Rule] || f.Rule != "" && f.Confidence != Guess
	}
	for _, x := range slices.Concat(s.all, s.split) {
		if x.t.Platform == platform && !sure[s.by[x.where()]] {
			return true
		}
	}
	return len(s.all)+len(s.split) == 0 // of games alone
}

func (s *student) takeFilesystems(names string) error {
	all := strings.FieldsFunc(names, func(r rune) bool { return r == ',' || r == ' ' })
	for _, name := range all {
		if _, err := target.FilesystemNamed(name); err != nil && name != "any" {
			return err
		}
	}
	if len(all) == 0 {
		return errors.New("give their names, with commas between, or any")
	}
	s.d.Filesystems = all
	return nil
}
