package state

import (
	"os"
	"path/filepath"
	"slices"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/target/folder"
)

// AskSource asks for a further folder with games.
func (d *State) AskSource() {
	d.Ask(Question{Prompt: "Where are more of your games? ", Hint: "a folder on this computer; it is only read",
		Paths: true, Done: d.addSource})
}

func (d *State) addSource(answer string) tea.Cmd {
	if answer == "" || d.busy() {
		return nil
	}
	path, err := Folder(answer)
	if err != nil {
		d.Notice = Sentence(err.Error())
		return nil
	}
	if slices.Contains(d.Bench.SourcePaths(), path) {
		d.Notice = path + " is searched already."
		return nil
	}
	return d.Fix("Games are looked for in "+path+" too.", func() {
		d.Bench.Sources = append(slices.Clone(d.Bench.Sources), bench.Source{Path: path})
	})
}

// AskSourceLess asks which folder is not to be searched any longer.
func (d *State) AskSourceLess() {
	all := d.Bench.SourcePaths()
	if len(all) == 0 {
		d.Notice = "No folder is searched yet: a adds one."
		return
	}
	d.Ask(Question{Prompt: "Which folder is not to be searched any longer? ", Suggestions: all, Value: all[len(all)-1],
		Hint: "its files stay where they are", Done: func(answer string) tea.Cmd {
			i := slices.Index(all, answer)
			if i < 0 || d.busy() {
				d.Notice = "That is none of the folders that are searched."
				return nil
			}
			return d.Fix(answer+" is not searched any longer.", func() {
				d.Bench.Sources = slices.Delete(slices.Clone(d.Bench.Sources), i, i+1)
			})
		}})
}

// Folder is the folder that somebody typed, as an absolute path.
func Folder(typed string) (string, error) {
	path, err := filepath.Abs(Expand(typed))
	if err != nil {
		return "", err
	}
	f, err := folder.Open(path, folder.Options{})
	if err != nil {
		return "", err
	}
	return path, f.Close()
}

// Completions are the paths that complete what was typed of one.
func Completions(typed string) (out []string) {
	dir, _ := filepath.Split(typed)
	at := Expand(dir)
	if at == "" {
		at = "."
	}
	entries, err := os.ReadDir(at)
	if err != nil || len(entries) > mostCompletions {
		return nil
	}
	for _, e := range entries {
		if e.IsDir() && e.Name()[0] != '.' {
			out = append(out, dir+e.Name()+string(filepath.Separator))
		}
	}
	return out
}

// mostCompletions is the size of the largest folder of which entries are offered.
const mostCompletions = 2000
