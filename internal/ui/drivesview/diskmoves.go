package drivesview

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/slabdisk"
	"polytome/internal/core/survey"
	"polytome/internal/drives"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

// askAdd adds a title.
func (m *Model) askAdd() tea.Cmd {
	if !m.changeable() {
		return nil
	}
	var offered []string
	for n, p := range m.d.Bench.Targets {
		if n < len(m.d.Targets) && m.d.Targets[n].Survey != nil && m.d.TargetOn(m.subject) != n {
			offered = append(offered, p.Name+": ")
		}
	}
	hint := "an image or archive"
	if len(offered) > 0 {
		hint += "; or a file of another target: " + offered[0] + "its path there"
	}
	m.d.Ask(state.Question{Prompt: "Add which game? ", Hint: hint, Suggestions: offered,
		Done: func(answer string) tea.Cmd {
			if answer = strings.TrimSpace(answer); answer == "" || !m.changeable() {
				return nil
			}
			set := m.d.Set
			for n, p := range m.d.Bench.Targets {
				if file, ok := strings.CutPrefix(answer, p.Name+":"); ok {
					return m.addFrom(n, strings.TrimSpace(file))
				}
			}
			file := state.Expand(answer)
			if !filepath.IsAbs(file) && m.d.Bench.File() != "" {
				file = filepath.Join(filepath.Dir(m.d.Bench.File()), file)
			}
			return m.onDisk("adding "+filepath.Base(file), changes, func(ctx context.Context, d *slabdisk.Disk,
				count func(int64)) (string, error) {
				t, err := d.Add(ctx, set, file, slabdisk.As{}, count)
				return t.Name + " is on the disk, and was read back.", err
			})
		}})
	return nil
}

// addFrom adds a title straight from another target.
func (m *Model) addFrom(n int, file string) tea.Cmd {
	c, set := m.d.Bench.Targets[n], m.d.Set
	at := m.d.Bench.Resolve(c.At)
	p, err := set.Profile(c.Loader)
	if err != nil {
		m.d.Notice = state.Sentence(err.Error())
		return nil
	}
	return m.onDisk("adding "+file, changes, func(ctx context.Context, d *slabdisk.Disk, count func(int64)) (say string,
		err error) {
		from, err := survey.OpenTarget(ctx, at, c, p, false)
		if err != nil {
			return "", err
		}
		t, err := d.AddFrom(ctx, set, from, file, slabdisk.As{}, count)
		return fmt.Sprintf("%s came from %s, and was read back.", t.Name, c.Name), errors.Join(err, from.Close())
	})
}

// askOut writes titles to a folder.
func (m *Model) askOut() tea.Cmd {
	all := m.disk.meant()
	if len(all) == 0 || !m.idle() {
		return nil
	}
	value := ""
	if len(m.d.Bench.Sources) > 0 {
		value = m.d.Bench.Sources[0].Path
	}
	m.d.Ask(state.Question{Prompt: fmt.Sprintf("Write %s to which folder? ", named(all)), Value: value,
		Hint: "each becomes an image there, and its checksum is compared", Done: func(answer string) tea.Cmd {
			dir := state.Expand(strings.TrimSpace(answer))
			if dir == "" || !m.idle() {
				return nil
			}
			if !filepath.IsAbs(dir) && m.d.Bench.File() != "" {
				dir = filepath.Join(filepath.Dir(m.d.Bench.File()), dir)
			}
			return m.onDisk("taking out "+named(all), looks, func(ctx context.Context, d *slabdisk.Disk,
				count func(int64)) (string, error) {
				var failed []error
				wrote := 0
				for _, t := range all {
					if _, err := d.Out(ctx, t.ID, dir, count); err != nil {
						failed = append(failed, err)
					} else {
						wrote++
					}
					if ctx.Err() != nil {
						break
					}
				}
				return fmt.Sprintf("%s written to %s, and compared.", isWas(wrote, "title"), dir),
					errors.Join(failed...)
			})
		}})
	return nil
}

// askName gives a title another name.
func (m *Model) askName() tea.Cmd {
	t := m.disk.under()
	if t == nil || !m.changeable() {
		return nil
	}
	id := t.ID
	m.d.Ask(state.Question{Prompt: "Name of " + id + ": ", Value: t.Name, Hint: "as the console lists it",
		Done: func(answer string) tea.Cmd {
			if answer = strings.TrimSpace(answer); answer == "" || !m.changeable() {
				return nil
			}
			return m.onDisk("renaming", changes, func(_ context.Context, d *slabdisk.Disk, _ func(int64)) (string,
				error) {
				return "", d.Rename(id, answer)
			})
		}})
	return nil
}

// askRemove removes titles when that is confirmed.
func (m *Model) askRemove() tea.Cmd {
	all := m.disk.meant()
	if len(all) == 0 || !m.changeable() {
		return nil
	}
	var bytes int64
	for _, t := range all {
		bytes += t.Size
	}
	m.d.Ask(state.Question{Prompt: fmt.Sprintf("Remove %s (%s) from the disk? Type yes: ", named(all),
		size.Format(bytes)), Hint: "o takes them out first, if they are nowhere else", Suggestions: []string{"yes"},
		Done: func(answer string) tea.Cmd {
			if !strings.EqualFold(strings.TrimSpace(answer), "yes") || !m.changeable() {
				m.d.Notice = "Nothing was removed."
				return nil
			}
			return m.onDisk("removing "+named(all), changes, func(_ context.Context, d *slabdisk.Disk, _ func(int64)) (
				string,
				error) {
				var failed []error
				d.Hold()
				for _, t := range all {
					failed = append(failed, d.Remove(t.ID))
				}
				return isWas(len(all), "title") + " removed.", errors.Join(append(failed, d.Settle())...)
			})
		}})
	return nil
}

// askCompact asks whether titles shall be moved together.
func (m *Model) askCompact() tea.Cmd {
	if m.changeable() {
		m.d.Agree("Bring every title and the free space into one piece?", "it can be stopped at any moment", m.compact)
	}
	return nil
}

// compact moves titles together. It may be stopped at any moment.
func (m *Model) compact() tea.Cmd {
	if !m.changeable() {
		return nil
	}
	return m.onDisk("moving titles together", changes, func(ctx context.Context, d *slabdisk.Disk, count func(int64)) (
		string, error) {
		n, err := d.Compact(ctx, count)
		if n == 0 && err == nil {
			return "Every title and the free space are in one piece already.", nil
		}
		return isWas(n, "title") + " moved.", err
	})
}

// askClone copies the disk to another drive.
func (m *Model) askClone() tea.Cmd {
	if !m.idle() {
		return nil
	}
	var others []string
	for _, f := range m.d.Drives {
		if f.Path != m.subject.Path && f.Refusal() == nil {
			others = append(others, f.Name())
		}
	}
	m.d.Ask(state.Question{Prompt: "Copy the disk to which drive? ", Suggestions: others,
		Hint: strings.Join(append(slices.Clone(others), "or a new image with its size:  larger.img 2TB"), ", "),
		Done: m.cloneTo})
	return nil
}

func (m *Model) cloneTo(answer string) tea.Cmd {
	answer = strings.TrimSpace(answer)
	if answer == "" || !m.idle() {
		return nil
	}
	for i := range m.d.Drives {
		if f := &m.d.Drives[i]; f.Path != m.subject.Path && (strings.EqualFold(f.Name(), answer) || f.Path == answer) {
			return m.askCloneConsent(f)
		}
	}
	name, n, err := m.newImage(answer)
	if err == nil && n == 0 {
		err = fmt.Errorf("there is no drive %s; add a size to create an image: %s 2TB", answer, filepath.Base(name))
	}
	if err != nil {
		m.d.Notice = state.Sentence(err.Error())
		return nil
	}
	sys := m.d.System
	m.d.Images = append(m.d.Images, name)
	return m.clone(filepath.Base(name), func(ctx context.Context, d *slabdisk.Disk, count func(int64)) error {
		if err := drives.MakeImage(name, n); err != nil {
			return err
		}
		to, err := sys.Look(ctx, name)
		if err == nil {
			err = d.Clone(ctx, sys, to, drives.Consent{Typed: to.Name()}, count)
		}
		if err != nil { // an image without all of it is what no one asked for
			err = errors.Join(err, os.Remove(name))
		}
		return err
	})
}

// askCloneConsent wants the name of the drive typed of which everything will be lost.
func (m *Model) askCloneConsent(f *state.Found) tea.Cmd {
	if r := f.Refusal(); r != nil {
		m.d.Notice = "It cannot be written to: " + r.Say + "."
		return nil
	}
	var loses []string
	for i, v := range f.Volumes {
		loses = append(loses, volumeWords(&v)+" with "+f.Contents[i].Words())
	}
	hint := "no games or files were recognized on it"
	if len(loses) > 0 {
		hint = "this will be lost: " + strings.Join(loses, "; ")
	}
	to := f.Drive
	return func() tea.Msg { // after the question that led here
		return state.AskMsg{Question: state.Question{Prompt: "Everything on it will be erased. Type " + to.Name() +
			" to continue: ", Hint: hint, Done: func(answer string) tea.Cmd {
			if err := to.Agreed(drives.Consent{Typed: answer, Fixed: true}); err != nil || to.Fixed() {
				m.d.Notice = "That is not the drive's name. Nothing was changed."
				if to.Fixed() {
					m.d.Notice = "It is built into this computer: polytome slab clone --fixed-disk does that."
				}
				return nil
			}
			sys := m.d.System
			return m.clone(to.Name(), func(ctx context.Context, d *slabdisk.Disk, count func(int64)) error {
				return d.Clone(ctx, sys, to, drives.Consent{Typed: answer}, count)
			})
		}}}
	}
}

// clone has the disk be copied to a drive of that name.
func (m *Model) clone(to string, do func(ctx context.Context, d *slabdisk.Disk, count func(int64)) error) tea.Cmd {
	return m.onDisk("copying the disk to "+to, changesAnother, func(ctx context.Context, d *slabdisk.Disk,
		count func(int64)) (
		string, error) {
		return to + " is a copy of the disk, and every title was compared.", do(ctx, d, count)
	})
}
