package survey

import (
	"fmt"
	"slices"
	"strings"

	"polytome/internal/core/bench"
	"polytome/internal/core/distribute"
	"polytome/internal/core/estimate"
	"polytome/internal/core/fit"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/size"
)

// A Board is all targets of a bench. A target that could not be looked at is nil.
type Board []*Survey

// Relate tells every target what follows for it from the others: how much space there is on the other targets of its
// consoles, for titles that a console copies to its own disk first; and which titles another one takes whose lists it
// carries.
func (b Board) Relate(be *bench.Bench) {
	for n, s := range b {
		if s == nil || s.carries == nil || !s.carries.apart {
			continue
		}
		for _, o := range b {
			if o != nil && o != s && o.Config.Name == s.carries.name && len(o.Titles) == len(s.Titles) {
				s.takes = func(i int) bool { return o.Sheet.Chosen[i] && o.Sheet.Verdict(i).Kind.Goes() }
				s.Choose(be, n)
			}
		}
	}
	for n, s := range b {
		if s == nil || !s.needsDisk() {
			continue
		}
		others := map[string]fit.Elsewhere{}
		for m, o := range b {
			if m == n || o == nil || o.carries != nil || o.Profile.Name != s.Profile.Name {
				continue
			}
			if at := o.Sheet.Loaders()[0].Tree.Destination().Attachment; at != nil {
				others[at.Name] = fit.Elsewhere{Name: o.Config.Name, Free: o.Sheet.Free()}
			}
		}
		s.Sheet.SetElsewhere(others)
	}
}

// needsDisk reports whether a loader of the target copies titles to another target of the console.
func (s *Survey) needsDisk() bool {
	for _, p := range s.Profiles {
		for i := range p.Accepts {
			if p.Accepts[i].AlsoNeeds != "" {
				return true
			}
		}
	}
	return false
}

// Explain puts the verdict on a title at target n into words, with the ways out that other targets
// offer.
func (b Board) Explain(n, i int) fit.Explanation {
	s := b[n]
	e := s.Sheet.Explain(i)
	if e.Verdict.Goes() && e.Verdict != fit.Parts || e.Verdict == fit.Foreign || e.Verdict == fit.Bad ||
		e.Verdict == fit.NoDisc || e.Verdict == fit.Locked || s.carries != nil {
		return e
	}
	for m, o := range b {
		if m == n || o == nil || o.carries != nil || i >= len(o.Titles) {
			continue
		}
		switch v := o.Sheet.Verdict(i); {
		case v.Kind == fit.Present:
			e.Add(fit.Choosing, "it is on "+o.Config.Name+" already")
		case v.Kind.Goes() && (!e.Verdict.Goes() || v.Kind == fit.Copy): // one in parts is shown where it fits whole
			how := map[fit.Kind]string{fit.Copy: "copies it", fit.Renamed: "has it under another name",
				fit.Parts: fmt.Sprintf("takes it in %d parts", v.Parts)}[v.Kind]
			if how == "" {
				how = "takes it: " + v.Word()
			}
			e.Add(fit.OtherTarget, fmt.Sprintf("%s %s, %s over %s", o.Config.Name, how, o.Time(i),
				loader.ViaWord(o.Config.Via)))
		}
	}
	return e
}

// A Home is where a title goes when titles are distributed, and why.
type Home struct {
	Title  int    `json:"-"`
	Key    string `json:"title"`
	Label  string `json:"label"`
	Target int    `json:"-"` // number of the target, -1 for none
	Name   string `json:"target,omitempty"`
	Why    string `json:"why"`
	Moved  bool   `json:"moved,omitempty"` // it was wanted somewhere else
}

// A Sharing is homes for titles over all targets.
type Sharing struct {
	Homes []Home           `json:"homes"` // in the order in which titles were given
	Here  int              `json:"here"`  // that are where they go already
	Going int              `json:"going"` // that have to be brought
	Left  int              `json:"left"`  // that no target has space for, or takes
	Times []estimate.Range `json:"times"` // by target, for what has to be brought
	Whole estimate.Range   `json:"whole"` // with all connections at once
}

// Distribute finds a home for each of the titles: hard rules first, then how much a title is wanted, then
// what is there already, then time. Nothing is changed; see [Sharing.Apply].
func (b Board) Distribute(be *bench.Bench, titles []int) *Sharing {
	p := &distribute.Problem{Free: make([]int64, len(b)), Items: make([]distribute.Item, len(titles))}
	ranks := be.Ranks(b.titles())
	for n, s := range b {
		if !b.takes(be, n) {
			continue
		}
		portion, slack := s.Sheet.Portions()
		p.Free[n] = s.Sheet.Space() - slack - s.outside(be, n, titles, portion)
		for k, i := range titles {
			if v := s.Sheet.Fits(i); v.Kind.Goes() && !s.Sheet.Lacks(i) {
				time := s.Time(i)
				p.Items[k].Options = append(p.Items[k].Options, distribute.Option{Target: n, Space: portion(i),
					Time: time.Middle().Seconds(), Stays: v.Kind == fit.Present || v.Kind == fit.Renamed})
			}
		}
	}
	for k, i := range titles {
		if ranks != nil {
			p.Items[k].Priority = int(ranks[i])
		}
	}
	b.rivals(p, titles)
	homes := p.Solve()
	return b.sharing(be, p, titles, homes)
}

func (b Board) titles() []title.Title {
	for _, s := range b {
		if s != nil {
			return s.Titles
		}
	}
	return nil
}

// outside is the space that titles keep which are wanted at a target and are not distributed.
func (s *Survey) outside(be *bench.Bench, n int, titles []int, portion func(int) int64) (bytes int64) {
	in := make(map[int]bool, len(titles))
	for _, i := range titles {
		in[i] = true
	}
	for i := range s.Titles {
		if !in[i] && s.Sheet.Chosen[i] && s.Sheet.Verdict(i).Kind.Goes() {
			bytes += portion(i)
		}
	}
	return bytes
}

// rivals leaves the options of all but one out where several titles would get one path at a target: the
// one that is there, else the most wanted, else the first.
func (b Board) rivals(p *distribute.Problem, titles []int) {
	at := make(map[int]int, len(titles))
	for k, i := range titles {
		at[i] = k
	}
	stays := func(k, target int) bool {
		return slices.ContainsFunc(p.Items[k].Options,
			func(o distribute.Option) bool { return o.Target == target && o.Stays })
	}
	for k, i := range titles {
		p.Items[k].Options = slices.DeleteFunc(p.Items[k].Options, func(o distribute.Option) bool {
			for _, j := range b[o.Target].Sheet.Placement(i).Rivals {
				r, in := at[j]
				if !in {
					if b[o.Target].Sheet.Chosen[j] && b[o.Target].Sheet.Fits(j).Kind.Goes() {
						return true
					}
					continue
				}
				if !b[o.Target].Sheet.Fits(j).Kind.Goes() || o.Stays {
					continue
				}
				if stays(r, o.Target) || p.Items[r].Priority > p.Items[k].Priority ||
					p.Items[r].Priority == p.Items[k].Priority && r < k {
					return true
				}
			}
			return false
		})
	}
}

// sharing tells homes in words.
func (b Board) sharing(be *bench.Bench, p *distribute.Problem, titles, homes []int) *Sharing {
	out := &Sharing{Homes: make([]Home, len(titles)), Times: make([]estimate.Range, len(b))}
	free := slices.Clone(p.Free)
	for k, home := range homes {
		for _, o := range p.Items[k].Options {
			if o.Target == home {
				free[home] -= o.Space
			}
		}
	}
	portions := make([]func(int) int64, len(b))
	for n, s := range b {
		if s != nil {
			portions[n], _ = s.Sheet.Portions()
		}
	}
	all := b.titles()
	for k, i := range titles {
		h := &out.Homes[k]
		*h = Home{Title: i, Key: all[i].Key, Label: all[i].Label(), Target: homes[k]}
		if h.Target == distribute.None {
			out.Left++
			h.Why = b.leftWhy(i, free, portions)
			continue
		}
		s := b[h.Target]
		h.Name = s.Config.Name
		h.Moved = !be.Targets[h.Target].Wants(h.Key)
		h.Why = b.homeWhy(p, k, h)
		if s.Sheet.Fits(i).Kind == fit.Present {
			out.Here++
			continue
		}
		out.Going++
		out.Times[h.Target] = out.Times[h.Target].Plus(s.Time(i))
	}
	for _, t := range out.Times {
		out.Whole = out.Whole.Beside(t)
	}
	return out
}

// homeWhy says why a title landed where it did.
func (b Board) homeWhy(p *distribute.Problem, k int, h *Home) string {
	opts := p.Items[k].Options
	mine := opts[slices.IndexFunc(opts, func(o distribute.Option) bool { return o.Target == h.Target })]
	if mine.Stays {
		if b[h.Target].Sheet.Fits(h.Title).Kind == fit.Renamed {
			return "already there under another name: it is renamed"
		}
		return "it is already there"
	}
	if len(opts) == 1 {
		return "no other target can take it"
	}
	time := b[h.Target].Time(h.Title)
	var quicker, slower, alike []string
	for _, o := range opts {
		if o.Target == h.Target {
			continue
		}
		said := fmt.Sprintf("%s (%s)", b[o.Target].Config.Name, b[o.Target].Time(h.Title))
		switch {
		case o.Time < mine.Time:
			quicker = append(quicker, said)
		case b[o.Target].Time(h.Title).String() == time.String():
			alike = append(alike, b[o.Target].Config.Name)
		default:
			slower = append(slower, said)
		}
	}
	if len(quicker) > 0 {
		return fmt.Sprintf("%s; quicker would be %s, whose space others need more", time, strings.Join(quicker, ", "))
	}
	if len(slower) == 0 {
		return fmt.Sprintf("%s, as it would be on %s", time, strings.Join(alike, ", "))
	}
	return fmt.Sprintf("%s; slower would be %s", time, strings.Join(slower, ", "))
}

// leftWhy says for every target why a title that was left over is not there.
func (b Board) leftWhy(i int, free []int64, portions []func(int) int64) string {
	var why []string
	for n, s := range b {
		if s == nil || s.carries != nil {
			continue
		}
		v := s.Sheet.Fits(i)
		switch {
		case s.Away != nil:
			why = append(why, s.Config.Name+": not connected")
		case v.Kind == fit.Foreign:
		case v.Kind.Goes() && len(s.Sheet.Placement(i).Rivals) > 0 && v.Need <= free[n]:
			why = append(why, s.Config.Name+": another title has its path")
		case v.Kind.Goes():
			why = append(why, fmt.Sprintf("%s: no space, %s short", s.Config.Name,
				size.Format(max(1, portions[n](i)-max(0, free[n])))))
		default:
			why = append(why, s.Config.Name+": "+s.Sheet.Fits(i).Word())
		}
	}
	if len(why) == 0 {
		return "no loader of any target supports it"
	}
	return strings.Join(why, "; ")
}

// Apply takes homes over as the choices of a bench. Titles stay wanted where they are already.
func (sh *Sharing) Apply(be *bench.Bench, b Board) {
	for n, s := range b {
		if !b.takes(be, n) {
			continue
		}
		var put, take []string
		for _, h := range sh.Homes {
			wants := be.Targets[n].Wants(h.Key)
			switch {
			case h.Target == n && !wants:
				put = append(put, h.Key)
			case h.Target != n && wants && s.Sheet.Fits(h.Title).Kind != fit.Present:
				take = append(take, h.Key)
			}
		}
		be.Targets[n].Want(true, put...)
		be.Targets[n].Want(false, take...)
		be.Spread(n)
	}
}

// takes reports whether titles are distributed to a target. Of a set, that is the first that is connected.
func (b Board) takes(be *bench.Bench, n int) bool {
	connected := func(n int) bool { return n < len(b) && b[n] != nil && b[n].Away == nil && b[n].carries == nil }
	all := be.Alike(n)
	return connected(n) && all[slices.IndexFunc(all, connected)] == n
}

// Wanted are the titles that are wanted at one target at least and that some loader concerns.
func (b Board) Wanted() (out []int) {
	for i := range b.titles() {
		for _, s := range b {
			if s != nil && s.carries == nil && s.Sheet.Chosen[i] {
				out = append(out, i)
				break
			}
		}
	}
	return out
}
