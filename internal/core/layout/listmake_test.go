package layout_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
)

// anyMakes are lists of all makes.
var anyMakes = []string{
	"line = \"{id}|{name}\\n\"", "make = \"csv\"\nkey = \"1\"\nline = \"{id};{name};{size}\\n\"",
	"make = \"json\"\nkey = \"i\"\nheader = \"[\"\nline = " +
		"\"{{\\\"i\\\":\\\"{id}\\\",\\\"n\\\":\\\"{name}\\\"}}\"\nbetween = \",\"\nfooter = \"]\"",
	"make = \"xml\"\nkey = \"g/i\"\nheader = \"<gs>\"\nline = \"<g><i>{id}</i><n a=\\\"{name}\\\"/></g>\\n\"\nfooter " +
		"= \"</gs>\"",
	"make = \"ini\"\nkey = \"id\"\nline = \"[game {index}]\\nid={id}\\nname={name}\\n\"",
	"record = 40\n[[list.field]]\noffset = 0\nlength = 10\nencoding = \"ascii\"\nvalue = " +
		"\"{id}\"\n[[list.field]]\noffset = 10\n" +
		"length = 30\nencoding = \"utf-8\"\nvalue = \"{name}\"",
	"per = \"title\"\nline = \"{id}:{each} <{file}>{end}\\n\"",
	"per = \"title\"\nmake = \"csv\"\nkey = \"1\"\nline = \"{id},{name}{each},{file}{end}\\n\"",
	"per = \"title\"\nmake = \"json\"\nkey = \"id\"\nheader = \"[\"\nbetween = \",\\n\"\nfooter = \"]\"\n" +
		"line = '{{\"id\": \"{id}\", \"discs\": [{each}{if index over 1}, {end}\"{file}\"{end}]}}'",
	"per = \"title\"\nmake = \"xml\"\nkey = \"g/@id\"\nheader = \"<l>\"\nfooter = \"</l>\"\n" +
		"line = '<g id=\"{id}\">{each}<disc n=\"{index}\">{file}</disc>{end}</g>'",
	"per = \"title\"\nmake = \"ini\"\nkey = \"[]\"\nline = \"[{id}]\\n{each}disc{index} = {file}\\n{end}\"",
	"header-length = 8\nrecord = 24\n[[list.header-field]]\noffset = 0\nlength = 4\nsum = " +
		"\"crc32\"\n[[list.field]]\noffset = 0\n" +
		"length = 24\nencoding = \"latin-1\"\nvalue = \"{id} {name}\"",
}

func listOf(t interface{ Fatalf(string, ...any) }, rule string) *loader.List {
	p, err := loader.ParseProfile("any.toml",
		[]byte("format = 1\nname = \"any\"\nshown = \"Any\"\n[[attachment]]\nname = \"s\"\n"+
			"via = \"usb\"\nfilesystems = [\"fat32\"]\n[[accept]]\nplatforms = [\"vesper\"]\npath = "+
			"\"{title}\"\n[[list]]\npath = \"l\"\n"+rule))
	if err != nil {
		t.Fatalf("%v\n%s", err, rule)
	}
	return &p.Lists[0]
}

// TestAnyListIsUnderstoodAgain writes lists with values of all sorts: they are as they should be, and a row too many,
// or too few, is found.
func TestAnyListIsUnderstoodAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		rule := rapid.SampledFrom(anyMakes).Draw(t, "rule")
		l := listOf(t, rule)
		rows := make([]layout.Row, rapid.IntRange(1, 5).Draw(t, "rows"))
		for n := range rows {
			name := rapid.StringMatching(`[a-zA-Z"',;<>&=\[\]{}\\/ é\t]{0,12}[a-z]`)
			rows[n].Values = loader.Values{loader.FieldID: fmt.Sprintf("ID-%d", n), loader.FieldSize: "7",
				loader.FieldName: name.Draw(t, "name")}
			for d := range rapid.IntRange(1, 3).Draw(t, "discs") {
				rows[n].Discs = append(rows[n].Discs, loader.Values{loader.FieldIndex: fmt.Sprint(d + 1),
					loader.FieldFile: name.Draw(t, "file")})
			}
		}
		text := string(layout.ListData(l, append([]layout.Row{}, rows...)))
		if say, ok := layout.Amiss(l, text, append([]layout.Row{}, rows...)); !ok || say != "" {
			t.Fatalf("%s %v\n%s\n%s", say, ok, rule, text)
		}
		if len(rows) > 1 {
			less := rows[:len(rows)-1]
			if say, ok := layout.Amiss(l, text, append([]layout.Row{}, less...)); !ok || !strings.Contains(say,
				"which is not here") {
				t.Fatalf("%q %v\n%s", say, ok, text)
			}
			text = string(layout.ListData(l, append([]layout.Row{}, less...)))
			if say, ok := layout.Amiss(l, text, append([]layout.Row{}, rows...)); !ok || !strings.Contains(say,
				"the list lacks") {
				t.Fatalf("%q %v\n%s", say, ok, text)
			}
		}
	})
}

// FuzzAmiss wants no text to be more than no list.
func FuzzAmiss(f *testing.F) {
	for _, rule := range anyMakes {
		l := listOf(f, rule)
		f.Add(layout.ListData(l, []layout.Row{{Values: loader.Values{loader.FieldID: "ID-1",
			loader.FieldName: "Salt"}}}))
	}
	lists := []*loader.List{}
	for _, rule := range anyMakes {
		lists = append(lists, listOf(f, rule))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, l := range lists {
			layout.Amiss(l, string(text), []layout.Row{{Values: loader.Values{loader.FieldID: "ID-1",
				loader.FieldName: "Salt"}}})
		}
	})
}

func TestListsThatCannotBe(t *testing.T) {
	for _, c := range [][2]string{
		{"make = \"cvs\"\nline = \"x\"", `did you mean "csv"?`},
		{"line = \"x\\n\"\nkey = \"1\"", "a key is looked for in lists of the makes"},
		{"make = \"csv\"\nline = \"x\\n\"\nkey = \"id\"", "the key of a CSV list is the number of a column"},
		{"make = \"csv\"\nline = \"x\\n\"\nbetween = \",\"", "between is for lists of the makes json and xml"},
		{"line = \"x\\n\"\nencoding = \"utf-16\"", `unknown encoding "utf-16": did you mean`},
		{"line = \"x\\n\"\nheader-length = 4", "needs records, in the key record"},
		{"record = 4\nmake = \"csv\"", "make and encoding are of lists of texts"},
		{"record = 4\nheader-length = 4\nheader = \"x\"", "a text as its header, or one of a fixed length"},
		{"record = 4\n[[list.field]]\nlength = 4\nsum = \"crc32\"", "a sum of all records stands in the header"},
		{"record = 4\nheader-length = 4\n[[list.header-field]]\nlength = 4\nsum = \"crc33\"",
			`did you mean "crc32"?`},
		{"record = 4\nheader-length = 4\n[[list.header-field]]\noffset = 2\nlength = 4\nsum = \"crc32\"",
			"are not in a record of 4"},
	} {
		_, err := loader.ParseProfile("any.toml",
			[]byte("format = 1\nname = \"any\"\nshown = \"Any\"\n[[attachment]]\nname = \"s\"\n"+
				"via = \"usb\"\nfilesystems = [\"fat32\"]\n[[accept]]\nplatforms = [\"vesper\"]\npath = "+
				"\"{title}\"\n[[list]]\npath = \"l\"\n"+c[0]))
		require.ErrorContains(t, err, c[1], c[0])
	}
}

// TestDiscsAndEntriesThatLookAlike: discs of a title stand in their order, whatever their IDs; entries that differ only
// in what cannot be read back are distinguished; one that is there twice is reported.
func TestDiscsAndEntriesThatLookAlike(t *testing.T) {
	l := listOf(t, "order = [\"title\"]\nmake = \"json\"\nkey = \"/file\"\nheader = \"[\"\nbetween = "+
		"\",\\n\"\nfooter = \"]\"\n"+
		`line = '{{"file": "{file}", "name": "{name}", "kib": {size|unit:KiB}}}'`)
	row := func(id, name, disc, bytes string) layout.Row {
		return layout.Row{Values: loader.Values{loader.FieldID: id, loader.FieldTitle: name, loader.FieldName: name,
			loader.FieldDisc: disc, loader.FieldFile: "game.img", loader.FieldSize: bytes}}
	}
	right := []layout.Row{row("ID-9", "Alder", "1", "70000"), row("ID-2", "Alder", "2", "50000"),
		row("ID-5", "Brook", "", "60000")}
	byID := []layout.Row{right[1], right[2], right[0]}
	say := func(text string) string {
		say, ok := layout.Amiss(l, text, slices.Clone(byID))
		require.True(t, ok)
		return say
	}
	text := string(layout.ListData(l, slices.Clone(right)))
	assert.Empty(t, say(text))
	assert.Contains(t, say(string(layout.ListData(l, []layout.Row{right[1], right[0], right[2]}))), "another order")
	assert.Contains(t, say(string(layout.ListData(l, []layout.Row{right[0], right[1], right[2], right[2]}))), "twice")
	assert.Contains(t, say(string(layout.ListData(l, slices.Clone(right[:2])))), "the list lacks")
}
