package reading_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"strings"
	"testing"
	"testing/fstest"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"
	"pgregory.net/rapid"

	"polytome/internal/core/loader"
	"polytome/internal/core/reading"
)

func platform(t testing.TB, text string) *loader.Platform {
	p, err := loader.ParsePlatform("mine.toml",
		[]byte("format = 1\nname = \"mine\"\nshown = \"Mine\"\nforms = [\"folder\"]\n"+
			text))
	require.NoError(t, err)
	return p
}

func files(all map[string]string) fstest.MapFS {
	out := fstest.MapFS{}
	for name, text := range all {
		out[name] = &fstest.MapFile{Data: []byte(text)}
	}
	return out
}

// read reads a field of a folder that the platform's first marker is in.
func read(t testing.TB, p *loader.Platform, in fstest.MapFS, called, field string) reading.Value {
	whole := &reading.Source{Name: called, FS: in, Called: called + ".", CalledFrom: "the name of the folder"}
	for i := range p.Markers {
		at, _, err := whole.Marked(&p.Markers[i])
		require.NoError(t, err)
		if at == nil {
			continue
		}
		known := map[string]string{}
		for _, name := range loader.FieldNames {
			v, err := at.Read(name, p.Fields.Named(name), &p.Markers[i], func(n string) string { return known[n] })
			require.NoError(t, err)
			if known[name] = v.Text; name == field {
				return v
			}
		}
	}
	require.Fail(t, "no marker is there")
	return reading.Value{}
}

func encoded(t testing.TB, text string) string {
	out, err := japanese.ShiftJIS.NewEncoder().String(text)
	require.NoError(t, err)
	return out
}

func TestValuesAreReadWhereTheyStand(t *testing.T) {
	wide, err := unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewEncoder().String("first\r\nひかり\r\n")
	require.NoError(t, err)
	menu := "# menu\r\nexec \"card:/bin/PLV-0192.run\" 3\r\n"
	data := make([]byte, 8192)
	copy(data[16:], "\x34\x12\x00\x00")
	copy(data[len(data)-16:], "end PLV-0700 end")
	for name, c := range map[string]struct {
		description, field string
		files              map[string]string
		want, from         string
	}{
		"inside a line": {"[[marker]]\nfile = \"MENU.TXT\"\nsyntax = \"lines\"\n[field.id]\nsearch = true\n" +
			`pattern = '/bin/(?P<id>PLV-[0-9]{4})\.run'`, "id", map[string]string{"menu.txt": menu}, "PLV-0192",
			"menu.txt, line 2"},
		"behind a line's other value": {"[[marker]]\nfile = \"MENU.TXT\"\n[field.disc]\nsearch = true\n" +
			`pattern = 'run" (?P<value>[0-9])$'`, "disc", map[string]string{"menu.txt": menu}, "3", "menu.txt, line 2"},
		"a line's part": {"[[marker]]\nfile = \"MENU.TXT\"\nsyntax = \"lines\"\n[field.name]\nline = 1\n" +
			`pattern = '# (?P<name>.*)'` + "\nas = \"upper|replace:E:3\"", "name", map[string]string{"menu.txt": menu},
			"M3NU",
			"menu.txt, line 1"},
		"a pointer": {"[[marker]]\nfile = \"a.json\"\nsyntax = \"json\"\n[field.name]\nkey = \"/games/1/a~1b\"", "name",
			map[string]string{"a.json": `{"games":[1,{"a/b":" Salt Ledger "}]}`}, "Salt Ledger",
			"a.json, key /games/1/a~1b"},
		"a long number": {"[[marker]]\nfile = \"a.json\"\nsyntax = \"json\"\n[field.id]\nkey = \"n\"", "id",
			map[string]string{"a.json": `{"n":12345678901234567890}`}, "12345678901234567890", "a.json, key n"},
		"an element": {"[[marker]]\nfile = \"a.xml\"\nsyntax = \"xml\"\n[field.name]\nkey = \"set/game/title\"", "name",
			map[string]string{"a.xml": `<set><other><title>no</title></other><title>no</title>` +
				`<game id="7"><x><title>no</title></x><title>Salt &amp; <b>Ledger</b></title></game></set>`},
			"Salt & Ledger", "a.xml, key set/game/title"},
		"an attribute": {"[[marker]]\nfile = \"a.xml\"\nsyntax = \"xml\"\n[field.id]\nkey = \"set/game/@id\"", "id",
			map[string]string{"a.xml": `<?xml version="1.0"?><set id="0"><game/><game id="7"/></set>`}, "7",
			"a.xml, key set/game/@id"},
		"a section": {"[[marker]]\nfile = \"a.ini\"\nsyntax = \"ini\"\n[field.name]\nsection = \"game\"\nkey = " +
			"\"title\"",
			"name", map[string]string{"a.ini": "title=no\n[Other]\ntitle=no\n[ Game ]\n;title=no\nTITLE = Salt = " +
				"Ledger\n"},
			"Salt = Ledger", "a.ini, line 6"},
		"another encoding": {"[[marker]]\nfile = \"a.txt\"\nsyntax = \"key=value\"\nencoding = " +
			"\"shift-jis\"\n[field.name]\n" +
			"key = \"N\"", "name", map[string]string{"a.txt": encoded(t, "N=ソース")}, "ソース", "a.txt, line 1"},
		"wide letters": {"[[marker]]\nfile = \"a.txt\"\nsyntax = \"lines\"\nencoding = " +
			"\"utf-16be\"\n[field.name]\nline = 2",
			"name", map[string]string{"a.txt": wide}, "ひかり", "a.txt, line 2"},
		"a number from the left": {"[[marker]]\nfile = \"d.bin\"\nsyntax = \"binary\"\n[field.id]\noffset = " +
			"16\nlength = 4\n" +
			"encoding = \"number-le\"", "id", map[string]string{"d.bin": string(data)}, "4660", "d.bin, byte 0x10"},
		"a number from the right": {"[[marker]]\nfile = \"d.bin\"\nsyntax = \"binary\"\n[field.id]\noffset = " +
			"16\nlength = 4\n" +
			"encoding = \"number-be\"", "id", map[string]string{"d.bin": string(data)}, "873594880",
			"d.bin, byte 0x10"},
		"at the end": {"[[marker]]\nfile = \"d.bin\"\nsyntax = \"binary\"\n[field.id]\noffset = -12\nlength = 8\n" +
			"encoding = \"ascii\"", "id", map[string]string{"d.bin": string(data)}, "PLV-0700",
			"d.bin, byte 0xC from the end"},
		"anywhere near the end": {"[[marker]]\nfile = \"d.bin\"\nsyntax = \"binary\"\n[field.id]\nsearch = true\n" +
			"offset = -1024\nlength = 1024\npattern = 'PLV-[0-9]+'", "id", map[string]string{"d.bin": string(data)},
			"PLV-0700",
			"d.bin, behind byte 0x400 from the end"},
		"in the folder's name": {"[[marker]]\nfile = \"d.bin\"\n[field.id]\nfilename = true\npattern = " +
			"'(?i)plv-[0-9]{4}'\n" +
			"[[field.id.or]]\nfilename = true\npattern = '\\[(?P<id>[a-z]+)\\]'\nas = \"upper\"", "id",
			map[string]string{"d.bin": "x"}, "ABC", "the name of the folder"},
		"in another value": {"[[marker]]\nfile = \"MENU.TXT\"\n[field.id]\nsearch = true\npattern = 'PLV-[0-9]+'\n" +
			"[field.region]\nof = \"id\"\npattern = '^PL(?P<value>.)'\nvalues = { V = \"North\" }", "region",
			map[string]string{"menu.txt": menu}, "North", "the id"},
		"in one of several files": {"[[marker]]\nfile = \"MENU.TXT\"\n[field.name]\nfile = \"no.txt\"\nline = 1\n" +
			"[[field.name.or]]\nfile = \"about/*.txt\"\nline = 2\n[[field.name.or]]\nfilename = true", "name",
			map[string]string{"menu.txt": menu, "about/text.txt": "\nSalt Ledger\n"}, "Salt Ledger",
			"text.txt, line 2"},
		"with another marker": {"[[marker]]\nfile = \"new.txt\"\nsyntax = \"lines\"\n[[marker]]\nfile = \"bin/*.run\"\n" +
			"syntax = \"lines\"\n[field.id]\nline = 1", "id", map[string]string{"bin/a.run": "PLV-1"}, "PLV-1",
			"a.run, line 1"},
		"what is not there": {"[[marker]]\nfile = \"MENU.TXT\"\n[field.id]\nsearch = true\npattern = 'XX-[0-9]+'", "id",
			map[string]string{"menu.txt": menu}, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			v := read(t, platform(t, c.description), files(c.files), "Game [abc]", c.field)
			assert.Equal(t, [2]string{c.want, c.from}, [2]string{v.Text, v.From})
			assert.Equal(t, c.want != "", v.Found)
			assert.False(t, v.Odd)
		})
	}
}

// TestWhatDoesNotFitIsGivenWithItsText: the text is there, and the description does not fit it.
func TestWhatDoesNotFitIsGivenWithItsText(t *testing.T) {
	p := platform(t, "[[marker]]\nfile = \"A.TXT\"\nsyntax = \"lines\"\n[field.id]\nline = 1\npattern = '^X-[0-9]$'\n"+
		"[[field.id.or]]\nline = 2\npattern = '^X-[0-9]$'")
	v := read(t, p, files(map[string]string{"a.txt": "X-12\nX-13"}), "x", "id")
	assert.Equal(t, reading.Value{Text: "X-12", From: "a.txt, line 1", Found: true, Odd: true}, v)
	v = read(t, p, files(map[string]string{"a.txt": "X-12\nX-3"}), "x", "id")
	assert.Equal(t, reading.Value{Text: "X-3", From: "a.txt, line 2", Found: true}, v)
}

func TestMarkersTellGamesFromOthers(t *testing.T) {
	sound := map[string]string{"game.dat": "....\x7e\x11\x99\xc0 and more", "bin/run": "x",
		"text.txt": "starts card:/bin"}
	for marker, c := range map[string]struct {
		without []string          // what is taken away
		with    map[string]string // what else is there
		want    bool
	}{
		"file = \"GAME.DAT\"\nhex = \"7e 11 ?? c0\"\noffset = 4":   {nil, nil, true},
		"file = \"GAME.DAT\"\nhex = \"7E 11 ?? C1\"\noffset = 4":   {nil, nil, false},
		"file = \"GAME.DAT\"\nmagic = \"more\"\noffset = -4":       {nil, nil, true},
		"file = \"GAME.DAT\"\nmagic = \"mere\"\noffset = -4":       {nil, nil, false},
		"file = \"GAME.DAT\"\nmagic = \"....\"\noffset = 4000":     {nil, nil, false},
		"file = \"text.txt\"\npattern = 'card:/'":                  {nil, nil, true},
		"file = \"text.txt\"\npattern = '^card:/'":                 {nil, nil, false},
		"file = \"game.dat\"\npattern = 'more'\nlength = 4":        {nil, nil, false},
		"file = \"game.dat\"\npattern = 'more'\nlength = 400":      {nil, nil, true},
		"file = \"game.dat\"\nwith = [\"BIN\", \"*.txt\"]":         {nil, nil, true},
		"file = \"game.dat\"\nwith = [\"bin/*\", \"text.txt\"]":    {[]string{"text.txt"}, nil, false},
		"file = \"game.dat\"\nwithout = [\"NEW/*.sys\"]":           {nil, nil, true},
		"file = \"game.dat\"\nwithout = [\"new/*.sys\", \"none\"]": {nil, map[string]string{"New/a.SYS": ""}, false},
		"file = \"game.dat\"\nnamed = '^Salt'":                     {nil, nil, true},
		"file = \"game.dat\"\nnamed = '^salt'":                     {nil, nil, false},
		"file = \"game.dat\"\nvolume = '^S'":                       {nil, nil, false},
		"file = \"*.dat\"":                                         {nil, map[string]string{"b.dat": ""}, false},
	} {
		p := platform(t, "[[marker]]\n"+marker)
		in := files(sound)
		for _, name := range c.without {
			delete(in, name)
		}
		for name, text := range c.with {
			in[name] = &fstest.MapFile{Data: []byte(text)}
		}
		whole := &reading.Source{Name: "Salt Ledger", FS: in, Called: "Salt Ledger."}
		at, _, err := whole.Marked(&p.Markers[0])
		require.NoError(t, err, marker)
		assert.Equal(t, c.want, at != nil, marker)
	}
}

func TestTheKindFollowsFromWhatAGameIsLike(t *testing.T) {
	p := platform(t, "[[marker]]\nfile = \"a\"\n[[kind]]\nname = \"film\"\nfile = \"FILM/*\"\n[[kind]]\nname = "+
		"\"trial\"\n"+
		"id = '^T-'\n[[kind]]\nname = \"large\"\nsmallest = 1000\n[[kind]]\nname = \"small\"\nlargest = 999\n[[kind]]\n"+
		"name = \"odd\"")
	for id, c := range map[string]struct {
		size int64
		file string
		want string
	}{"T-1": {1, "a", "trial"}, "T-2": {1, "film/a", "film"}, "G-1": {999, "a", "small"}, "G-2": {1000, "a", "large"}} {
		s := &reading.Source{Game: c.size, FS: files(map[string]string{c.file: ""})}
		assert.Equal(t, c.want, s.Kind(p, id), id)
	}
}

// TestSumsAndLengthsInHeaders spoils each byte that a check goes over, and what stands for it.
func TestSumsAndLengthsInHeaders(t *testing.T) {
	data := []byte(strings.Repeat("Salt Ledger, 123456789 ", 12))
	var xor, sum byte
	var wide uint16
	for _, b := range data[8:40] {
		xor, sum, wide = xor^b, sum+b, wide+uint16(b)
	}
	for is, c := range map[string]struct {
		more string
		want []byte
	}{
		"xor8": {"", []byte{xor}}, "sum8": {"", []byte{sum}},
		"sum16":       {"order = \"big\"", binary.BigEndian.AppendUint16(nil, wide)},
		"crc32":       {"", binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(data[8:40]))},
		"crc16":       {"", nil},
		"crc16-ccitt": {"order = \"big\"", nil},
	} {
		p := platform(t, fmt.Sprintf("[[marker]]\nfile = \"a\"\n[[check]]\nis = %q\nat = -8\nfrom = 8\nto = 40\n%s", is,
			c.more))
		h := &p.Checks[0]
		b := bytes.Clone(data)
		at := len(b) - 8
		if c.want == nil { // the same by a division, bit by bit
			c.want = divided(is, b[8:40])
		}
		copy(b[at:], c.want)
		of := func(b []byte) string { return reading.Of(bytes.NewReader(b), int64(len(b)), "a").Wrong(h) }
		require.Empty(t, of(b), is)
		for _, n := range []int{8, 20, 39, at, at + len(c.want) - 1} {
			spoilt := bytes.Clone(b)
			spoilt[n] ^= 4
			assert.Contains(t, of(spoilt), "its header is damaged", "%s, byte %d", is, n)
		}
		spoilt := bytes.Clone(b)
		spoilt[7], spoilt[40] = 0, 0
		assert.Empty(t, of(spoilt), is)
		assert.Contains(t, of(b[:20]), "ends within its header", is)
	}
	p := platform(t, "[[marker]]\nfile = \"a\"\n[[check]]\nis = \"length\"\nat = 2\nbytes = 2\nunit = "+
		"\"1KiB\"\norder = \"big\"")
	b := make([]byte, 3000)
	b[3] = 3
	of := func(b []byte) string { return reading.Of(bytes.NewReader(b), int64(len(b)), "a").Wrong(&p.Checks[0]) }
	assert.Empty(t, of(b))
	assert.Equal(t, "its header says that it has 3 times 1,024 bytes, but the file has 2,000 bytes: it is cut short",
		of(b[:2000]))
	assert.Contains(t, of(append(b, b...)), "but the file has 6,000 bytes")
}

// divided is a CRC of 16 bits, a bit at a time.
func divided(is string, b []byte) []byte {
	var c uint16
	for _, x := range b {
		for i := range 8 {
			if is == "crc16" {
				bit := x >> i & 1
				if c&1 != uint16(bit) {
					c = c>>1 ^ 0xA001
				} else {
					c >>= 1
				}
			} else {
				bit := x >> (7 - i) & 1
				if c>>15 != uint16(bit) {
					c = c<<1 ^ 0x1021
				} else {
					c <<= 1
				}
			}
		}
	}
	if is == "crc16" {
		return binary.LittleEndian.AppendUint16(nil, c)
	}
	return binary.BigEndian.AppendUint16(nil, c)
}

// TestWideLettersThatAreFilledUpWithBytes: some fill the field of a text in UTF-16 with the byte of a space.
func TestWideLettersThatAreFilledUpWithBytes(t *testing.T) {
	assert.Equal(t, "Oar 6", reading.Decode([]byte("O\x00a\x00r\x00 \x006\x00      "), "utf-16le"))
	assert.Equal(t, "Oar", reading.Decode([]byte("\x00O\x00a\x00r    \x00\x00ab"), "utf-16be"))
}

// TestAnyTextIsFoundAgain writes a value into each kind of text, among others, and reads it.
func TestAnyTextIsFoundAgain(t *testing.T) {
	word := rapid.StringMatching(`[A-Za-z][A-Za-z0-9]{0,8}`)
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.StringMatching(`[A-Za-z0-9é][A-Za-z0-9 &<>"'é.;:-]{0,20}[A-Za-z0-9]`).Draw(t, "value")
		key := word.Draw(t, "key")
		others := rapid.SliceOfNDistinct(word.Filter(func(s string) bool { return !strings.EqualFold(s, key) }), 0, 5,
			strings.ToLower).Draw(t, "others")
		before := rapid.IntRange(0, len(others)).Draw(t, "before")
		keys := append(append(append([]string{}, others[:before]...), key), others[before:]...)
		of := func(k string) string {
			if k == key {
				return value
			}
			return "no"
		}
		whole := map[string]string{}
		for _, k := range keys {
			whole[k] = of(k)
		}
		js, err := json.MarshalIndent(map[string]any{"a": []any{whole}}, "", " ")
		if err != nil {
			t.Fatal(err)
		}
		var lines, ini, xml strings.Builder
		ini.WriteString(key + "=outside\n[one]\n" + key + "=no\n[two]\n")
		xml.WriteString("<a>")
		escape := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;")
		for _, k := range keys {
			fmt.Fprintf(&lines, "%s = %s\r\n", k, of(k))
			fmt.Fprintf(&ini, "%s=%s\n", k, of(k))
			fmt.Fprintf(&xml, "<b>%s</b><%s>\n%s</%s>", escape.Replace(value), k, escape.Replace(of(k)), k)
		}
		xml.WriteString("</a>")
		for syntax, c := range map[string][2]string{"json": {string(js), "key = \"/a/0/" + key + "\""},
			"key=value": {lines.String(), "key = \"" + key + "\""},
			"ini":       {ini.String(), "section = \"two\"\nkey = \"" + key + "\""},
			"xml":       {xml.String(), "key = \"a/" + key + "\""}} {
			if syntax == "xml" && key == "b" {
				continue
			}
			p, err := loader.ParsePlatform("x",
				[]byte("format = 1\nname = \"mine\"\nshown = \"Mine\"\nforms = [\"folder\"]\n[[marker]]\n"+
					"file = \"t\"\nsyntax = \""+syntax+"\"\n[field.name]\n"+c[1]))
			if err != nil {
				t.Fatal(err)
			}
			whole := &reading.Source{FS: files(map[string]string{"t": c[0]})}
			at, _, err := whole.Marked(&p.Markers[0])
			if err != nil || at == nil {
				t.Fatal(err)
			}
			v, err := at.Read("name", &p.Fields.Name, &p.Markers[0], nil)
			if err != nil || v.Text != value {
				t.Fatalf("%s: %q instead of %q (%v) in %q", syntax, v.Text, value, err, c[0])
			}
		}
	})
}

// FuzzRead wants no text to be more than an error.
func FuzzRead(f *testing.F) {
	f.Add([]byte("[a]\nb=c\n"), "a/b", 3)
	f.Add([]byte(`{"a":[{"b":1}]}`), "/a/0/b", 1)
	f.Add([]byte(`<a><b c="d">x</b></a>`), "a/b/@c", 2)
	f.Fuzz(func(t *testing.T, data []byte, key string, offset int) {
		at := int64(offset % 2000)
		for _, m := range []loader.Marker{{Syntax: loader.KeyValue}, {Syntax: loader.INI}, {Syntax: loader.JSON},
			{Syntax: loader.XML}, {Syntax: loader.Lines, Encoding: "utf-16le"}, {Syntax: loader.Binary}} {
			s := reading.Of(bytes.NewReader(data), int64(len(data)), "x")
			for _, r := range []loader.Reading{{Key: key, Section: "a"}, {Key: "x" + key},
				{Offset: &at, Length: int64(len(key)), Encoding: "shift-jis"}, {Line: max(1, offset%50)}} {
				if r.Key == "" && r.Offset == nil && m.Syntax != loader.Lines {
					continue
				}
				v, _ := s.Read("name", &r, &m, nil)
				if !utf8.ValidString(v.Text) {
					t.Fatalf("%q is no text", v.Text)
				}
			}
		}
	})
}
