package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/teach"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// errNoAnswer ends an interview whose answers ran out, or that was interrupted.
var errNoAnswer = errors.New("the answers ended before the questions")

// talk asks questions, one line each.
type talk struct {
	ctx  context.Context
	in   *bufio.Reader
	out  io.Writer
	n    int
	err  error
	kept []string // answers of an interview that was interrupted, which are taken first
	said []string // what was answered so far
}

// ask puts a question until its answer is accepted. An empty answer is the usual one.
func (t *talk) ask(question, usual string, accept func(string) error) string {
	if t.err != nil {
		return ""
	}
	t.n++
	for {
		fmt.Fprintf(t.out, "%2d. %s", t.n, question)
		if usual != "" {
			fmt.Fprintf(t.out, " [%s]", usual)
		}
		fmt.Fprint(t.out, " ")
		answer, ok := t.line()
		if !ok {
			t.err = errNoAnswer
			return ""
		}
		given := answer
		if answer == "" {
			answer = usual
		}
		if accept != nil {
			if err := accept(answer); err != nil {
				fmt.Fprintf(t.out, "    %v\n", err)
				continue
			}
		}
		t.said = append(t.said, given)
		return answer
	}
}

// line is the next answer; ok is false where there is none, or where somebody interrupts.
func (t *talk) line() (answer string, ok bool) {
	if len(t.kept) > 0 {
		answer, t.kept = t.kept[0], t.kept[1:]
		fmt.Fprintln(t.out, answer)
		return answer, true
	}
	type got struct {
		line string
		err  error
	}
	c := make(chan got, 1)
	go func() { // a line that nobody writes is not waited for when the program is to end
		line, err := t.in.ReadString('\n')
		c <- got{line, err}
	}()
	var done <-chan struct{}
	if t.ctx != nil {
		done = t.ctx.Done()
	}
	select {
	case <-done:
		return "", false
	case g := <-c:
		answer = strings.TrimSpace(g.line)
		return answer, g.err == nil || answer != ""
	}
}

func oneOf(words ...string) func(string) error {
	return func(s string) error {
		if slices.Contains(words, s) {
			return nil
		}
		return fmt.Errorf("please answer one of: %s", strings.Join(words, ", "))
	}
}

func something(s string) error {
	if s == "" {
		return errors.New("please type something")
	}
	return nil
}

func (t *talk) yes(question string, usual bool) bool {
	word := "no"
	if usual {
		word = "yes"
	}
	return t.ask(question+" (yes or no)", word, oneOf("yes", "no")) == "yes"
}

// interview asks what a simple profile needs. It returns the folder of games that it may be tried with too, "" for
// none.
func (t *talk) interview(set *loader.Set) (*learn.Draft, string, error) {
	out := t.out
	fmt.Fprintln(out, "A dozen questions; an empty answer takes the value in brackets.")
	d := &learn.Draft{Case: "ignored"}
	d.Shown = t.ask("What is the loader's name?", "", something)
	d.Name = learn.Slug(d.Shown)
	d.Console = t.ask("Which console does it run on?", "", something)
	d.Via = t.ask("How do games get to it? ("+strings.Join(loader.Connections, ", ")+")", "usb",
		oneOf(loader.Connections...))
	usual := "any"
	if d.Via == "usb" {
		usual = "fat32"
	}
	words := append(target.FilesystemNames(), "any", "own")
	d.Filesystems = strings.FieldsFunc(t.ask("Which filesystems does it read there? ("+strings.Join(words,
		", ")+"; several with commas)", usual, func(s string) error {
		for _, f := range strings.FieldsFunc(s, comma) {
			if err := oneOf(words...)(f); err != nil {
				return err
			}
		}
		return nil
	}), comma)
	d.Label = t.ask("Does the volume need a certain label? (empty: no)", "", func(s string) error {
		if len([]rune(s)) > 11 {
			return errors.New("a label has at most 11 characters")
		}
		return nil
	})
	games := t.ask("Where are some of its games? (a folder; empty: none here)", "", func(dir string) error {
		if info, err := os.Stat(dir); dir != "" && (err != nil || !info.IsDir()) {
			return fmt.Errorf("%s is no folder", dir)
		}
		return nil
	})
	rule := t.platform(d, set, games)
	inside := func(s string) error {
		_, err := loader.ParseTemplate(s)
		return err
	}
	folder := strings.Trim(t.ask("In which folder are the games? (such as GAMES; empty: the root)", "", inside), "/")
	rule.Path = folder
	own := rule.Form != title.Folder && t.yes("Does each title have a folder of its own there?", false)
	if own {
		rule.Path = join(rule.Path, "{title}")
	}
	file := t.ask("How are the files named? (with the fields {id}, {title}, {region}; without the extension)",
		"{title}", func(s string) error {
			if err := inside(s); err != nil {
				return err
			}
			if !strings.Contains(s, "{id") && !strings.Contains(s, "{title") {
				return errors.New("it needs {title} or {id}, so that titles differ")
			}
			return nil
		})
	apart := t.discs(&rule)
	if own && apart != "" { // all discs lie in the folder of their title
		file += "{if disc}" + apart + "{end}"
	}
	switch rule.Form {
	case title.Folder:
	case title.Tracks:
		file += ".cue"
	default:
		file += "{ext}"
	}
	rule.Path = join(rule.Path, file)
	if !own {
		rule.Discs = apart
	}
	t.tracks(&rule)
	longest := t.ask("How many characters may a title have? (empty: no limit)", "", func(s string) error {
		if n, err := strconv.Atoi(s); s != "" && (err != nil || n < 1) {
			return errors.New("please type a number, or nothing")
		}
		return nil
	})
	rule.Longest, _ = strconv.Atoi(longest)
	if rule.Discs != "" && rule.Longest > 0 && rule.Longest <= len(rule.Discs) {
		rule.Discs = ""
	}
	rule.ASCII = t.yes("Only in plain ASCII?", false)
	part := t.ask("Are large files split into parts? (the size of a part, such as 2GiB; empty: no)", "",
		func(s string) error {
			if s == "" {
				return nil
			}
			_, err := size.Parse(s)
			return err
		})
	if part != "" {
		rule.PartSize, _ = size.Parse(part)
		rule.Parts = strings.TrimSuffix(rule.Path, "{ext}") + ".{index|pad:3}"
	}
	d.Rules = []learn.Rule{rule}
	d.About = "plays games of the platform " + rule.Platforms[0]
	if say := t.ask("What must be done at the console before new games are listed? (empty: nothing)", "",
		nil); say != "" {
		d.Checklist = []string{say}
	}
	try := t.ask("Try it on which games? (a folder; empty: not now)", games, nil)
	return d, try, t.err
}

// platform asks of which platform the games are. One that nobody has described is worked out from games, or known by an
// extension.
func (t *talk) platform(d *learn.Draft, set *loader.Set, games string) learn.Rule {
	rule := learn.Rule{Why: "as answered when this profile was written"}
	if games != "" {
		if taught := t.taught(set, games); taught != nil {
			d.Taught = append(d.Taught, taught)
			rule.Platforms, rule.Form = []string{taught.Name}, taught.Form
			return rule
		}
	}
	var names []string
	for _, p := range set.Platforms {
		names = append(names, p.Name)
	}
	platform := learn.Slug(t.ask("Games of which platform? (known: "+strings.Join(names, ", ")+"; or a new name)", "",
		something))
	rule.Platforms = []string{platform}
	forms := []title.Form{title.Cartridge, title.Image, title.Tracks}
	described := set.Platform(platform)
	if described != nil {
		forms = described.Forms
	}
	var words []string
	for _, f := range forms {
		words = append(words, string(f))
	}
	rule.Form = forms[0]
	if len(forms) > 1 {
		rule.Form = title.Form(t.ask("In which form? ("+strings.Join(words, ", ")+")", words[0], oneOf(words...)))
	}
	if described != nil || t.err != nil {
		return rule
	}
	ext := ".cue"
	if rule.Form != title.Tracks {
		fmt.Fprintf(t.out, "    A new platform: its games are single files known by their extension.\n")
		ext = t.ask("Which extension do its files have?", "", func(s string) error {
			if !strings.HasPrefix(s, ".") || len(s) < 2 || strings.ContainsAny(s, "/ \\") {
				return errors.New("please type an extension with its dot, such as .abc")
			}
			return nil
		})
	}
	d.Platforms = append(d.Platforms, learn.Platform{Name: platform, Shown: platform, Form: rule.Form,
		Ext: strings.ToLower(ext)})
	return rule
}

// taught works out the platform of games that nobody has described, shows what it read, and asks whether it is right;
// nil where there is none.
func (t *talk) taught(set *loader.Set, games string) *teach.Platform {
	from := learn.Sources{Games: []string{games}}
	d, err := learn.Platforms(t.ctx, set, from)
	if err != nil {
		fmt.Fprintf(t.out, "    %v.\n", err)
		return nil
	}
	p := d.Taught[0]
	fmt.Fprintf(t.out, "    %s are alike, such as %s.\n", size.Count(p.Games, "game"), p.Such)
	for _, name := range loader.FieldNames {
		f, ok := p.Fields[name]
		if !ok {
			continue
		}
		answer := t.ask(fmt.Sprintf("Is %q the %s of %s? It is found %s. (yes, no, or what it is)", f.Example, name,
			p.Such,
			f.Evidence), "yes", nil)
		switch answer {
		case "yes":
			from.Answers = append(from.Answers, learn.Answer{Key: name + " " + p.Name, Answer: learn.Yes})
		case "no":
			from.Answers = append(from.Answers, learn.Answer{Key: name + " " + p.Name, Answer: learn.NoField})
		default:
			from.Answers = append(from.Answers, learn.Answer{Key: name + " " + p.Name, Answer: p.Such + ": " + answer})
		}
	}
	if d, err = learn.Platforms(t.ctx, set, from); err != nil {
		fmt.Fprintf(t.out, "    %v.\n", err)
		return nil
	}
	return d.Taught[0]
}

// discs asks what distinguishes the discs of one title; "" where titles have one.
func (t *talk) discs(r *learn.Rule) string {
	if r.Form != title.Image && r.Form != title.Tracks {
		return ""
	}
	apart := t.ask("What distinguishes the discs of one title? (with {disc}; none: no title has several)",
		"(Disc {disc})",
		func(s string) error {
			if s != "none" && !strings.Contains(s, "{disc") {
				return errors.New("it needs {disc}, such as (Disc {disc})")
			}
			_, err := loader.ParseTemplate(s)
			return err
		})
	if apart == "none" || apart == "" {
		return ""
	}
	return " " + apart
}

// tracks asks how the track files beside a cue sheet are named.
func (t *talk) tracks(r *learn.Rule) {
	if r.Form != title.Tracks {
		return
	}
	usual := strings.TrimSuffix(r.Path, ".cue") + " (Track {index|pad:2}).bin"
	names := t.ask("How are the tracks of a disc named? ({index} is their number; as they are: they keep their names)",
		usual,
		func(s string) error {
			if s != "as they are" && !strings.Contains(s, "{index") {
				return errors.New("it needs {index}, the number of the track")
			}
			_, err := loader.ParseTemplate(s)
			return err
		})
	if names != "as they are" {
		r.Tracks = names
	}
}

func comma(r rune) bool { return r == ',' || r == ' ' }

func join(dir, name string) string {
	if dir == "" {
		return name
	}
	return dir + "/" + name
}
