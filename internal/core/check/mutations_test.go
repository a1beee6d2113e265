package check_test

import (
	"archive/zip"
	"bytes"
	"context"
	"fmt"
	"hash/crc32"
	"maps"
	"math/rand/v2"
	"path"
	"slices"
	"strings"

	"polytome/internal/demo"
	"polytome/internal/format/packed"
	"polytome/internal/testkit/coretest"
)

// ofKind has a mistake happen to files with certain extensions only: a random one of them.
func ofKind(change mistake, extensions ...string) mistake {
	return func(r *rand.Rand, f files, at string) string {
		var such []string
		for _, name := range slices.Sorted(maps.Keys(f)) {
			if slices.Contains(extensions, strings.ToLower(path.Ext(name))) {
				such = append(such, name)
			}
		}
		if len(such) == 0 {
			return ""
		}
		return change(r, f, such[r.IntN(len(such))])
	}
}

// edited changes what a text says.
func edited(what string, change func(r *rand.Rand, text string) string) mistake {
	return ofKind(func(r *rand.Rand, f files, at string) string {
		f[at] = []byte(change(r, string(f[at])))
		return what + " " + at
	}, texts...)
}

// texts are the extensions of the texts that loaders read.
var texts = []string{".cue", ".m3u", ".toml", ".cfg", ".tune", ".json", ".prefs", ".script", ".about", ".lst"}

// byLine changes the lines of a text; which is a random one of them.
func byLine(what string, change func(r *rand.Rand, lines []string, which int) []string) mistake {
	return edited(what, func(r *rand.Rand, text string) string {
		lines := strings.SplitAfter(text, "\n")
		if n := len(lines); lines[n-1] == "" {
			lines = lines[:n-1]
		}
		if len(lines) == 0 {
			return text
		}
		return strings.Join(change(r, lines, r.IntN(len(lines))), "")
	})
}

// inZip is a zip of files, by name.
func inZip(all ...any) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(all); i += 2 {
		w, err := z.Create(all[i].(string))
		if err != nil {
			panic(err)
		}
		if data, ok := all[i+1].([]byte); ok {
			_, _ = w.Write(data)
		}
	}
	if err := z.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// zips gives a random zip other contents.
func zips(what string, with func(r *rand.Rand, old []byte) []byte) mistake {
	return ofKind(func(r *rand.Rand, f files, at string) string {
		f[at] = with(r, f[at])
		return what + " " + at
	}, ".zip")
}

// beside puts a file beside a random one.
func beside(what string, name func(at string) string, data func(f files, at string) []byte) mistake {
	return func(_ *rand.Rand, f files, at string) string {
		to := path.Join(path.Dir(at), name(path.Base(at)))
		if _, there := f[to]; there {
			return ""
		}
		f[to] = data(f, at)
		return what + " " + to
	}
}

func fixed(data string) func(files, string) []byte {
	return func(files, string) []byte { return []byte(data) }
}

func same(f files, at string) []byte { return f[at] }

// cart changes a cartridge's header.
func cart(what string, change func(b []byte)) mistake {
	return ofKind(func(_ *rand.Rand, f files, at string) string {
		b := bytes.Clone(f[at])
		if len(b) < 0x40 {
			return ""
		}
		change(b)
		f[at] = b
		return what + " " + at
	}, ".w8", ".fin", ".k64")
}

// resum gives a header the sum that it has.
func resum(b []byte) {
	var sum uint16
	for _, c := range b[:0x3E] {
		sum += uint16(c)
	}
	b[0x3E], b[0x3F] = byte(sum), byte(sum>>8)
}

// game puts an image in the place of another one.
func game(what string, make func(t coretest.T, old []byte) []byte) mistake {
	return ofKind(func(_ *rand.Rand, f files, at string) string {
		f[at] = make(panics{}, f[at])
		return what + " " + at
	}, ".iso")
}

// panics is a test that ends where it fails.
type panics struct{}

func (panics) Helper()                        {}
func (panics) Fatalf(format string, a ...any) { panic(fmt.Sprintf(format, a...)) }

// finer are mistakes in texts, archives, headers and sheets, and what systems leave.
var finer = []mistake{
	edited("a byte order mark in", func(_ *rand.Rand, s string) string { return "\uFEFF" + s }),
	edited("CR LF in", func(_ *rand.Rand, s string) string { return strings.ReplaceAll(s, "\n", "\r\n") }),
	edited("CR alone in", func(_ *rand.Rand, s string) string { return strings.ReplaceAll(s, "\n", "\r") }),
	edited("mixed line ends in", func(_ *rand.Rand, s string) string { return strings.Replace(s, "\n", "\r\n", 1) }),
	edited("upper case in", func(_ *rand.Rand, s string) string { return strings.ToUpper(s) }),
	edited("lower case in", func(_ *rand.Rand, s string) string { return strings.ToLower(s) }),
	edited("no line end at the end of", func(_ *rand.Rand, s string) string { return strings.TrimRight(s, "\n") }),
	edited("blank lines at the end of", func(_ *rand.Rand, s string) string { return s + "\n\n\n" }),
	edited("blank lines at the beginning of", func(_ *rand.Rand, s string) string { return "\n\n" + s }),
	edited("nothing but spaces in", func(_ *rand.Rand, s string) string { return "  \n \n" }),
	edited("a comment in front of", func(_ *rand.Rand, s string) string { return "# mine\n" + s }),
	edited("another comment in front of", func(_ *rand.Rand, s string) string { return "; mine\n" + s }),
	edited("a comment at the end of", func(_ *rand.Rand, s string) string { return s + "# mine\n" }),
	edited("a zero byte at the end of", func(_ *rand.Rand, s string) string { return s + "\x00" }),
	edited("no quotes in", func(_ *rand.Rand, s string) string { return strings.ReplaceAll(s, "\"", "") }),
	edited("other quotes in", func(_ *rand.Rand, s string) string { return strings.ReplaceAll(s, "\"", "'") }),
	edited("spaces around signs in",
		func(_ *rand.Rand, s string) string { return strings.ReplaceAll(s, "=", "  =  ") }),
	edited("no spaces around signs in",
		func(_ *rand.Rand, s string) string { return strings.ReplaceAll(s, " = ", "=") }),
	edited("tabs in", func(_ *rand.Rand, s string) string { return strings.ReplaceAll(s, " ", "\t") }),
	edited("another number in", func(r *rand.Rand, s string) string {
		i := strings.IndexAny(s, "0123456789")
		if i < 0 {
			return s
		}
		return s[:i] + string("0123456789"[r.IntN(10)]) + s[i+1:]
	}),
	edited("no before yes in", func(_ *rand.Rand, s string) string { return strings.Replace(s, "yes", "no", 1) }),
	edited("a value of another case in",
		func(_ *rand.Rand, s string) string { return strings.Replace(s, "yes", "YES", 1) }),
	edited("a path in", func(_ *rand.Rand, s string) string { return strings.Replace(s, "FILE \"", "FILE \"./", 1) }),
	edited("a backslash in", func(_ *rand.Rand,
		s string) string {
		return strings.Replace(s, "FILE \"", "FILE \"x\\\\", 1)
	}),
	edited("another mode in", func(r *rand.Rand, s string) string {
		return strings.Replace(s, "MODE1/2048", []string{"MODE1/2352", "MODE2/2352", "AUDIO", "MODE9/1",
			"MODE2/2336"}[r.IntN(5)], 1)
	}),
	edited("another kind of file in",
		func(_ *rand.Rand, s string) string { return strings.Replace(s, "BINARY", "WAVE", 1) }),
	edited("no index in", func(_ *rand.Rand,
		s string) string {
		return strings.Replace(s, "    INDEX 01 00:00:00\n", "", 1)
	}),
	edited("a time beyond the end in",
		func(_ *rand.Rand, s string) string { return strings.Replace(s, "00:00:00", "99:00:00", 1) }),
	edited("a time that is none in",
		func(_ *rand.Rand, s string) string { return strings.Replace(s, "00:00:00", "00:61:00", 1) }),
	edited("another ID in", func(_ *rand.Rand,
		s string) string {
		return strings.Replace(s, "MRD-0117", "MRD-0118", 1)
	}),
	edited("a name that is empty in",
		func(_ *rand.Rand, s string) string { return strings.Replace(s, "Slow Lantern", "", 1) }),
	edited("a number for a name in",
		func(_ *rand.Rand, s string) string { return strings.Replace(s, "\"Slow Lantern\"", "7", 1) }),
	edited("another sum in", func(_ *rand.Rand, s string) string {
		i := strings.Index(s, "crc32 = \"")
		if i < 0 {
			return s
		}
		return s[:i+9] + "00000000" + s[i+17:]
	}),
	edited("a name in", func(_ *rand.Rand, s string) string { return "name = \"Another Name\"\n" + s }),
	byLine("a line less in", func(_ *rand.Rand, l []string, i int) []string { return slices.Delete(l, i, i+1) }),
	byLine("a line twice in", func(_ *rand.Rand, l []string, i int) []string { return slices.Insert(l, i, l[i]) }),
	byLine("a line at the end once more in", func(_ *rand.Rand, l []string, i int) []string { return append(l, l[i]) }),
	byLine("two lines swapped in", func(r *rand.Rand, l []string, i int) []string {
		j := r.IntN(len(l))
		l[i], l[j] = l[j], l[i]
		return l
	}),
	byLine("spaces in front of a line in", func(_ *rand.Rand, l []string,
		i int) []string {
		l[i] = "   " + l[i]
		return l
	}),
	byLine("spaces behind a line in", func(_ *rand.Rand, l []string, i int) []string {
		l[i] = strings.TrimRight(l[i], "\n") + "   \n"
		return l
	}),
	byLine("a strange line in", func(_ *rand.Rand, l []string,
		i int) []string {
		return slices.Insert(l, i, "what is this\n")
	}),
	byLine("a strange key in", func(_ *rand.Rand, l []string,
		i int) []string {
		return slices.Insert(l, i, "other = \"x\"\n")
	}),
	byLine("a line out of place in", func(_ *rand.Rand, l []string, i int) []string {
		x := l[i]
		return append(slices.Delete(l, i, i+1), x)
	}),
	byLine("a line that begins with a sign in", func(_ *rand.Rand, l []string,
		i int) []string {
		l[i] = "#" + l[i]
		return l
	}),
	byLine("a value changed in", func(r *rand.Rand, l []string, i int) []string {
		if k, _, ok := strings.Cut(l[i], "="); ok {
			l[i] = k + "=" + []string{"", "x", "\"y\"", "12"}[r.IntN(4)] + "\n"
		}
		return l
	}),

	zips("garbage in", func(*rand.Rand, []byte) []byte { return []byte("this was a download that failed") }),
	zips("a good beginning of", func(_ *rand.Rand, old []byte) []byte { return old[:len(old)/2] }),
	zips("nothing packed in", func(*rand.Rand, []byte) []byte { return inZip() }),
	zips("another platform's game in",
		func(*rand.Rand, []byte) []byte { return inZip("Ropewalk.w8", demo.Cartridge("WREN", "Ropewalk")) }),
	zips("two games in", func(*rand.Rand, []byte) []byte {
		return inZip("a.fin", demo.Cartridge("FNCH", "a"), "b.fin", demo.Cartridge("FNCH", "b"))
	}),
	zips("a game and one of another platform in", func(*rand.Rand, []byte) []byte {
		return inZip("a.fin", demo.Cartridge("FNCH", "a"), "b.w8", demo.Cartridge("WREN", "b"))
	}),
	zips("another platform's first in", func(*rand.Rand, []byte) []byte {
		return inZip("a.w8", demo.Cartridge("WREN", "a"), "b.fin", demo.Cartridge("FNCH", "b"))
	}),
	zips("a game and a text in", func(*rand.Rand, []byte) []byte {
		return inZip("read me.txt", []byte("hello"), "a.fin", demo.Cartridge("FNCH", "a"))
	}),
	zips("a folder in", func(*rand.Rand,
		[]byte) []byte {
		return inZip("in/", nil, "in/a.fin", demo.Cartridge("FNCH", "a"))
	}),
	zips("a game of another extension in",
		func(*rand.Rand, []byte) []byte { return inZip("a.rom", demo.Cartridge("FNCH", "a")) }),
	zips("a game in capitals in", func(*rand.Rand,
		[]byte) []byte {
		return inZip("A.FIN", demo.Cartridge("FNCH", "a"))
	}),
	zips("a game with another header in",
		func(*rand.Rand, []byte) []byte { return inZip("a.fin", demo.Cartridge("WREN", "a")) }),
	zips("an empty game in", func(*rand.Rand, []byte) []byte { return inZip("a.fin", []byte{}) }),
	zips("a zip in", func(_ *rand.Rand, old []byte) []byte { return inZip("a.zip", old) }),
	zips("what a system leaves in", func(*rand.Rand, []byte) []byte {
		return inZip("a.fin", demo.Cartridge("FNCH", "a"), "__MACOSX/._a.fin", []byte("\x00\x05\x16\x07"))
	}),
	zips("a spoilt byte in", func(_ *rand.Rand, old []byte) []byte {
		b := bytes.Clone(old)
		if len(b) > 80 {
			b[60] ^= 0x10
		}
		return b
	}),
	zips("a text behind", func(_ *rand.Rand, old []byte) []byte { return append(bytes.Clone(old), "downloaded"...) }),
	zips("a text before", func(_ *rand.Rand, old []byte) []byte { return append([]byte("#!run\n"), old...) }),

	beside("what a system leaves:", func(b string) string { return "._" + b }, fixed("\x00\x05\x16\x07\x00\x02")),
	beside("what a system leaves:", func(string) string { return ".DS_Store" }, fixed("\x00\x00\x00\x01Bud1")),
	beside("what a system leaves:", func(string) string { return "Thumbs.db" }, fixed("\xd0\xcf\x11\xe0")),
	beside("what a system leaves:", func(string) string { return "desktop.ini" }, fixed("[.ShellClassInfo]\r\n")),
	beside("what a system leaves:", func(b string) string { return "__MACOSX/._" + b }, fixed("\x00\x05\x16\x07")),
	func(_ *rand.Rand, f files, _ string) string {
		f["System Volume Information/WPSettings.dat"] = []byte("x")
		return "what a system leaves at the root"
	},
	beside("a cover for a disc:", func(b string) string { return strings.TrimSuffix(b, path.Ext(b)) + "-disc.png" },
		same),
	beside("a cover:", func(b string) string { return strings.TrimSuffix(b, path.Ext(b)) + ".jpg" },
		func(files, string) []byte { return shown(90, 90) }),
	beside("a cover in another format:", func(b string) string { return strings.TrimSuffix(b, path.Ext(b)) + ".png" },
		func(files, string) []byte { return shown(90, 90) }),
	beside("notes:", func(b string) string { return strings.TrimSuffix(b, path.Ext(b)) + ".txt" }, fixed("notes")),
	beside("a half download:", func(b string) string { return b + ".part" }, fixed("x")),
	beside("another download:", func(b string) string { return b + ".crdownload" }, fixed("x")),
	beside("a backup:", func(b string) string { return b + "~" }, same),
	beside("a second sheet of equal text:",
		func(b string) string { return strings.TrimSuffix(b, path.Ext(b)) + " II" + path.Ext(b) }, same),
	beside("a third one:", func(b string) string { return "Other" + path.Ext(b) }, same),
	beside("a track:", func(string) string { return "left over.bin" }, fixed(strings.Repeat("x", 2352))),

	cart("another sum in", func(b []byte) { b[0x3E] ^= 1 }),
	cart("no name in", func(b []byte) { clear(b[0x10:0x28]); resum(b) }),
	cart("spaces for a name in", func(b []byte) { copy(b[0x10:0x28], strings.Repeat(" ", 24)); resum(b) }),
	cart("another magic in", func(b []byte) { copy(b, "HERN"); resum(b) }),
	cart("no magic in", func(b []byte) { copy(b, "xxxx"); resum(b) }),
	cart("a name of other letters in", func(b []byte) { copy(b[0x10:], "\xe9\xff\x80"); resum(b) }),

	game("an image of no game at", func(t coretest.T, _ []byte) []byte { return coretest.Image(t, "") }),
	game("an image of another platform at",
		func(t coretest.T, _ []byte) []byte { return coretest.Siskin(t, "SK-0001", "Other") }),
	game("an image of another disc at", func(t coretest.T, _ []byte) []byte {
		return coretest.Image(t, coretest.Inf("VSP-99999", "Other", "1/1", "full"))
	}),
	game("an image of another kind at", func(t coretest.T, _ []byte) []byte {
		return coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "short"))
	}),
	game("an image of no kind at", func(t coretest.T, _ []byte) []byte {
		return coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "1/1", "tall"))
	}),
	game("an image without a name at", func(t coretest.T, _ []byte) []byte {
		return coretest.Image(t, coretest.Inf("VSP-20417", "", "1/1", "full"))
	}),
	game("an image with a low ID at", func(t coretest.T, _ []byte) []byte {
		return coretest.Image(t, coretest.Inf("vsp-20417", "Copper Tide", "1/1", "full"))
	}),
	game("an image with keys in small letters at", func(t coretest.T, _ []byte) []byte {
		return coretest.Image(t, strings.ToLower(coretest.Inf("VSP-20417", "Copper Tide", "1/1", "full")))
	}),
	game("an image with a wrong disc at", func(t coretest.T, _ []byte) []byte {
		return coretest.Image(t, coretest.Inf("VSP-20417", "Copper Tide", "9", "full"))
	}),
	game("an image with something behind it at",
		func(_ coretest.T, old []byte) []byte { return append(bytes.Clone(old), make([]byte, 2048)...) }),

	ofKind(func(_ *rand.Rand, f files, at string) string { // packed, but compressed
		var out bytes.Buffer
		disc := append(demo.SkuaDisc("SKUADISC", path.Base(path.Dir(at)), 1, "Pressed"), make([]byte, 200_000)...)
		if _, err := packed.Pack(context.Background(), &out, bytes.NewReader(disc),
			packed.Options{Compress: true}); err != nil {
			panic(err)
		}
		f[at] = out.Bytes()
		return "compressed " + at
	}, ".pkd"),
	ofKind(func(_ *rand.Rand, f files, at string) string { // an image that is not packed
		f[at] = demo.SkuaDisc("SKUADISC", path.Base(path.Dir(at)), 1, "Plain")
		return "not packed " + at
	}, ".pkd"),
	ofKind(func(_ *rand.Rand, f files, at string) string { // a list of parts that tells more
		f[at] = append(bytes.Clone(f[at]), fmt.Sprintf("\n[[part]]\nfile = \"003.rwn\"\nlength = 4\ncrc32 = \"%08x\"\n",
			crc32.ChecksumIEEE([]byte("more")))...)
		f[path.Join(path.Dir(at), "003.rwn")] = []byte("more")
		return "one part more in " + at
	}, ".toml"),
	ofKind(func(_ *rand.Rand, f files, at string) string {
		delete(f, path.Join(path.Dir(at), "parts.toml"))
		return "no list beside " + at
	}, ".rwn"),
}

func init() { mistakes = append(mistakes, finer...) }
