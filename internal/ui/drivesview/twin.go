package drivesview

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/run"
	"polytome/internal/core/survey"
	"polytome/internal/core/twin"
	"polytome/internal/size"
	"polytome/internal/target"
	"polytome/internal/ui/state"
)

// askTwin asks which stick is to become like the volume that is shown.
func (m *Model) askTwin() tea.Cmd {
	f, v := m.current(), m.volume()
	if f == nil || v == nil || !m.idle() {
		return nil
	}
	from := m.d.Bench.Resolve(m.d.AddressOf(f.Drive, v))
	if len(v.MountedAt) > 0 { // it is in use, and read where it is mounted
		from = v.MountedAt[0]
	}
	name := f.Name()
	if v.Label != "" {
		name = v.Label
	}
	m.d.Ask(state.Question{Prompt: "Make a stick like " + name + ": ", Suggestions: m.d.Mounted(),
		Hint: "where that is: a mounted stick, a folder or an image; nothing is written yet",
		Done: func(answer string) tea.Cmd {
			to, _, err := state.Address(answer)
			if err == nil && to == from {
				err = errors.New("that is the stick itself")
			}
			if err != nil {
				m.d.Notice = state.Sentence(err.Error())
				return nil
			}
			return m.compare(name, from, m.d.Bench.Resolve(to))
		}})
	return nil
}

func opened(ctx context.Context, at string) (target.Target, error) {
	return survey.OpenTarget(ctx, at, bench.Target{Name: at, At: at}, nil, false)
}

// compare looks at both, and asks whether what is missing shall be copied.
func (m *Model) compare(name, from, to string) tea.Cmd {
	set, store := m.d.Set, m.d.Ledger
	return m.do("comparing "+name+" with "+to, func(ctx context.Context) doneMsg {
		var t *twin.Twin
		saved := true
		err := withBoth(ctx, from, to, func(a, b target.Target) (err error) {
			t, err = twin.Make(ctx, a, b, twin.Options{Stay: func(f target.Facts, all []target.Entry) (stay []string) {
				stay, saved = survey.SavesThere(set, store, "", f, all)
				saved = saved || len(all) == 0
				return stay
			}})
			return err
		})
		if err != nil {
			return doneMsg{err: err}
		}
		return doneMsg{then: func(m *Model) tea.Cmd { return m.askCopy(name, from, to, t, saved) }}
	})
}

func withBoth(ctx context.Context, from, to string, do func(a, b target.Target) error) error {
	a, err := opened(ctx, from)
	if err != nil {
		return err
	}
	defer a.Close()
	b, err := opened(ctx, to)
	if err != nil {
		return err
	}
	return errors.Join(do(a, b), b.Close())
}

// askCopy says what would be copied. Where files would be replaced, the name of the stick has to be written.
func (m *Model) askCopy(name, from, to string, t *twin.Twin, saved bool) tea.Cmd {
	if t.Plan.Empty() {
		m.d.Notice = fmt.Sprintf("%s has all that is on %s: %s are alike.", to, name, size.Count(t.Alike, "file"))
		return nil
	}
	hint := size.Count(t.Alike, "file") + " there already"
	if t.Alike == 0 {
		hint = "nothing of it is there yet"
	}
	if n := len(t.Left); n > 0 {
		hint = fmt.Sprintf("%s left out, such as %s: %s", size.Count(n, "file"), t.Left[0].Path, t.Left[0].Why)
	} else if !saved {
		hint = "which loader reads it is not known, so saves on it are files like all others"
	}
	do := func() tea.Cmd { return m.copy(name, from, to, t) }
	loses := t.Plan.Loses()
	ask := state.Question{Prompt: fmt.Sprintf("%s Copy to %s?", state.Sentence(t.Plan.Say()), to), Hint: hint,
		Agree: true, Done: func(string) tea.Cmd { return do() }}
	if loses > 0 {
		word := filepath.Base(to)
		ask = state.Question{Prompt: fmt.Sprintf("%s on %s would be replaced. Type %s to confirm: ",
			size.Count(loses, "file"), to, word), Hint: hint, Done: func(answer string) tea.Cmd {
			if !strings.EqualFold(strings.TrimSpace(answer), word) {
				m.d.Notice = "That is not its name. Nothing was written."
				return nil
			}
			return do()
		}}
	}
	return func() tea.Msg { return state.AskMsg{Question: ask} }
}

// copy carries the plan out.
func (m *Model) copy(name, from, to string, t *twin.Twin) tea.Cmd {
	if !m.idle() {
		return nil
	}
	m.copying = true
	release := m.d.Hold()
	return m.counting("copying "+name+" to "+to, func(ctx context.Context, count func(n int64)) (done doneMsg) {
		defer release()
		done.change = true
		a, err := opened(ctx, from)
		if err != nil {
			return doneMsg{err: err}
		}
		defer a.Close()
		last := int64(0)
		r := run.Start(ctx, run.Job{Plan: t.Plan, From: a, Emit: func(e run.Event) {
			count(e.Total - last)
			last = e.Total
		}, Open: func(ctx context.Context) (target.Target, error) {
			return t.Open(ctx, func(ctx context.Context) (target.Target, error) { return opened(ctx, to) })
		}}).Wait()
		switch {
		case r.Stopped:
			done.say = "Stopped: what was copied is whole, and t continues with the rest."
		case len(r.Failed) > 0:
			done.err = errors.New(r.Failed[0].Say)
		default:
			done.say = fmt.Sprintf("%s copied to %s and read back, %s.", size.Count(r.Put, "file"), to,
				size.Format(r.Bytes))
		}
		return done
	})
}
