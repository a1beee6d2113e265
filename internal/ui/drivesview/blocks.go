package drivesview

import (
	"context"
	"errors"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"polytome/internal/core/blockmap"
	"polytome/internal/drives"
	"polytome/internal/format/volume"
	"polytome/internal/size"
	"polytome/internal/ui/state"
)

// openMap reads what is where on the volume.
func (m *Model) openMap() tea.Cmd {
	if !m.idle() || !m.fit() {
		return nil
	}
	if m.volume().Filesystem == drives.Slab {
		return m.openDisk()
	}
	m.takeUp()
	m.show, m.lay, m.cell = mapping, nil, 0
	m.layOf = volumeName{m.current().Path, m.volume().Number}
	return m.readMap()
}

func (m *Model) readMap() tea.Cmd {
	open := m.open
	return m.do("reading the block map", func(ctx context.Context) doneMsg {
		p, err := open()
		if err != nil {
			return doneMsg{err: err, take: func(m *Model) { m.show = listing }}
		}
		defer p.Close()
		lay, err := blockmap.Read(ctx, p.Volume())
		return doneMsg{err: err, take: func(m *Model) { m.lay = lay }}
	})
}

func (m *Model) mapActions() []state.Action {
	out := []state.Action{
		state.Do("left h", "to the left", state.Just(func() { m.move(-1) })),
		state.Do("right l", "to the right", state.Just(func() { m.move(1) })),
		state.Do("up k", "up", state.Just(func() { m.move(-m.cols) })),
		state.Do("down j", "down", state.Just(func() { m.move(m.cols) })),
		state.Do("n", "next fragmented", state.Just(func() { m.nextPiece() })),
		state.Do("tab", "next file", state.Just(func() { m.nextFile() })),
	}
	if m.of == titles {
		return append(out, state.Do("W", "compact", m.askCompact).Writing(), state.Do("b", "back to the titles",
			state.Just(func() { m.Escape() })))
	}
	return append(out,
		state.Do("W", "defragment", m.askDefragment).Saying("the file under the cursor, or all").Writing(),
		state.Do("b", "back to the drives", state.Just(func() { m.Escape() })),
	)
}

func (m *Model) move(by int) {
	if n := m.cols * m.rows; n > 0 && m.cell+by >= 0 && m.cell+by < n {
		m.cell += by
	}
}

// cells are the parts of the volume as they are drawn.
func (m *Model) cells() []blockmap.Cell {
	if m.lay == nil || m.cols*m.rows == 0 {
		return nil
	}
	return m.lay.Cells(m.cols * m.rows)
}

// under is the cell under the cursor.
func (m *Model) under() (c blockmap.Cell, ok bool) {
	all := m.cells()
	if m.cell >= len(all) {
		return c, false
	}
	return all[m.cell], true
}

// nextPiece goes to the next file that is fragmented.
func (m *Model) nextPiece() {
	m.next(func(c blockmap.Cell) bool { return c.Kind == blockmap.Fragmented }, "No file is fragmented.")
}

// nextFile goes to where the next file begins.
func (m *Model) nextFile() {
	all := m.cells()
	now := -2
	if m.cell < len(all) {
		now = all[m.cell].File
	}
	m.next(func(c blockmap.Cell) bool { return c.File >= 0 && c.File != now }, "There are no files.")
}

func (m *Model) next(want func(blockmap.Cell) bool, none string) {
	all := m.cells()
	here := -2
	if m.cell < len(all) {
		here = all[m.cell].File
	}
	for i := 1; i < len(all); i++ {
		at := (m.cell + i) % len(all)
		if want(all[at]) && (all[at].File != here || all[at-min(1, at)].File != here) {
			m.cell = at
			return
		}
	}
	m.d.Notice = none
}

// askDefragment asks whether the file under the cursor shall be brought into one piece, or all.
func (m *Model) askDefragment() tea.Cmd {
	if !m.idle() || m.lay == nil || m.refused() {
		return nil
	}
	var all []string
	for _, f := range m.lay.Fragmented() {
		all = append(all, f.Path)
	}
	one := ""
	if c, ok := m.under(); ok && c.Kind == blockmap.Fragmented {
		one = m.lay.Files[c.File].Path
	}
	hint := "other files are moved out of the way if needed; it can be stopped at any moment"
	whole := func() tea.Cmd { return m.defragment(all) }
	switch {
	case len(all) == 0:
		m.d.Notice = "Every file is contiguous already."
	case one == "":
		m.d.Agree(fmt.Sprintf("Rewrite %s contiguously?", size.Count(len(all), "file")), hint, whole)
	default:
		m.d.Agree(fmt.Sprintf("Rewrite %s contiguously?", one), hint, func() tea.Cmd {
			return m.defragment([]string{one})
		}, state.Do("A", fmt.Sprintf("all %d files", len(all)), whole).Writing())
	}
	return nil
}

// defragment brings files into one piece each.
func (m *Model) defragment(names []string) tea.Cmd {
	if !m.idle() || m.refused() {
		return nil
	}
	open := m.open
	return m.do(fmt.Sprintf("defragmenting %s", size.Count(len(names), "file")),
		func(ctx context.Context) (done doneMsg) {
			done.change = true
			p, err := open()
			if err != nil {
				return doneMsg{err: err}
			}
			defer func() {
				done.err = errors.Join(done.err, p.Close())
			}()
			v, err := p.Write(ctx)
			if err != nil {
				return doneMsg{err: err}
			}
			moved := 0
			for _, n := range names {
				others, err := v.Defragment(ctx, n, true, nil)
				if err != nil {
					return doneMsg{err: err, change: true}
				}
				moved += len(others)
			}
			done.say = fmt.Sprintf("%s defragmented.", isAre(len(names), "file"))
			if moved > 0 {
				done.say += fmt.Sprintf(" %s moved to make way.", isWas(moved, "file"))
			}
			lay, err := blockmap.Read(ctx, v)
			done.err = err
			done.take = func(m *Model) { m.lay = lay }
			return done
		})
}

func isAre(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " is"
	}
	return size.Count(n, noun) + " are"
}

func isWas(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " was"
	}
	return size.Count(n, noun) + " were"
}

// where tells the bytes of runs.
func (m *Model) where(runs []volume.Run) string {
	info := m.lay.Info
	switch len(runs) {
	case 0:
		return "it uses no clusters"
	case 1:
		return fmt.Sprintf("contiguous, starting at %s", size.Format(int64(runs[0].First-2)*info.Cluster))
	}
	return fmt.Sprintf("in %d fragments, the first at %s, the last at %s", len(runs),
		size.Format(int64(runs[0].First-2)*info.Cluster), size.Format(int64(runs[len(runs)-1].First-2)*info.Cluster))
}

func (m *Model) mapWhy() state.Why {
	if m.lay == nil {
		return state.Why{Say: "Reading the block map …"}
	}
	c, ok := m.under()
	if !ok {
		return state.Why{}
	}
	if c.File < 0 {
		switch c.Kind {
		case blockmap.Free:
			return state.Why{Lead: "Free.", Say: fmt.Sprintf("%s free in all; the largest free run is %s.",
				size.Format(m.lay.FreeBytes()), size.Format(m.lay.Largest()))}
		default:
			return state.Why{Lead: "Used by the volume itself.",
				Say: "Its tables are here, or clusters that no file uses: c in the list of drives checks that."}
		}
	}
	f := m.lay.Files[c.File]
	w := state.Why{Lead: f.Path + ".", Say: fmt.Sprintf("%s, %s.", size.Format(f.Size), m.where(f.Runs))}
	if f.Folder {
		w = state.Why{Lead: "The folder " + f.Path + ".", Say: "Its directory entries are here."}
		switch f.Path {
		case ".":
			w.Lead = "The root folder."
		case blockmap.SmallFiles:
			w = state.Why{Lead: "Small files.",
				Say: "Covers, lists and the console's own files are here, several to a slab."}
		}
	}
	if c.Mixed {
		w.Say += fmt.Sprintf(" Of these %s, %s are in use.", size.Format(int64(c.Count)*m.lay.Info.Cluster),
			size.Count(c.Files, "file or folder"))
	}
	if c.Kind == blockmap.Fragmented {
		w.Ways = []string{"W rewrites it contiguously, and moves other files out of the way if needed"}
		if m.of == titles {
			w.Ways = []string{"W brings every title into one piece"}
		}
	}
	return w
}

func (m *Model) checkWhy() state.Why {
	f := m.current()
	switch h := m.health; {
	case h == nil:
		return state.Why{Say: "Checking …"}
	case m.left != nil && m.left.OK():
		return state.Why{Lead: f.Name() + ".", Say: "All problems are repaired: the volume is OK."}
	case m.left != nil:
		return state.Why{Lead: f.Name() + ".", Say: fmt.Sprintf("%s could not be repaired.",
			size.Count(len(m.left.Findings), "thing"))}
	case h.OK():
		say := fmt.Sprintf("The volume is OK: %s and %s, %s.", size.Count(h.Files, "file"),
			size.Count(max(0, h.Folders-1), "folder"), size.Format(h.Bytes))
		if h.Fragmented > 0 {
			say += fmt.Sprintf(" %s fragmented: the block map shows where.", isAre(h.Fragmented, "file"))
		}
		return state.Why{Lead: f.Name() + ".", Say: say}
	}
	return state.Why{Lead: f.Name() + ".", Say: fmt.Sprintf("%s found. Nothing has been changed.",
		isAre(len(m.health.Findings), "thing")), Ways: []string{"W repairs what can be repaired, as listed here"}}
}
