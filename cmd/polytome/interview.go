package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"polytome/internal/core/learn"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
	"polytome/internal/target"
)

// errNoAnswer ends an interview whose answers ran out.
var errNoAnswer = errors.New("the answers ended before the questions; nothing was written")

// talk asks questions, one line each.
type talk struct {
	in  *bufio.Reader
	out io.Writer
	n   int
	err error
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
		line, err := t.in.ReadString('\n')
		answer := strings.TrimSpace(line)
		if err != nil && answer == "" {
			t.err = errNoAnswer
			return ""
		}
		if answer == "" {
			answer = usual
		}
		if accept == nil {
			return answer
		}
		if err := accept(answer); err != nil {
			fmt.Fprintf(t.out, "    %v\n", err)
			continue
		}
		return answer
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

// interview asks what a simple profile needs.
func interview(in *bufio.Reader, out io.Writer, set *loader.Set) (*learn.Draft, error) {
	t := &talk{in: in, out: out}
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
	var names []string
	for _, p := range set.Platforms {
		names = append(names, p.Name)
	}
	platform := learn.Slug(t.ask("Games of which platform? (known: "+strings.Join(names, ", ")+"; or a new name)", "",
		something))
	rule := learn.Rule{Platforms: []string{platform}, Why: "as answered when this profile was written"}
	forms := []title.Form{title.Cartridge} // a new platform is known by the extension of its files
	described := set.Platform(platform)
	if described != nil {
		forms = described.Forms
	}
	var formWords []string
	for _, f := range forms {
		formWords = append(formWords, string(f))
	}
	rule.Form = forms[0]
	if len(forms) > 1 {
		rule.Form = title.Form(t.ask("In which form? ("+strings.Join(formWords, ", ")+")", formWords[0],
			oneOf(formWords...)))
	}
	ext := ""
	if described == nil && t.err == nil {
		fmt.Fprintf(out, "    A new platform: its games are single files known by their extension.\n")
		ext = t.ask("Which extension do its files have?", "", func(s string) error {
			if !strings.HasPrefix(s, ".") || len(s) < 2 || strings.ContainsAny(s, "/ \\") {
				return errors.New("please type an extension with its dot, such as .abc")
			}
			return nil
		})
		d.Platforms = append(d.Platforms, learn.Platform{Name: platform, Shown: platform, Form: rule.Form,
			Ext: strings.ToLower(ext)})
	}
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
	discs := rule.Form == title.Image || rule.Form == title.Tracks
	if own && discs { // all discs lie in the folder of their title
		file += "{if disc} (Disc {disc}){end}"
	}
	switch rule.Form {
	case title.Folder:
	case title.Tracks:
		file += ".cue"
	default:
		file += "{ext}"
	}
	rule.Path = join(rule.Path, file)
	if discs && !own {
		rule.Discs = " (Disc {disc})"
	}
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
	d.About = "plays games of the platform " + platform
	if say := t.ask("What must be done at the console before new games are listed? (empty: nothing)", "",
		nil); say != "" {
		d.Checklist = []string{say}
	}
	return d, t.err
}

func comma(r rune) bool { return r == ',' || r == ' ' }

func join(dir, name string) string {
	if dir == "" {
		return name
	}
	return dir + "/" + name
}
