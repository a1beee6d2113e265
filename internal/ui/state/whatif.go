package state

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/bench"
	"polytome/internal/core/loader"
	"polytome/internal/core/survey"
	"polytome/internal/size"
	"polytome/internal/target"
)

// Supposing is what would be different if a target were set up otherwise.
type Supposing struct {
	Target  int
	Rows    []Supposed
	Working bool
	changes int
}

// Supposed is one way to set a target up otherwise.
type Supposed struct {
	What string
	Diff *survey.Difference // nil where Err says why not
	Lost []int              // titles that lose their only home
	Err  error
	// take makes it so; nil where that cannot be done from here.
	take func() tea.Cmd
	// Other is set for the row that asks what else to suppose.
	Other bool
}

// A SupposingMsg is what was worked out so far.
type SupposingMsg struct {
	row     Supposed
	done    bool
	last    bool  // it was asked for by hand, and none comes after it
	trouble error // what broke it off
	changes int
	feed    feed[SupposingMsg]
}

// suppose is one change to try.
type suppose struct {
	what   string
	change func(*bench.Target)
}

// WhatIf works out, in the background, what would be different if a target were set up otherwise: every
// other filesystem, cluster sizes, more or less space, other connections and loaders, no covers, the target
// taken away, or a second one like it.
func (d *State) WhatIf(n int) tea.Cmd {
	if d.At(n).Survey == nil {
		d.Notice = "The target has not been read yet."
		return nil
	}
	d.Supposing = &Supposing{Target: n, Working: true, changes: d.changes}
	board, b, changes := d.frozen(), d.Bench.Clone(), d.changes
	tries := d.tries(n)
	out := make(feed[SupposingMsg], len(tries)+4) // all of it, and a mistake
	ctx := d.Ctx
	out.start(func() {
		for _, t := range tries {
			if ctx.Err() != nil {
				return
			}
			out <- SupposingMsg{row: d.tried(board, b, n, t), changes: changes, feed: out}
		}
		for _, row := range []Supposed{d.another(board, b, n), d.without(board, n), d.other(board, b, n)} {
			out <- SupposingMsg{row: row, changes: changes, feed: out}
		}
		out <- SupposingMsg{done: true, changes: changes}
	}, func(err error) SupposingMsg { return SupposingMsg{done: true, trouble: err, changes: changes} })
	return out.next
}

// covers supposes a target without covers, or with them.
func (d *State) covers(n int) suppose {
	if d.Targets[n].Survey.Config.NoCovers {
		return suppose{"with covers", func(p *bench.Target) { p.NoCovers = false }}
	}
	return suppose{"without covers", func(p *bench.Target) { p.NoCovers = true }}
}

// tries are the changes that make sense for a target.
func (d *State) tries(n int) (out []suppose) {
	s := d.Targets[n].Survey
	for _, name := range target.FilesystemNames() {
		fs, _ := target.FilesystemNamed(name)
		if name == s.Facts.Filesystem.Name {
			continue
		}
		reads := slices.ContainsFunc(s.Profiles, func(p *loader.Profile) bool {
			at := p.Attachment(s.Config.Via, name)
			return at != nil && at.Reads(name)
		})
		if reads || name == "fat32" || name == "exfat" {
			out = append(out, suppose{"formatted with " + fs.Shown, func(p *bench.Target) { p.As = name }})
		}
	}
	for _, c := range []int64{s.Facts.Cluster / 4, s.Facts.Cluster * 4} {
		if c >= 512 && c <= 2<<20 {
			out = append(out, suppose{"clusters of " + size.Format(c),
				func(p *bench.Target) { p.Cluster = bench.Size(c) }})
		}
	}
	for _, r := range []struct {
		what  string
		space int64
	}{{"twice the space", s.Facts.Capacity * 2}, {"half the space", s.Facts.Capacity / 2}} {
		out = append(out, suppose{fmt.Sprintf("%s (%s)", r.what, size.Format(r.space)),
			func(p *bench.Target) { p.Capacity = bench.Size(r.space) }})
	}
	for _, via := range s.Profile.Connections() {
		if via != s.Config.Via {
			out = append(out, suppose{"over " + loader.ViaWord(via), func(p *bench.Target) { p.Via = via }})
		}
	}
	for _, p := range d.Set.Profiles {
		if !slices.Contains(s.Config.Loaders(), p.Name) && p.Attachment(s.Config.Via, s.Facts.Filesystem.Name) != nil &&
			p.Attachment(s.Config.Via, s.Facts.Filesystem.Name).Reads(s.Facts.Filesystem.Name) {
			out = append(out, suppose{"for " + p.Shown + " as well",
				func(x *bench.Target) { x.Also = append(slices.Clone(x.Also), p.Name) }})
		}
	}
	if s.Config.Reserve > 0 {
		out = append(out, suppose{"no reserve", func(p *bench.Target) { p.Reserve = 0 }})
	}
	out = append(out, d.covers(n))
	if !s.Config.DeleteOthers {
		out = append(out, suppose{"removing everything not selected", func(p *bench.Target) { p.DeleteOthers = true }})
	}
	return out
}

// tried is what one change would make different.
func (d *State) tried(board survey.Board, b *bench.Bench, n int, t suppose) Supposed {
	row := Supposed{What: t.what}
	after, err := board[n].With(d.Ctx, b, n, t.change)
	if err != nil {
		row.Err = err
	} else {
		row.Diff = survey.Compare(t.what, board[n], after)
	}
	row.take = func() tea.Cmd {
		return d.SetUp(n, fmt.Sprintf("%s: %s. u undoes.", d.Bench.Targets[n].Name, t.what), t.change)
	}
	return row
}

// other asks what else to suppose.
func (d *State) other(board survey.Board, b *bench.Bench, n int) Supposed {
	row := Supposed{What: "something else ...", Other: true}
	row.take = func() tea.Cmd {
		d.Ask(Question{Prompt: "what if ", Hint: "such as as=exfat,cluster=64KiB or rule:accept.1.title.longest=20; " +
			survey.Suppositions(), Done: func(text string) tea.Cmd {
			if text == "" || d.Supposing == nil {
				return nil
			}
			change, err := survey.Supposition(text)
			if err != nil {
				d.Notice = err.Error()
				return nil
			}
			changes := d.Supposing.changes
			d.Supposing.Working = true
			return func() tea.Msg {
				return SupposingMsg{row: d.tried(board, b, n, suppose{text, change}), changes: changes, last: true}
			}
		}})
		return nil
	}
	return row
}

// another is a second target like number n.
func (d *State) another(board survey.Board, b *bench.Bench, n int) Supposed {
	row := Supposed{What: "a second target like it"}
	diff, after, err := board[n].Second(d.Ctx, b, n)
	if err != nil {
		row.Err = err
		return row
	}
	row.Diff = diff
	keys := after.Config.Titles
	row.take = func() tea.Cmd {
		d.Ask(Question{Prompt: "where is it? ", Hint: "the folder or mounted drive of the second target",
			Done: func(at string) tea.Cmd {
				if at == "" || d.busy() {
					return nil
				}
				d.remember()
				p := d.Bench.Targets[n]
				p.Like, p.Stick = "", ""
				p.Name, p.At, p.Everything, p.Titles, p.Without, p.Removing, p.Replace, p.Names,
					p.Speed = d.Bench.FreeName(p.Name), at, false, keys, nil, nil, nil, nil, nil
				d.Bench.Targets = append(slices.Clone(d.Bench.Targets), p)
				d.resize()
				d.Notice = p.Name + " is now a target. u undoes."
				return tea.Batch(d.Survey(), d.changed())
			}})
		return nil
	}
	return row
}

// without is the target taken away.
func (d *State) without(board survey.Board, n int) Supposed {
	row := Supposed{What: "without this target"}
	row.Diff, row.Lost = board.Without(n)
	row.take = func() tea.Cmd {
		if d.busy() {
			return nil
		}
		d.remember()
		name := d.Bench.Targets[n].Name
		d.Bench.Targets = slices.Clone(d.Bench.Targets)
		d.Bench.Unlike(n)
		d.Bench.Targets = slices.Delete(d.Bench.Targets, n, n+1)
		d.resize()
		d.Notice = name + " is no longer a target; nothing on it was touched. u undoes."
		return tea.Batch(d.Survey(), d.changed())
	}
	return row
}

// SetSupposing takes over what was worked out.
func (d *State) SetSupposing(m SupposingMsg) tea.Cmd {
	s := d.Supposing
	if s == nil || m.changes != d.changes || s.changes != m.changes {
		return nil
	}
	if m.done {
		s.Working = false
		if m.trouble != nil {
			d.Notice = "The rest could not be computed: " + m.trouble.Error()
		}
		return nil
	}
	if m.last {
		s.Working = false
		s.Rows = slices.Insert(s.Rows, len(s.Rows)-1, m.row)
		return nil
	}
	s.Rows = append(s.Rows, m.row)
	return m.feed.next
}

// Accept makes what is supposed so.
func (d *State) Accept(row int) tea.Cmd {
	if d.Supposing == nil || row >= len(d.Supposing.Rows) {
		return nil
	}
	take := d.Supposing.Rows[row].take
	if take == nil || d.Supposing.Rows[row].Err != nil {
		d.Notice = "That cannot be done from here."
		return nil
	}
	return take()
}
