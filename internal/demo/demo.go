// Package demo makes the world that the demo plays in and the tests are run on:
// the Gullwing Playroom's bench, with games as real images and a stick to be
// filled. The same seed gives the same bytes. Large images are sparse files, so
// little of their size is taken on the disk.
package demo

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"polytome/internal/core/bench"
	"polytome/internal/format/iso9660"
	"polytome/internal/size"
	"polytome/internal/sparse"
)

// Seed is the seed of the demo that users see.
const Seed = 1

// Season is the date that all files of the demo carry.
var Season = time.Date(2026, 3, 14, 9, 26, 52, 0, time.UTC)

// StickSpace is the declared capacity of the North stick, in bytes.
const StickSpace = 58 * size.GiB

// ShareSpace is the declared capacity of the Ferry share, in bytes.
const ShareSpace = 1843 * size.GiB

// misplaced is the title that is on the share under a name of its own.
const misplaced = "Thimble Kings"

// fatLargest is the largest file of FAT32 in bytes.
const fatLargest = 1<<32 - 1

const (
	mib = int64(1) << 20
	// shortest keeps small images well above what their structures take.
	shortest = mib
)

// mistake is what is wrong with an image.
type mistake int

const (
	none mistake = iota
	truncated
	unmarked
	misnamed
)

// vesper describes one image of the demo.
type vesper struct {
	number  int    // of the ID, VSP-00000
	name    string // as in VESPER.INF
	region  string
	disc    string
	kind    string
	size    int64  // of the file
	file    string // below the games folder; "" for one made from the name
	mistake mistake
}

// vespers are the demo's Vesper titles. The sizes are chosen so that one title
// finds no space on the stick at the end.
var vespers = []vesper{
	{number: 20417, name: "Copper Tide", region: "N", kind: "full", size: 4*size.GiB + 812*mib},
	{number: 20431, name: "The Ninth Orchard", region: "E", kind: "full", size: 4*size.GiB + 388*mib},
	{number: 20502, name: "Paper Falcons", region: "N", kind: "full", size: fatLargest},
	{number: 20503, name: "Paper Falcons: Second Flight", region: "N", kind: "full", size: fatLargest + 1},
	{number: 21002, name: "Saffron Circuit", region: "W", kind: "short", size: 635 * mib},
	{number: 21344, name: "Mistral Halt", region: "E", kind: "full", size: 1945 * mib},
	{number: 21377, name: "Mosswick", region: "N", kind: "short", size: 412 * mib},
	{number: 21410, name: "Clockwork Ferry", region: "W", disc: "1/2", kind: "full", size: 3650 * mib},
	{number: 21411, name: "Clockwork Ferry", region: "W", disc: "2/2", kind: "full", size: 2980 * mib},
	{number: 21533, name: "Gannet Patrol", region: "N", kind: "full", size: 3127 * mib},
	{number: 21533, name: "Gannet Patrol", region: "N", kind: "full", size: 3127 * mib,
		file: "new/Gannet Patrol (1).iso"},
	{number: 21560, name: "Underbough", region: "E", kind: "full", size: 2755 * mib},
	{number: 21588, name: "Tin Harbour", region: "W", kind: "full", size: 2210 * mib, file: "new/Tin Harbour.img",
		mistake: misnamed},
	{number: 21602, name: "Quarry & Sons", region: "N", kind: "full", size: 3899 * mib},
	{number: 21640, name: "Lantern Sluice", region: "E", kind: "short", size: 288 * mib},
	{number: 21655, name: "Velvet Ballast", region: "W", kind: "full", size: 1512 * mib, mistake: truncated},
	{number: 21671, name: "Nine Bells to Marrowby", region: "N", kind: "full", size: 3377 * mib},
	{number: 21690, name: "Salt & Semaphore", region: "E", kind: "short", size: 540 * mib},
	{number: 21704, name: "Wicker Parade", region: "N", kind: "full", size: 2044 * mib, file: "new/disc_image_04.iso",
		mistake: unmarked},
	{number: 21733, name: "Grebe Lake Rally – Été Édition", region: "W", kind: "full", size: 2468 * mib},
	{number: 21751, name: "The Uncommonly Patient Lighthouse Keeper of Farther Saint Ebb, Part II", region: "E",
		kind: "full", size: 3520 * mib},
	{number: 21762, name: "Thimble Kings", region: "N", kind: "full", size: 4011 * mib},
	{number: 21788, name: "Pilot Boat Juniper", region: "W", kind: "full", size: 4088 * mib},
}

// onStick is the title that is on the stick before anything is done.
const onStick = "Mosswick"

// A World is a demo on disk.
type World struct {
	Dir   string // everything is below it
	Bench string // the bench file
	Games string // the source folder with the Vesper's games
	Shelf string // the source folder with those of the other consoles
	Stick string // the folder that stands for the North stick
	Found string // the folder that stands for a stick of a console that nobody here knows
}

// CoverStore is the folder in which the demo keeps what it fetches from its server of pictures.
func (w World) CoverStore() string { return filepath.Join(w.Dir, "fetched-covers") }

// Saves is the folder in which the demo keeps saves.
func (w World) Saves() string { return filepath.Join(w.Dir, "saves") }

// Ledger is what is remembered of the demo's volumes.
func (w World) Ledger() string { return filepath.Join(w.Dir, "ledger") }

// marker is the file that says that a folder is a demo, and so may be used again.
const marker = ".polytome-demo"

// At names the parts of a demo in dir.
func At(dir string) World {
	return World{Dir: dir, Bench: filepath.Join(dir, "gullwing-season.toml"), Games: filepath.Join(dir, "games"),
		Shelf: filepath.Join(dir, "shelf"), Stick: filepath.Join(dir, "north-stick"),
		Found: filepath.Join(dir, "found-stick")}
}

// Open makes the demo in dir, or takes up one that was made there before. A folder
// with anything else in it is an error.
func Open(dir string, seed uint64) (World, error) {
	w := At(dir)
	if _, err := os.Stat(filepath.Join(dir, marker)); err == nil {
		return w, nil
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return w, fmt.Errorf("the folder %s is not empty and holds no demo; name a new or empty folder", dir)
	}
	for _, d := range []string{filepath.Join(w.Games, "vesper"), filepath.Join(w.Games, "new"), filepath.Join(w.Stick,
		"ROWAN"), filepath.Join(w.Stick, "HALL-VIDEO")} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return w, fmt.Errorf("making the demo: %w", err)
		}
	}
	for i, v := range vespers {
		if err := v.write(filepath.Join(w.Games, filepath.FromSlash(v.path())), seed+uint64(i)<<32); err != nil {
			return w, fmt.Errorf("making the demo's %s: %w", v.name, err)
		}
		if slices.Contains(covered, v.name) {
			if err := writeAll(filepath.Join(w.Games, filepath.FromSlash(strings.TrimSuffix(v.path(), ".iso")+".png")),
				string(asPNG("front", v.name))); err != nil {
				return w, err
			}
		}
		if v.name == misplaced {
			if err := os.MkdirAll(filepath.Join(dir, "ferry-share", "FULL"), 0o755); err != nil {
				return w, fmt.Errorf("making the demo: %w", err)
			}
			if err := v.write(filepath.Join(dir, "ferry-share", "FULL", "Thimble_Kings_final.iso"),
				seed+uint64(i)<<32); err != nil {
				return w, fmt.Errorf("making the demo's share: %w", err)
			}
		}
		if v.name == onStick {
			if err := os.MkdirAll(filepath.Join(w.Stick, "SHORT"), 0o755); err != nil {
				return w, fmt.Errorf("making the demo: %w", err)
			}
			if err := v.write(filepath.Join(w.Stick, "SHORT", "VSP-21377 - Mosswick.iso"),
				seed+uint64(i)<<32); err != nil {
				return w, fmt.Errorf("making the demo's stick: %w", err)
			}
		}
	}
	small := map[string]string{
		filepath.Join(w.Games, "notes.txt"): "Season list, North Hall first. Ask Odile about the second " +
			"Gannet Patrol.\n",
		filepath.Join(w.Dir, "season-titles.csv"):    TitleList,
		filepath.Join(w.Stick, "ROWAN", "rowan.cfg"): "look=stick\nfaces=yes\nvolume=7\n",
		filepath.Join(w.Stick, "ROWAN", "rowan.run"): "Rowan itself would be here\n",
		filepath.Join(w.Stick, "FERRY-ROTA.txt"):     "Mon North Hall, Tue East Hall, Wed West Hall\n",
		filepath.Join(w.Stick, "SHORT", "spare.iso"): "somebody put this here by hand\n",
	}
	for file, text := range small {
		if err := writeAll(file, text); err != nil {
			return w, err
		}
	}
	if err := found(w.Found, seed); err != nil {
		return w, fmt.Errorf("making the demo's found stick: %w", err)
	}
	games, err := shelf()
	if err != nil {
		return w, fmt.Errorf("making the demo's shelf: %w", err)
	}
	for _, g := range games {
		file := filepath.Join(w.Shelf, filepath.FromSlash(g.name))
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return w, fmt.Errorf("making the demo: %w", err)
		}
		err := writeAll(file, string(g.data))
		if err == nil && g.size > 0 {
			err = errors.Join(extend(file, g.size), os.Chtimes(file, Season, Season))
		}
		if err != nil {
			return w, err
		}
	}
	for i := range reels {
		if err := makeReel(filepath.Join(w.Stick, "HALL-VIDEO", fmt.Sprintf("reel-%d.mov", i+1))); err != nil {
			return w, fmt.Errorf("making the demo's stick: %w", err)
		}
	}
	if err := makeDrives(filepath.Join(dir, "drives")); err != nil {
		return w, err
	}
	if err := w.makeSlabs(); err != nil {
		return w, err
	}
	b := bench.New(w.Bench)
	b.Sources = []bench.Source{{Path: "games"}, {Path: "shelf"}}
	b.Lists = []string{"season-titles.csv"}
	b.Targets = []bench.Target{
		{Name: "North stick", At: "north-stick", Loader: "rowan", Via: "usb", As: "fat32",
			Capacity: bench.Size(StickSpace), Everything: true},
		{Name: "Ferry share", At: "ferry-share", Loader: "rowan", Via: "smb", As: "ext4",
			Capacity: bench.Size(ShareSpace), Reserve: bench.Size(64 * size.GiB),
			Titles: bench.Keys{"VSP-20417", "VSP-21560", "VSP-21762"}},
		{Name: "Hall pocket", At: "hall-pocket", Loader: "bellows", Also: []string{"mica"}, Via: "usb", As: "fat32",
			Model:    "north",
			Capacity: bench.Size(28 * size.GiB), Everything: true},
		{Name: "Corvane disk", At: "corvane-disk", Loader: "gantry", Via: "ftp", As: "exfat",
			Capacity: bench.Size(4800 * size.MiB), NoCovers: true,
			Titles: bench.Keys{"CVN00117", "CVN00130"}},
	}
	b.Covers = covers("http://127.0.0.1:1/") // where it is, [World.Bring] says
	for _, p := range b.Targets[1:] {
		if err := os.MkdirAll(filepath.Join(dir, p.At), 0o755); err != nil {
			return w, fmt.Errorf("making the demo: %w", err)
		}
	}
	if err := w.byHand(); err != nil {
		return w, err
	}
	if err := w.writePictures(); err != nil {
		return w, err
	}
	if err := w.makeSaves(); err != nil {
		return w, err
	}
	if err := b.Save(); err != nil {
		return w, err
	}
	return w, writeAll(filepath.Join(dir, marker), "This folder was made by the demo of Polytome.\n")
}

// The stick holds recordings too, which are none of the loader's business but
// take space.
const (
	reels    = 4
	reelSize = 3988 * mib
)

// extend gives a file a length, without taking up the space for it.
func extend(file string, n int64) error {
	f, err := os.OpenFile(file, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	return errors.Join(sparse.Extend(f, n), f.Close())
}

func makeReel(file string) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	if err := errors.Join(sparse.Extend(f, reelSize), f.Close()); err != nil {
		return err
	}
	return os.Chtimes(file, Season, Season)
}

func writeAll(file, text string) error {
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		return fmt.Errorf("making the demo: %w", err)
	}
	return os.Chtimes(file, Season, Season)
}

func (v vesper) path() string {
	if v.file != "" {
		return v.file
	}
	name := strings.NewReplacer(":", "", " ", "_", "–", "-").Replace(v.name)
	if n, _, ok := strings.Cut(v.disc, "/"); ok {
		name += "_(Disc_" + n + ")"
	}
	return "vesper/" + name + ".iso"
}

// inf is the image's VESPER.INF.
func (v vesper) inf() string {
	disc := v.disc
	if disc == "" {
		disc = "1/1"
	}
	return fmt.Sprintf("ID=VSP-%05d\nNAME=%s\nREGION=%s\nDISC=%s\nKIND=%s\n", v.number, v.name, v.region, disc, v.kind)
}

// write makes the image file.
func (v vesper) write(file string, seed uint64) error {
	src := source{files: map[string]content{
		"VESPER.INF":      {text: v.inf()},
		"START.BIN":       {size: 96 << 10, seed: seed},
		"SOUND/TUNES.DAT": {size: 0, seed: seed + 1},
	}}
	if v.name == pictured {
		src.files["ART/FRONT.PNG"] = content{text: string(asPNG("front", v.name))}
	}
	if v.mistake == unmarked {
		delete(src.files, "VESPER.INF")
	}
	opts := iso9660.Options{VolumeID: fmt.Sprintf("VSP_%05d", v.number), ApplicationID: "GULLWING PLAYROOM",
		Created: Season}
	frame, err := iso9660.Lay(src, opts)
	if err != nil {
		return err
	}
	whole := max(v.size, shortest) / iso9660.SectorSize * iso9660.SectorSize
	src.files["SOUND/TUNES.DAT"] = content{size: whole - frame.Size(), seed: seed + 1}
	im, err := iso9660.Lay(src, opts)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	_ = sparse.Allow(f) // a filesystem without holes is none to wait for
	err = im.WriteSparse(f)
	end := v.size // what is over the last sector is padding
	if v.mistake == truncated {
		end = v.size * 5 / 8
	}
	if err == nil && end != im.Size() {
		err = f.Truncate(end)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Chtimes(file, Season, Season)
}

// source is a tree of made-up files, for the image writer.
type source struct{ files map[string]content }

// content is a file: text, or size bytes of noise with long runs of zeros.
type content struct {
	text string
	size int64
	seed uint64
}

func (c content) length() int64 { return max(c.size, int64(len(c.text))) }

// Noise is spread over a file in runs of runLength, and one at the end: so closely that
// nothing looks as if it had never been written.
const (
	runLength = int64(16) << 10
	runs      = 12
)

func (s source) Open(name string) (fs.File, error) {
	c, ok := s.files[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	f := &file{c: c, info: info{name: filepath.Base(name), size: c.length()}}
	f.SectionReader = io.NewSectionReader(noise{c}, 0, c.length())
	return f, nil
}

func (s source) ReadDir(dir string) ([]fs.DirEntry, error) {
	seen := map[string]info{}
	for name, c := range s.files {
		if dir != "." {
			rest, ok := strings.CutPrefix(name, dir+"/")
			if !ok {
				continue
			}
			name = rest
		}
		first, _, deeper := strings.Cut(name, "/")
		seen[first] = info{name: first, size: c.length(), dir: deeper}
	}
	var out []fs.DirEntry
	for _, i := range seen {
		out = append(out, fs.FileInfoToDirEntry(i))
	}
	slices.SortFunc(out, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return out, nil
}

type file struct {
	*io.SectionReader
	c    content
	info info
}

func (f *file) Stat() (fs.FileInfo, error) { return f.info, nil }
func (f *file) Close() error               { return nil }

// DataRanges tells the image writer where the noise is.
func (f *file) DataRanges() []iso9660.Range {
	n := f.c.length()
	if f.c.text != "" || n <= 2*runLength {
		return []iso9660.Range{{Start: 0, End: n}}
	}
	var out []iso9660.Range
	for at := int64(0); at < n-2*runLength; at += max(n/runs, runLength) {
		out = append(out, iso9660.Range{Start: at, End: at + runLength})
	}
	return append(out, iso9660.Range{Start: n - runLength, End: n})
}

// noise gives the bytes of a file's runs of data: the same at the same offset,
// however they are read.
type noise struct{ c content }

func (n noise) ReadAt(b []byte, off int64) (int, error) {
	if n.c.text != "" {
		k := copy(b, n.c.text[off:])
		if k < len(b) {
			return k, io.EOF
		}
		return k, nil
	}
	var word [8]byte
	for done := 0; done < len(b); {
		at := uint64(off) + uint64(done)
		binary.LittleEndian.PutUint64(word[:], mix(n.c.seed^at/8))
		done += copy(b[done:], word[at%8:])
	}
	return len(b), nil
}

// mix scatters the bits of x (the finaliser of the SplitMix64 generator).
func mix(x uint64) uint64 {
	x += 0x9E3779B97F4A7C15
	x = (x ^ x>>30) * 0xBF58476D1CE4E5B9
	x = (x ^ x>>27) * 0x94D049BB133111EB
	return x ^ x>>31
}

type info struct {
	name string
	size int64
	dir  bool
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.size }
func (i info) ModTime() time.Time { return Season }
func (i info) IsDir() bool        { return i.dir }
func (i info) Sys() any           { return nil }
func (i info) Mode() fs.FileMode {
	if i.dir {
		return fs.ModeDir | 0o755
	}
	return 0o644
}
