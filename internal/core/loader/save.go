package loader

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
)

// A SaveRule says where what a player has reached lies on a target. It belongs to the player: nothing that the program
// does loses it.
type SaveRule struct {
	Platforms []string `toml:"platforms"`
	On        []string `toml:"on"` // names of attachments; empty for all
	// Path is that of the save of one title, or of its folder; Beside the ending of a file that lies beside the title's
	// own and has its name; Shared a pattern of files that several titles may use. One of them is given.
	Path   Template `toml:"path"`
	Beside string   `toml:"beside"`
	Shared string   `toml:"shared"`
	Folder bool     `toml:"folder"` // the path is a folder, with any files in it
	Size   Size     `toml:"size"`   // of each file, where it is always the same; 0 for any
	MadeBy string   `toml:"made-by"`
	// Link is the setting by which a title uses one of the shared files.
	Link SaveLink `toml:"link"`
	Why  string   `toml:"why"`
}

// A SaveLink is a setting that holds the name of a shared save, without its ending.
type SaveLink struct {
	File   Template `toml:"file"` // with the settings of a title
	Syntax string   `toml:"syntax"`
	Key    string   `toml:"key"`
}

var makerWords = []string{"loader", "console"}

func (c *checker) save(key string, r *SaveRule) {
	given := 0
	for _, is := range []bool{!r.Path.Empty(), r.Beside != "", r.Shared != ""} {
		if is {
			given++
		}
	}
	c.known(given == 1, key, "a [[save]] has one of path, beside and shared")
	c.known(len(r.Platforms) > 0, key, "a [[save]] must say of which platforms, in the key platforms")
	c.each(key+".on", "attachment", r.On, c.attachments())
	c.fields(key+".path", r.Path, pathFields)
	c.known(r.Beside == "" || strings.HasPrefix(r.Beside, ".") && !strings.Contains(r.Beside, "/"), key+".beside",
		"%q is no ending: write one such as .hold", r.Beside)
	if r.Shared != "" {
		c.inside(key+".shared", r.Shared)
		c.pattern(key+".shared", r.Shared)
	}
	c.known(r.Size >= 0, key+".size", "a size cannot be negative")
	c.known(!r.Folder || !r.Path.Empty(), key+".folder", "only a path can be that of a folder")
	c.maybe(key+".made-by", "maker", r.MadeBy, makerWords)
	if r.Link.Key != "" {
		c.fields(key+".link.file", r.Link.File, companionFields)
		c.oneOf(key+".link.syntax", "syntax", r.Link.Syntax, syntaxWords)
		c.known(r.Shared != "", key+".link", "only shared saves are linked to titles")
	}
}

// Holds reports whether the rule applies at an attachment; "" for any.
func (r *SaveRule) Holds(attachment string) bool {
	return attachment == "" || len(r.On) == 0 || slices.Contains(r.On, attachment)
}

func (r *SaveRule) sentence() string {
	var b strings.Builder
	fmt.Fprintf(&b, "Saves of %s", games(r.Platforms, nil))
	if len(r.On) > 0 {
		fmt.Fprintf(&b, ", on the %s", all(r.On, "or"))
	}
	switch {
	case r.Shared != "":
		fmt.Fprintf(&b, ": %s, each for any number of titles", r.Shared)
		if r.Link.Key != "" {
			fmt.Fprintf(&b, "; a title uses one by the setting %s in %s", r.Link.Key, r.Link.File)
		}
	case r.Beside != "":
		fmt.Fprintf(&b, ": beside the title's file, with its name and the ending %s", r.Beside)
	case r.Folder:
		fmt.Fprintf(&b, ": the folder %s", r.Path)
	default:
		fmt.Fprintf(&b, ": %s", r.Path)
	}
	if r.Size > 0 {
		fmt.Fprintf(&b, ", %s each", amount(int64(r.Size)))
	}
	if r.MadeBy != "" {
		fmt.Fprintf(&b, ", made by the %s", r.MadeBy)
	}
	if r.Why != "" {
		b.WriteString(": " + r.Why)
	}
	return sentence(b.String())
}

// For is where the loader looks for the save of a title of a platform, or of one disc of it, by its fields as they are
// on the target; "" where the rule is not about it, or the title lacks what its path is made of.
func (r *SaveRule) For(platform string, v *Values) string {
	if r.Shared != "" || !slices.Contains(r.Platforms, platform) {
		return ""
	}
	if r.Beside != "" {
		if v[FieldFile] == "" {
			return ""
		}
		return path.Join(v[FieldFolder], v[FieldBase]+r.Beside)
	}
	for _, f := range []Field{FieldID, FieldTitle, FieldName, FieldBase} {
		if r.Path.Uses(f) && v[f] == "" {
			return ""
		}
	}
	return r.Path.FillPath(v)
}

// Card is the path of the shared save that the link's setting names.
func (r *SaveRule) Card(name string) string {
	return path.Join(path.Dir(r.Shared), name+path.Ext(r.Shared))
}

// Of reports whether a path is that of a save of the rule, and of which title: its ID where the path has it, else its
// name; "" for one that is shared.
func (r *SaveRule) Of(file string) (of string, ok bool) {
	switch {
	case r.Shared != "":
		dir, name := path.Split(r.Shared)
		d, n := path.Split(file)
		return "", strings.EqualFold(d, dir) && MatchFile(strings.ToLower(name), strings.ToLower(n))
	case r.Beside != "":
		ext := path.Ext(file)
		return strings.TrimSuffix(path.Base(file), ext), strings.EqualFold(ext, r.Beside)
	}
	v, ok := r.Path.Match(file)
	return cmp.Or(v[FieldID], v[FieldTitle], v[FieldName]), ok
}
