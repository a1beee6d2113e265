package blockmap

import (
	"cmp"
	"fmt"
	"path"
	"slices"

	"polytome/internal/format/volume"
	"polytome/internal/size"
)

// A Length is a stretch of a volume as on a measuring tape: from one end of what it holds to the other.
type Length struct {
	volume.Run
	Kind Kind
	// File is the index of the file or folder that has it: the first of them where there are several, -1 for none.
	File int
	// Files is how many files and folders have it. Several do that belong to one title, or to none and are small.
	Files int
	// Owner is the index of the first length of its title, or of its file where that belongs to none; -1 for nobody's.
	// Part is which of the owner's lengths it is, counted from 0 in the order in which they are read; Parts is how many
	// there are.
	Owner, Part, Parts int
	// Used are the clusters of it that are in use.
	Used uint32

	run int
}

// Lengths are the volume from its first cluster to its last, each beginning where the one before ends. Files that lie
// one behind the other are one length when they belong to one title, or to none and have fewer clusters than least,
// small gaps between these with them. A fragment is always a length of its own.
func (m *Map) Lengths(least uint32) []Length {
	var out []Length
	for i := 0; i < len(m.spans); {
		end, last, files := i+1, i, 1
		for ; end < len(m.spans) && m.joins(m.spans[i], m.spans[end], least); end++ {
			if m.spans[end].kind != Free {
				last = end
				files++
			}
		}
		s := m.spans[i]
		l := Length{Run: s.Run, Kind: s.kind, File: s.file, run: s.run}
		if s.file >= 0 {
			l.Files = files
			l.Count = m.spans[last].End() - s.First
			for _, x := range m.spans[i : last+1] {
				if x.kind != Free {
					l.Used += x.Count
				}
				if x.kind == File {
					l.Kind = File
				}
			}
			i = last + 1
		} else {
			if s.kind == System {
				l.Used = s.Count
			}
			i++
		}
		out = append(out, l)
	}
	m.number(out)
	return out
}

// joins reports whether b, which comes behind a, is of one length with it.
func (m *Map) joins(a, b span, least uint32) bool {
	if a.file < 0 || a.kind == Fragmented || b.kind == Fragmented || b.kind == System {
		return false
	}
	of := m.Titles[m.Files[a.file].Path]
	if b.kind == Free {
		return of.Name == "" && b.Count < least && a.Count < least
	}
	if of.Name != "" {
		return m.Titles[m.Files[b.file].Path] == of
	}
	return m.Titles[m.Files[b.file].Path].Name == "" && a.Count < least && b.Count < least
}

// number counts the parts of each title and file.
func (m *Map) number(all []Length) {
	type owner struct {
		name, platform string
		file           int
	}
	of := map[owner][]int{}
	for i, l := range all {
		if all[i].Owner = -1; l.File < 0 {
			continue
		}
		o := owner{file: l.File}
		if t, ok := m.Titles[m.Files[l.File].Path]; ok {
			o = owner{t.Name, t.Platform, -1}
		}
		of[o] = append(of[o], i)
	}
	for _, list := range of {
		first := list[0]
		slices.SortFunc(list, func(a, b int) int {
			return cmp.Or(cmp.Compare(all[a].File, all[b].File), cmp.Compare(all[a].run, all[b].run))
		})
		for k, i := range list {
			all[i].Owner, all[i].Part, all[i].Parts = first, k, len(list)
		}
	}
}

// Platform is that of the title which a length belongs to, "" for none or an unknown one.
func (m *Map) Platform(l Length) string {
	if l.File < 0 {
		return ""
	}
	return m.Titles[m.Files[l.File].Path].Platform
}

// Say names what a length holds, and how it lies: "Gannet Patrol" and "fragment 2 of 3".
func (m *Map) Say(l Length) (what, how string) {
	switch {
	case l.Kind == Free:
		return "free", ""
	case l.Kind == System:
		return "the volume's own", ""
	}
	f := &m.Files[l.File]
	t, titled := m.Titles[f.Path]
	switch {
	case titled:
		what = t.Name
	case l.Files > 1:
		return size.Exact(int64(l.Files)) + " small files and folders", ""
	case f.Path == ".":
		return "the root folder", ""
	case f.Folder && f.Path == SmallFiles:
		return SmallFiles, ""
	case f.Folder:
		return f.Path + "/", ""
	default:
		what = path.Base(f.Path)
	}
	switch {
	case l.Kind == Fragmented && len(f.Runs) < l.Parts: // of several files, this one is fragmented
		how = "fragmented, part " + of(l)
	case l.Kind == Fragmented:
		how = "fragment " + of(l)
	case l.Parts > 1:
		how = "part " + of(l)
	default:
		how = "contiguous"
	}
	return what, how
}

func of(l Length) string { return fmt.Sprintf("%d of %d", l.Part+1, l.Parts) }

// Begins is where a length begins, in bytes from the beginning of the volume.
func (m *Map) Begins(l Length) int64 { return m.Info.Heap + int64(l.First-2)*m.Info.Cluster }

// Bytes is how long a length is.
func (m *Map) Bytes(l Length) int64 { return int64(l.Count) * m.Info.Cluster }

// Least is the number of clusters below which files that belong to no title are not shown one by one.
func (m *Map) Least() uint32 { return max(2, m.Info.Clusters/1000) }

// Strip divides the tape into n equal parts, and reports which of its lengths is shown in each: the one that has most
// of it. A fragment counts before anything else, so that it is seen however small it is.
func (m *Map) Strip(all []Length, n int) []int {
	out := make([]int, n)
	total, at := int64(m.Info.Clusters), 0
	for i := range out {
		from, to := uint32(2+total*int64(i)/int64(n)), uint32(2+total*int64(i+1)/int64(n))
		to = max(to, from+1) // where there are more parts than clusters
		for at > 0 && all[at].First > from {
			at--
		}
		for at < len(all)-1 && all[at].End() <= from {
			at++
		}
		best, most := at, int64(-1)
		for k := at; k < len(all) && all[k].First < to; k++ {
			part := int64(min(all[k].End(), to)) - int64(max(all[k].First, from))
			torn, worse := all[k].Kind == Fragmented, all[best].Kind == Fragmented
			if torn && !worse || torn == worse && part > most {
				best, most = k, part
			}
		}
		out[i] = best
	}
	return out
}

// A Mark is one of the numbers along the tape.
type Mark struct {
	At  float64 // from 0 for the beginning of the tape to 1 for its end
	Say string  // how far that is from the beginning of the volume
}

// Marks are at most so many numbers along the tape, at round distances.
func (m *Map) Marks(most int) []Mark {
	total := int64(max(1, m.Info.Clusters)) * max(1, m.Info.Cluster)
	unit, name := int64(size.MiB), "MiB"
	for _, u := range []struct {
		bytes int64
		name  string
	}{{size.GiB, "GiB"}, {size.TiB, "TiB"}} {
		if total >= 4*u.bytes {
			unit, name = u.bytes, u.name
		}
	}
	step := unit
	for f, turn := int64(1), 0; total > step*int64(max(1, most)); turn++ {
		f = f * []int64{2, 5, 10}[turn%3] / []int64{1, 2, 5}[turn%3]
		step = f * unit
	}
	var out []Mark
	for p := int64(0); len(out) < most; p += step {
		at := max(0, float64(p-m.Info.Heap)/float64(total))
		if at > 1-0.7/float64(most) { // its number would not go in front of the end
			break
		}
		out = append(out, Mark{at, fmt.Sprintf("%d %s", p/unit, name)})
	}
	return out
}
