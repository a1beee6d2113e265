package survey

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"polytome/internal/core/bench"
	"polytome/internal/core/estimate"
	"polytome/internal/core/fit"
	"polytome/internal/size"
	"polytome/internal/target"
)

// With is the survey as it would be if the target were set up otherwise. Nothing is read and nothing is
// kept. Where the filesystem, the cluster or the space is another, the target is estimated as made again, with
// everything that is on it put back.
func (s *Survey) With(ctx context.Context, be *bench.Bench, n int, change func(*bench.Target)) (*Survey, error) {
	b := be.Clone()
	before := s.Config
	change(&b.Targets[n])
	now := b.Targets[n]
	c := &Survey{Look: s.again(), Config: now}
	c.strange = map[string]bool{}
	if err := c.profiles(b); err != nil {
		return nil, err
	}
	if err := c.remade(before); err != nil {
		return nil, err
	}
	if c.Config.Via != before.Via || c.Facts.Filesystem.Name != s.Facts.Filesystem.Name || !sameLoaders(now, before) {
		c.found, c.changed = map[int][]string{}, map[string]bool{} // the paths are others
	}
	if c.found == nil {
		c.found = map[int][]string{}
	}
	if c.texts == nil {
		c.texts = map[string]string{}
	}
	c.updates, c.Conflicts = nil, nil
	if c.changed == nil {
		c.changed = map[string]bool{}
	}
	c.judge(ctx, b, n)
	return c, nil
}

func sameLoaders(a, b bench.Target) bool {
	x, y := a.Loaders(), b.Loaders()
	return slices.Equal(x, y) && maps.Equal(a.Rules, b.Rules)
}

// remade works out the facts of a target that is made again.
func (s *Survey) remade(before bench.Target) error {
	if s.Config.As == before.As && s.Config.Capacity == before.Capacity && s.Config.Cluster == before.Cluster {
		return nil
	}
	f := s.Facts
	f.Declared = true
	if s.Config.As != before.As && s.Config.As != "" {
		fs, err := target.FilesystemNamed(s.Config.As)
		fs.Spelling = s.Facts.Filesystem.Spelling
		if err != nil {
			return err
		}
		f.Filesystem = fs
	}
	if s.Config.Capacity > 0 {
		f.Capacity, f.Unknown = int64(s.Config.Capacity), false
	}
	f.Cluster = f.Filesystem.Cluster(f.Capacity)
	if s.Config.Cluster > 0 {
		f.Cluster = int64(s.Config.Cluster)
	}
	f.Free = f.Capacity - f.Filesystem.Structures(f.Capacity, f.Cluster) - f.Used(s.There)
	s.Facts = f
	return nil
}

// A Change is a title whose verdict would be another one.
type Change struct {
	Title  int      `json:"-"`
	Key    string   `json:"title"`
	Label  string   `json:"label"`
	Chosen bool     `json:"chosen"`
	Was    fit.Kind `json:"was"`
	Is     fit.Kind `json:"is"`
}

// A Difference is what would change at a target.
type Difference struct {
	What    string            `json:"what"` // what is supposed, in words
	Goes    [2]int            `json:"goes"` // chosen titles that go, before and after
	Planned [2]int64          `json:"planned"`
	Free    [2]int64          `json:"free"`
	Time    [2]estimate.Range `json:"time"`
	Changes []Change          `json:"changes,omitempty"`
	More    int               `json:"more"` // wanted titles that would go and do not
	Fewer   int               `json:"fewer"`
}

// Compare reports what is different between a target and the same target set up otherwise.
func Compare(what string, before, after *Survey) *Difference {
	d := &Difference{
		What: what, Goes: [2]int{before.Sheet.Count, after.Sheet.Count}, Planned: [2]int64{before.Sheet.Planned,
			after.Sheet.Planned},
		Free: [2]int64{before.Sheet.Free(), after.Sheet.Free()}, Time: [2]estimate.Range{before.Whole(), after.Whole()},
	}
	for i := range before.Titles {
		was, is := before.Sheet.Verdict(i).Kind, after.Sheet.Verdict(i).Kind
		chosen := before.Sheet.Chosen[i] || after.Sheet.Chosen[i]
		if was == is {
			continue
		}
		d.Changes = append(d.Changes, Change{i, before.Titles[i].Key, before.Titles[i].Label(), chosen, was, is})
		if chosen && is.Goes() && !was.Goes() {
			d.More++
		}
		if chosen && was.Goes() && !is.Goes() {
			d.Fewer++
		}
	}
	return d
}

// Whole is how long it takes to bring all that is chosen and not there yet.
func (s *Survey) Whole() (r estimate.Range) {
	p := s.Speed()
	files, bytes := 0, int64(0)
	for i := range s.Titles {
		if s.Sheet.Chosen[i] {
			if v := s.Sheet.Verdict(i); v.Kind.Goes() && v.Need > 0 {
				files += len(s.Sheet.Placement(i).Items)
				bytes += v.Need
			}
		}
	}
	return p.Of(files, bytes)
}

// Say tells a difference in a sentence.
func (d *Difference) Say() string {
	s := fmt.Sprintf("%d of the selected titles fit instead of %d", d.Goes[1], d.Goes[0])
	if d.Goes[0] == d.Goes[1] {
		s = fmt.Sprintf("%d of the selected titles fit, as now", d.Goes[0])
	}
	if n := d.Free[1] - d.Free[0]; n > 0 {
		s += fmt.Sprintf("; %s more free space", size.Format(n))
	} else if n < 0 {
		s += fmt.Sprintf("; %s less free space", size.Format(-n))
	}
	if d.Time[0].String() != d.Time[1].String() {
		s += fmt.Sprintf("; %s instead of %s", d.Time[1], d.Time[0])
	}
	return s
}

// Without reports what would be different if target n were taken away, and which titles would be lost: those
// that go to no other target.
func (b Board) Without(n int) (d *Difference, lost []int) {
	s := b[n]
	if s == nil {
		return nil, nil
	}
	d = &Difference{What: "without this target", Goes: [2]int{s.Sheet.Count, 0}, Planned: [2]int64{s.Sheet.Planned, 0},
		Free: [2]int64{s.Sheet.Free(), 0}, Time: [2]estimate.Range{s.Whole(), {}}}
	for i := range s.Titles {
		if !s.Sheet.Chosen[i] || !s.Sheet.Verdict(i).Kind.Goes() {
			continue
		}
		if !slices.ContainsFunc(b, func(o *Survey) bool {
			return o != s && o != nil && o.carries == nil && o.Sheet.Chosen[i] && o.Sheet.Verdict(i).Kind.Goes()
		}) {
			lost = append(lost, i)
			d.Changes = append(d.Changes, Change{i, s.Titles[i].Key, s.Titles[i].Label(), true, s.Sheet.Verdict(i).Kind,
				fit.Foreign})
		}
	}
	d.Fewer = len(lost)
	return d, lost
}

// Second reports what would be different if there were another target like number n: see [Survey.Another].
func (s *Survey) Second(ctx context.Context, be *bench.Bench, n int) (*Difference, *Survey, error) {
	after, err := s.Another(ctx, be, n)
	if err != nil {
		return nil, nil, err
	}
	d := Compare("a second target like it", s, after)
	d.Goes = [2]int{s.Sheet.Count, s.Sheet.Count + after.Sheet.Count}
	d.More, d.Fewer = after.Sheet.Count, 0
	d.Changes = slices.DeleteFunc(d.Changes, func(c Change) bool {
		return !after.Sheet.Chosen[c.Title] || !c.Is.Goes() || c.Was.Goes()
	})
	return d, after, nil
}

// Another is a target like number n, empty, and what of the titles that are wanted there and do not go
// would go to it.
func (s *Survey) Another(ctx context.Context, be *bench.Bench, n int) (*Survey, error) {
	c := &Survey{Look: s.again()}
	c.There, c.trees, c.strange = []target.Entry{}, map[string]*fit.Loader{}, map[string]bool{}
	c.Away = nil
	c.found, c.texts, c.changed = map[int][]string{}, map[string]string{}, map[string]bool{}
	c.Facts.Free = c.Facts.Capacity - c.Facts.Filesystem.Structures(c.Facts.Capacity, c.Facts.Cluster)
	c.Facts.Declared = true
	b := be.Clone()
	var left []string
	for i := range s.Titles {
		if s.Sheet.Chosen[i] && !s.Sheet.Verdict(i).Kind.Goes() {
			left = append(left, s.Titles[i].Key)
		}
	}
	p := &b.Targets[n]
	p.Like, p.Stick = "", ""
	p.Everything, p.Titles, p.Without, p.Removing, p.Replace, p.DeleteOthers = false, nil, nil, nil, nil, false
	p.Want(true, left...)
	c.Config = *p
	if c.Config.Via == "" {
		c.Config.Via = s.Config.Via
	}
	c.judge(ctx, b, n)
	return c, nil
}
