package scan

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"polytome/internal/core/scancache"
	"polytome/internal/core/title"
	"polytome/internal/format/sums"
	"polytome/internal/parallel"
)

// A Verdict is what reading a file from end to end has shown.
type Verdict string

// The verdicts, the worst first.
const (
	Differs    Verdict = "differs"    // it is not what a checksum list says
	Damaged    Verdict = "damaged"    // an archive does not unpack, an image's folders cannot be read
	Missing    Verdict = "missing"    // a list names it, and it is not there
	Unreadable Verdict = "unreadable" // the disk does not give it
	Suspect    Verdict = "suspect"    // long runs of zeros where data should be
	Agrees     Verdict = "agrees"     // it is what a checksum list says
	Whole      Verdict = "whole"      // it can be read, and no list names it
)

// Verdicts are all of them, the worst first.
var Verdicts = []Verdict{Differs, Damaged, Missing, Unreadable, Suspect, Agrees, Whole}

// Bad reports whether the file needs fixing.
func (v Verdict) Bad() bool { return slices.Index(Verdicts, v) <= slices.Index(Verdicts, Unreadable) }

// A Verified is one file that was read.
type Verified struct {
	Path    string  `json:"path"`
	Size    int64   `json:"size"` // in bytes
	Verdict Verdict `json:"verdict"`
	Say     string  `json:"say,omitempty"`
	Sums    string  `json:"sums,omitempty"`  // such as "crc32:0abc1234"
	Known   bool    `json:"known,omitempty"` // from an earlier time
}

// A VerifyReport is what verifying has shown.
type VerifyReport struct {
	Files    []Verified      `json:"files"` // by path
	Counts   map[Verdict]int `json:"counts"`
	Bytes    int64           `json:"bytes"` // of all files
	Problems []Problem       `json:"problems,omitempty"`
}

// VerifyProgress reports how far verifying has come.
type VerifyProgress struct {
	Done, Total int64     // bytes
	Path        string    // of the file that was begun or ended last
	Ended       *Verified // set when one has ended
}

// VerifyOptions are how files are verified.
type VerifyOptions struct {
	Cache     *scancache.Store // remembers; nil for nothing
	Passwords []string
	Allowed   []string // archives that may be large inside; see [Allowed]
	Lists     []string // checksum lists
	Again     bool     // read also what was read before and has not changed
	Progress  func(VerifyProgress)
}

// wanted is one line of a checksum list.
type wanted struct {
	sums.Line
	list string
}

// job is one file to be read.
type job struct {
	path    string
	size    int64
	mod     int64
	device  uint64
	sign    string
	form    title.Form
	archive bool
	want    []wanted
}

// Verify reads the files of titles, and those that the lists name, from end to end: it compares
// checksums, unpacks archives to test them, and looks for what was never written. One file
// at a time is read on each disk. The error is only that of a cancelled context.
func Verify(ctx context.Context, titles []title.Title, o VerifyOptions) (VerifyReport, error) {
	r := VerifyReport{Counts: map[Verdict]int{}}
	jobs := jobsOf(titles)
	r.Problems = addLists(jobs, o.Lists, &r)
	var all []*job
	for _, j := range jobs {
		all = append(all, j)
		r.Bytes += j.size
	}
	slices.SortFunc(all, func(a, b *job) int { return strings.Compare(a.path, b.path) })
	known := checks{new(reals), map[string]scancache.Check{}}
	if !o.Again {
		dirs := map[string]bool{}
		for _, j := range all {
			if dir := filepath.Dir(known.reals.of(j.path)); !dirs[dir] {
				dirs[dir] = true
				_ = o.Cache.Checks(dir, func(c scancache.Check) { known.all[c.Path] = c })
			}
		}
	}
	v := &verifier{ctx: ctx, o: o, checks: known, total: r.Bytes}
	byDisk := map[uint64][]*job{}
	for _, j := range all {
		byDisk[j.device] = append(byDisk[j.device], j)
	}
	var readers sync.WaitGroup
	for _, mine := range byDisk {
		readers.Go(func() {
			for _, j := range mine {
				if ctx.Err() != nil {
					return
				}
				v.file(j)
			}
		})
	}
	readers.Wait()
	r.Files = append(r.Files, v.files...)
	slices.SortFunc(r.Files, func(a, b Verified) int {
		return cmp.Or(strings.Compare(a.Path, b.Path), strings.Compare(string(a.Verdict), string(b.Verdict)))
	})
	for _, f := range r.Files {
		r.Counts[f.Verdict]++
	}
	return r, ctx.Err()
}

// jobsOf are the files that titles consist of.
func jobsOf(titles []title.Title) map[string]*job {
	jobs := map[string]*job{}
	add := func(f *title.File) *job {
		if f.Entry != "" || jobs[f.Path] != nil {
			return nil
		}
		info, err := os.Stat(f.Path)
		if err == nil && info.IsDir() {
			return nil
		}
		j := &job{path: f.Path, size: f.Size, mod: modified(f.Modified)}
		if err == nil {
			j.size, j.mod = info.Size(), info.ModTime().UnixNano()
			j.device, _ = identity(info)
		}
		jobs[f.Path] = j
		return j
	}
	for i := range titles {
		t := &titles[i]
		for k := range t.Discs {
			d := &t.Discs[k]
			if j := add(&d.File); j != nil {
				j.sign, j.form = d.Sign, t.Form
				j.archive = t.Archive != "" || t.Form == title.Package && len(d.Parts) > 0
			}
			for n := range d.Parts {
				if d.Parts[n].File.Path != "" { // what is in an image is read with it
					add(&d.Parts[n].File)
				}
			}
			for n := range d.Volumes {
				add(&d.Volumes[n])
			}
		}
	}
	return jobs
}

// addLists reads checksum lists and notes what they want of each file.
func addLists(jobs map[string]*job, lists []string, r *VerifyReport) (problems []Problem) {
	for _, list := range lists {
		info, err := os.Stat(list)
		if err == nil && info.Size() > sums.MaxBytes {
			err = errors.New("it is too long for a list of checksums")
		}
		var text []byte
		if err == nil {
			text, err = os.ReadFile(list)
		}
		if err != nil {
			problems = append(problems, Problem{list, sayProblem(err)})
			continue
		}
		lines, bad := sums.Parse(list, string(text))
		for _, e := range bad {
			problems = append(problems, Problem{list, e.Error()})
		}
		for _, l := range lines {
			path := filepath.Join(filepath.Dir(list), filepath.FromSlash(l.Name))
			j := jobs[path]
			if j == nil {
				found, info := caseless(path)
				if info == nil {
					r.Files = append(r.Files, Verified{Path: path, Verdict: Missing,
						Say: fmt.Sprintf("%s, line %d, names it, but it is not there", filepath.Base(list), l.Number)})
					continue
				}
				if j = jobs[found]; j == nil {
					j = &job{path: found, size: info.Size(), mod: info.ModTime().UnixNano()}
					j.device, _ = identity(info)
					jobs[found] = j
				}
			}
			j.want = append(j.want, wanted{l, list})
		}
	}
	return problems
}

// caseless finds a file whose name may be spelt in another letter case.
func caseless(path string) (string, fs.FileInfo) {
	if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
		return path, info
	}
	entries, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return "", nil
	}
	for _, e := range entries {
		if strings.EqualFold(e.Name(), filepath.Base(path)) {
			found := filepath.Join(filepath.Dir(path), e.Name())
			if info, err := os.Stat(found); err == nil && info.Mode().IsRegular() {
				return found, info
			}
		}
	}
	return "", nil
}

type verifier struct {
	ctx    context.Context
	o      VerifyOptions
	checks checks

	mu          sync.Mutex
	done, total int64
	files       []Verified
}

func (v *verifier) emit(n int64, path string, ended *Verified) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.done += n
	if ended != nil {
		v.files = append(v.files, *ended)
	}
	if v.o.Progress != nil {
		v.o.Progress(VerifyProgress{v.done, v.total, path, ended})
	}
}

// algorithms are those that a file is summed up with: a CRC-32 always, as lists of titles often
// have it and zeros cost nothing, and what checksum lists want.
func (j *job) algorithms() []sums.Algorithm {
	out := []sums.Algorithm{sums.CRC32}
	for _, w := range j.want {
		if !slices.Contains(out, w.Algorithm) {
			out = append(out, w.Algorithm)
		}
	}
	return out
}

// file verifies one file.
func (v *verifier) file(j *job) {
	v.emit(0, j.path, nil)
	if c, ok := v.checks.of(j.path, j.size, j.mod, j.sign); ok && hasSums(c.Sums, j.algorithms()) {
		out := j.judge(c.Sums, c.Doubt)
		if out.Verdict != Differs && c.Finding != "" && len(j.want) == 0 {
			out.Verdict, out.Say = Damaged, c.Finding
		}
		out.Known = true
		v.emit(j.size, j.path, &out)
		return
	}
	reported := int64(0)
	var text, finding, doubt string
	var zeros []run
	err := parallel.Safely(func() (err error) {
		text, zeros, err = v.read(j, func(n int64) { reported += n; v.emit(n, j.path, nil) })
		return err
	})
	if v.ctx.Err() != nil {
		return
	}
	if err != nil {
		v.emit(j.size-reported, j.path, &Verified{Path: j.path, Size: j.size, Verdict: Unreadable,
			Say: sayProblem(err)})
		return
	}
	err = parallel.Safely(func() (err error) {
		finding, doubt, err = v.structure(j, zeros)
		return err
	})
	if v.ctx.Err() != nil {
		return
	}
	if err != nil { // not the file's own fault, so nothing is remembered
		v.emit(j.size-reported, j.path, &Verified{Path: j.path, Size: j.size, Sums: text, Verdict: Unreadable,
			Say: err.Error()})
		return
	}
	out := j.judge(text, doubt)
	if out.Verdict != Differs && finding != "" {
		out.Verdict, out.Say = Damaged, finding
	}
	keep := finding
	if out.Verdict == Differs {
		keep = out.Say
	}
	err = v.o.Cache.PutCheck(scancache.Check{Path: v.checks.reals.of(j.path), Size: j.size, Modified: j.mod,
		Sign: j.sign, Sums: text, Finding: keep, Doubt: doubt, At: time.Now().Unix()})
	if err != nil && out.Say == "" {
		out.Say = "the result could not be saved: " + err.Error()
	}
	v.emit(j.size-reported, j.path, &out)
}

// judge compares sums with what the lists want.
func (j *job) judge(text, doubt string) Verified {
	out := Verified{Path: j.path, Size: j.size, Sums: text, Verdict: Whole}
	if doubt != "" {
		out.Verdict, out.Say = Suspect, doubt
	}
	for _, w := range j.want {
		have := ""
		for s := range strings.FieldsSeq(text) {
			if a, sum, ok := strings.Cut(s, ":"); ok && a == string(w.Algorithm) {
				have = sum
			}
		}
		where := fmt.Sprintf("%s, line %d", filepath.Base(w.list), w.Number)
		if have != w.Sum {
			out.Verdict = Differs
			out.Say = fmt.Sprintf("its %s is %s, and %s, says %s", w.Algorithm, have, where, w.Sum)
			return out
		}
		out.Verdict, out.Say = Agrees, "with "+where
	}
	return out
}

// Runs of zeros that are looked at, in bytes.
const (
	zeroStep   = int64(2) << 10  // their beginning and end are found to this
	zeroTail   = int64(1) << 20  // at the end of a file in an image
	zeroMiddle = int64(32) << 20 // anywhere; but not less than an eighth of the file
)

// run is a run of zeros.
type run struct{ from, to int64 }

// read sums a file up and notes its long runs of zeros.
func (v *verifier) read(j *job, progress func(n int64)) (text string, zeros []run, err error) {
	f, err := os.Open(j.path)
	if err != nil {
		return "", nil, err
	}
	defer f.Close()
	h := sums.NewHasher(j.algorithms()...)
	at := int64(0)
	zero := func(n int64) {
		if k := len(zeros); k > 0 && zeros[k-1].to == at {
			zeros[k-1].to += n
		} else {
			if k > 0 && zeros[k-1].to-zeros[k-1].from < zeroTail {
				zeros = zeros[:k-1]
			}
			zeros = append(zeros, run{at, at + n})
		}
		at += n
	}
	err = eachRun(v.ctx, f, j.size, func(b []byte) error {
		_, _ = h.Write(b)
		progress(int64(len(b)))
		for len(b) > 0 {
			n := min(int64(len(b)), zeroStep)
			if bytes.Equal(b[:n], zeroBlock[:n]) {
				zero(n)
			} else {
				at += n
			}
			b = b[n:]
		}
		return nil
	}, func(n int64) error {
		h.Zeros(n)
		zero(n)
		progress(n)
		return nil
	})
	if k := len(zeros); k > 0 && zeros[k-1].to-zeros[k-1].from < zeroTail {
		zeros = zeros[:k-1]
	}
	return h.String(), zeros, err
}

// zeroBlock is what runs of zeros are recognised by.
var zeroBlock [zeroStep]byte
