package scan

import (
	"os"
	"path/filepath"
	"reflect"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"pgregory.net/rapid"

	"polytome/internal/core/loader"
	"polytome/internal/core/title"
)

func drawFile(t *rapid.T) title.File {
	f := title.File{Path: rapid.SampledFrom([]string{"/games/a/x.iso", "/games/a/sub/y.bin", "/games/b/z",
		"../games/q"}).Draw(t, "path"), Size: rapid.Int64Min(0).Draw(t, "size")}
	if rapid.Bool().Draw(t, "dated") {
		f.Modified = time.Unix(0, rapid.Int64Range(1, 1<<62).Draw(t, "when"))
	}
	if f.Entry = rapid.StringN(0, 5, -1).Draw(t, "entry"); f.Entry != "" {
		f.Modified = f.Modified.UTC()
	}
	return f
}

func drawTitle(t *rapid.T) title.Title {
	s := func(name string) string { return rapid.String().Draw(t, name) }
	tt := title.Title{Platform: s("platform"), Form: title.Form(s("form")), Name: s("name"), ID: s("id"),
		Region: s("region"), Of: rapid.Int().Draw(t, "of"),
		Archive: s("archive"), Among: rapid.Int().Draw(t, "among"), Encrypted: rapid.Bool().Draw(t, "encrypted"),
		Details: title.Details{Year: s("year"), Players: s("players"), Publisher: s("publisher"),
			Version: s("version")}}
	for range rapid.IntRange(0, 2).Draw(t, "tags") {
		tt.Tags = append(tt.Tags, s("tag"))
	}
	for range rapid.IntRange(0, 2).Draw(t, "findings") {
		tt.Findings = append(tt.Findings, title.Finding{Grade: title.Grade(s("grade")), Say: s("say"),
			Remedy: s("remedy"), Wants: s("wants")})
	}
	tt.Discs = make([]title.Disc, rapid.IntRange(1, 3).Draw(t, "discs"))
	for i := range tt.Discs {
		d := &tt.Discs[i]
		*d = title.Disc{Number: rapid.Int().Draw(t, "number"), ID: s("id"), Kind: s("kind"), Sign: s("sign"),
			Deep: s("deep"), Sums: s("sums"), Used: title.Used{Bitmap: rapid.Int64().Draw(t, "bitmap"), Unit: 2048,
				Sectors: 3, Blocks: 1}, File: drawFile(t)}
		for range rapid.IntRange(0, 2).Draw(t, "parts") {
			d.Parts = append(d.Parts, title.Part{Name: s("part"), File: drawFile(t)})
		}
		for range rapid.IntRange(0, 2).Draw(t, "volumes") {
			d.Volumes = append(d.Volumes, drawFile(t))
		}
		for range rapid.IntRange(0, 2).Draw(t, "beside") {
			d.Beside = append(d.Beside, title.Beside{Kind: s("kind"), File: drawFile(t)})
		}
		for range rapid.IntRange(0, 2).Draw(t, "evidence") {
			d.Evidence = append(d.Evidence, title.Evidence{Field: s("field"), Value: s("value"), From: s("from")})
		}
	}
	return tt
}

// TestEveryRecordComesBack checks that all that is found of a title is kept, and that its paths go
// with the folder.
func TestEveryRecordComesBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := record{whole: rapid.Bool().Draw(t, "whole"), passed: rapid.Int().Draw(t, "passed"), files: []item{},
			outside: []item{}, titles: []title.Title{}}
		for range rapid.IntRange(0, 3).Draw(t, "files") {
			r.files = append(r.files, item{name: rapid.String().Draw(t, "name"), kind: isFile, size: rapid.Int64().
				Draw(t, "size"), modified: rapid.Int64().Draw(t, "modified"), inode: rapid.Uint64().Draw(t, "inode")})
		}
		for range rapid.IntRange(0, 3).Draw(t, "titles") {
			r.titles = append(r.titles, drawTitle(t))
		}
		data := r.encode("/games/a")
		got, err := decodeRecord(data, "/games/a")
		if err != nil {
			t.Fatalf("%v", err)
		}
		if !reflect.DeepEqual(&r, got) {
			t.Fatalf("%+v\ncame back as\n%+v", &r, got)
		}
		moved, err := decodeRecord(data, "/other")
		if err != nil {
			t.Fatalf("%v", err)
		}
		for i := range moved.titles {
			was := r.titles[i].Discs[0].File.Path
			if is := moved.titles[i].Discs[0].File.Path; was == "/games/a/x.iso" && is != "/other/x.iso" ||
				was == "/games/b/z" && is != was {
				t.Fatalf("%s is now %s", was, is)
			}
		}
	})
}

func FuzzRecord(f *testing.F) {
	r := record{titles: []title.Title{{Name: "x", Discs: []title.Disc{{File: title.File{Path: "/a/b"},
		Evidence: []title.Evidence{{Field: "f"}}}}}}, files: []item{{name: "n"}}}
	f.Add(r.encode("/a"))
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _ = decodeRecord(data, "/a")
	})
}

// TestAFileThatChangesUnderTheScan: it is reported, and is not kept.
func TestAFileThatChangesUnderTheScan(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "a.twt"), []byte("half of it"), 0o644); err != nil {
		t.Fatal(err)
	}
	set, err := loader.Shipped()
	if err != nil {
		t.Fatal(err)
	}
	all, err := list(dir)
	if err != nil || len(all) != 1 {
		t.Fatal(all, err)
	}
	s := newScan(t.Context(), Options{Set: set})
	if titles, err := s.titlesOf(dir, unit{first: &all[0]}); err != nil || len(titles) != 1 {
		t.Fatal(titles, err)
	}
	if err := os.WriteFile(filepath.Join(dir, "a.twt"), []byte("half of it, and the other half"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := s.titlesOf(dir, unit{first: &all[0]}); err != errChanged {
		t.Fatal(err)
	}
	// The same from end to end: it is a problem, and the title is marked.
	l := &look{s: s, dir: dir, all: all}
	l.identify(unit{first: &all[0]})
	if len(s.problems) != 1 || len(l.titles) != 1 || l.titles[0].OK() || len(l.failed) != 1 {
		t.Fatal(s.problems, l.titles)
	}
}

// TestADiskThatTurnsIsReadAtOneTarget holds the number of readers of each disk.
func TestADiskThatTurnsIsReadAtOneTarget(t *testing.T) {
	d := disks{all: map[uint64]chan struct{}{1: make(chan struct{}, 1), 2: make(chan struct{}, workers)}}
	most := map[uint64]*atomic.Int32{1: {}, 2: {}}
	var wait sync.WaitGroup
	for device := uint64(1); device <= 2; device++ {
		var now atomic.Int32
		for range 20 {
			wait.Go(func() {
				defer d.take(device)()
				n := now.Add(1)
				for old := most[device].Load(); n > old && !most[device].CompareAndSwap(old,
					n); old = most[device].Load() {
				}
				time.Sleep(time.Millisecond)
				now.Add(-1)
			})
		}
	}
	wait.Wait()
	if most[1].Load() != 1 || most[2].Load() < 2 {
		t.Fatalf("%d readers of the disk that turns, %d of the other", most[1].Load(), most[2].Load())
	}
}
