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
	"polytome/internal/ui/scroll"
	"polytome/internal/ui/state"
	"polytome/internal/ui/tape"
)

// openMap reads what is where on the volume.
func (m *Model) openMap() tea.Cmd {
	if !m.idle() {
		return nil
	}
	if ask, ok := m.fit(); !ok {
		return ask
	}
	if m.volume().Filesystem == drives.Slab {
		return m.openDisk()
	}
	m.takeUp()
	m.show, m.tape = mapping, nil
	m.layOf = volumeName{m.current().Path, m.volume().Number}
	return m.readMap()
}

func (m *Model) readMap() tea.Cmd {
	open, set := m.open, m.d.Set
	return m.do("reading the block map", func(ctx context.Context) doneMsg {
		p, err := open()
		if err != nil {
			return doneMsg{err: err, take: func(m *Model) { m.show = listing }}
		}
		defer p.Close()
		lay, err := blockmap.Read(ctx, p.Volume(), set)
		return doneMsg{err: err, take: func(m *Model) { m.shows(lay) }}
	})
}

func (m *Model) mapActions() []state.Action {
	on := func(do func(t *tape.Tape)) func() tea.Cmd {
		return state.Just(func() {
			if m.tape != nil {
				do(m.tape)
			}
		})
	}
	out := append(state.Movement(m.tapeList()),
		state.Do("left h", "the title's part before", on(func(t *tape.Tape) { t.Part(-1) })),
		state.Do("right l", "the title's next part", on(func(t *tape.Tape) { t.Part(1) })),
		state.Do("n", "next fragmented", on(func(t *tape.Tape) {
			now, ok := t.Under()
			if !t.Next(func(l blockmap.Length) bool {
				return l.Kind == blockmap.Fragmented && (!ok || l.Owner != now.Owner)
			}) && (!ok || now.Kind != blockmap.Fragmented) {
				m.d.Notice = "No file is fragmented."
			}
		})),
	)
	if m.of == titles {
		return append(out, state.Do("W", "compact", m.askCompact).Writing(), state.Do("b", "back to the titles",
			state.Just(func() { m.Escape() })))
	}
	return append(out,
		state.Do("W", "defragment", m.askDefragment).Saying("the file under the cursor, or all").Writing(),
		state.Do("b", "back to the drives", state.Just(func() { m.Escape() })),
	)
}

// tapeList is the cursor on the tape.
func (m *Model) tapeList() *scroll.List {
	if m.tape == nil {
		return &scroll.List{}
	}
	return &m.tape.List
}

// shows takes over the map of the volume; the cursor stays on its title.
func (m *Model) shows(lay *blockmap.Map) {
	was := m.tape
	m.tape = tape.New(lay)
	if was == nil {
		return
	}
	if l, ok := was.Under(); ok && l.File >= 0 {
		p := was.Map.Files[l.File].Path
		m.tape.Find(func(l blockmap.Length) bool { return l.File >= 0 && lay.Files[l.File].Path == p })
	}
}

// askDefragment asks whether the file under the cursor shall be brought into one piece, or all.
func (m *Model) askDefragment() tea.Cmd {
	if !m.idle() || m.tape == nil || m.refused() {
		return nil
	}
	var all []string
	for _, f := range m.tape.Map.Fragmented() {
		all = append(all, f.Path)
	}
	one := ""
	if l, ok := m.tape.Under(); ok && l.Kind == blockmap.Fragmented {
		one = m.tape.Map.Files[l.File].Path
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
	open, set := m.open, m.d.Set
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
			lay, err := blockmap.Read(ctx, v, set)
			done.err = err
			done.take = func(m *Model) { m.shows(lay) }
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
func where(lay *blockmap.Map, runs []volume.Run) string {
	begins := func(r volume.Run) string { return size.Format(lay.Begins(blockmap.Length{Run: r})) }
	switch len(runs) {
	case 0:
		return "it uses no clusters"
	case 1:
		return "contiguous, starting at " + begins(runs[0])
	}
	return fmt.Sprintf("in %d fragments, the first at %s, the last at %s", len(runs), begins(runs[0]),
		begins(runs[len(runs)-1]))
}

func (m *Model) mapWhy() state.Why {
	if m.tape == nil {
		return state.Why{Say: "Reading the block map …"}
	}
	l, ok := m.tape.Under()
	if !ok {
		return state.Why{}
	}
	lay := m.tape.Map
	switch l.Kind {
	case blockmap.Free:
		return state.Why{Lead: "Free.", Say: fmt.Sprintf("%s free in all; the largest free run is %s.",
			size.Format(lay.FreeBytes()), size.Format(lay.Largest()))}
	case blockmap.System:
		return state.Why{Lead: "Used by the volume itself.",
			Say: "Its tables are here, or clusters that no file uses: c in the list of drives checks that."}
	}
	f := lay.Files[l.File]
	w := state.Why{Lead: f.Path + ".", Say: fmt.Sprintf("%s, %s.", size.Format(f.Size), where(lay, f.Runs))}
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
	if l.Files > 1 {
		w = state.Why{Lead: size.Count(l.Files, "file or folder") + ".", Say: fmt.Sprintf(
			"They lie one behind the other, from %s on; %s of %s are in use.", f.Path,
			size.Format(int64(l.Used)*lay.Info.Cluster), size.Format(lay.Bytes(l)))}
	}
	if l.Kind == blockmap.Fragmented {
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
