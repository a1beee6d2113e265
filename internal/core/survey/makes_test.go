package survey_test

import (
	"encoding/json"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/core/scan"
	"polytome/internal/core/scancache"
	"polytome/internal/testkit/coretest"
)

// listsOf are lists of all makes, each with what another program reads and changes them by.
var listsOf = map[string]struct{ rule, read, edit string }{
	"csv": {
		"make = \"csv\"\nkey = \"1\"\nheader = \"ID,Name\\r\\n\"\nline = \"{id},{name}\\r\\n\"",
		"import csv\nout = [r for r in csv.reader(open(f, newline='', encoding='utf-8'))][1:]",
		"import csv\nrows = [r for r in csv.reader(open(f, newline='', encoding='utf-8'))]\nrows[1][1] = 'My, " +
			"\"own\"'\n" +
			"rows.insert(1, ['X-1', 'Stranger'])\ncsv.writer(open(f, 'w', newline='', " +
			"encoding='utf-8')).writerows(rows)",
	},
	"json": {
		"make = \"json\"\nkey = \"id\"\nheader = \"{{\\\"v\\\": 1, \\\"games\\\": [\\n\"\n" +
			"line = \"  {{\\\"id\\\": \\\"{id}\\\", \\\"name\\\": \\\"{name}\\\"}}\"\nbetween = \",\\n\"\nfooter = " +
			"\"\\n]}}\\n\"",
		"import json\nout = [[g['id'], g['name']] for g in json.load(open(f, encoding='utf-8'))['games']]",
		"import json\nd = json.load(open(f, encoding='utf-8'))\nd['games'][0]['name'] = 'My, " +
			"\"own\"'\nd['games'][0]['more'] = [1]\n" +
			"d['games'].insert(0, {'id': 'X-1', 'name': 'Stranger'})\n" +
			"open(f, 'w', encoding='utf-8').write('{\"v\": 1, \"games\": [\\n' + json.dumps(d['games'], " +
			"indent=1)[1:] + '}\\n')",
	},
	"xml": {
		"make = \"xml\"\nkey = \"game/@id\"\nheader = \"<?xml version=\\\"1.0\\\" " +
			"encoding=\\\"UTF-8\\\"?>\\n<games>\\n\"\n" +
			"line = \"  <game id=\\\"{id}\\\">\\n    <name>{name}</name>\\n  </game>\\n\"\nfooter = \"</games>\\n\"",
		"import xml.etree.ElementTree as e\nout = [[g.get('id'), g.find('name').text] for g in e.parse(f).getroot()]",
		"t = open(f, encoding='utf-8').read()\na, b = t.index('<name>') + 6, t.index('</name>')\n" +
			"t = t[:a] + 'My, &quot;own&quot;' + t[b:]\n" +
			"t = t.replace('<games>', '<games>\\n<!-- mine --><game id=\"X-1\"><name>Stranger</name><x/></game>')\n" +
			"open(f, 'w', encoding='utf-8').write(t)",
	},
	"ini": {
		"make = \"ini\"\nkey = \"[]\"\nline = \"[{id}]\\nname = {name}\\n\"",
		"import configparser\nc = configparser.RawConfigParser()\nc.read(f, encoding='utf-8')\n" +
			"out = [[s, c[s]['name']] for s in c.sections()]",
		"t = open(f, encoding='utf-8').read().split('\\n')\nt[1] = 'name = My, \"own\"'\n" +
			"open(f, 'w', encoding='utf-8').write('[X-1]\\nname=Stranger\\nmore=1\\n' + '\\n'.join(t))",
	},
	"wide text": {
		"encoding = \"utf-16le\"\nline = \"{id}|{name}\\n\"",
		"out = [l.split('|') for l in open(f, encoding='utf-16-le').read().split('\\n')[:-1]]",
		"t = open(f, encoding='utf-16-le').read().split('\\n')\nt[0] = t[0].split('|')[0] + '|My, \"own\"'\n" +
			"open(f, 'w', encoding='utf-16-le').write('X-1|Stranger\\n' + '\\n'.join(t))",
	},
	"records": {
		`header-length = 12
record = 64
[[list.header-field]]
offset = 0
length = 4
encoding = "ascii"
value = "MENU"
[[list.header-field]]
offset = 4
length = 4
encoding = "number-be"
value = "{discs}"
[[list.header-field]]
offset = 8
length = 4
sum = "crc32"
[[list.field]]
offset = 0
length = 16
encoding = "ascii"
value = "{id}"
[[list.field]]
offset = 16
length = 48
encoding = "utf-8"
value = "{name}"`,
		"import struct, zlib\nb = open(f, 'rb').read()\nm, n, c = struct.unpack('>4sI', b[:8]) + struct.unpack('<I', " +
			"b[8:12])\n" +
			"assert m == b'MENU' and len(b) == 12 + 64 * n and c == zlib.crc32(b[12:]), (m, n, c)\n" +
			"cut = lambda x: x.split(b'\\0')[0].decode()\n" +
			"out = [[cut(b[i:i+16]), cut(b[i+16:i+64])] for i in range(12, len(b), 64)]",
		"import struct, zlib\nb = open(f, 'rb').read()\npad = lambda s, n: s.encode().ljust(n, b'\\0')\n" +
			"r = pad('X-1', 16) + pad('Stranger', 48) + b[12:28] + pad('My, \"own\"', 48) + b[76:]\n" +
			"open(f, 'wb').write(b'MENU' + struct.pack('>I', len(r) // 64) + struct.pack('<I', zlib.crc32(r)) + r)",
	},
}

// python runs a program over a file; what it leaves in out comes back.
func python(t *testing.T, file, program string) (out [][]string) {
	cmd := exec.Command("/usr/bin/python3", "-c", "import json as j, sys\nf, out = sys.argv[1], []\n"+program+
		"\nprint(j.dumps(out))", file)
	text, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", text)
	require.NoError(t, json.Unmarshal(text, &out))
	return out
}

// TestListsOfAnyMake writes lists that other programs read, has one of these change an entry and add another, and
// writes a further game into it: what was changed stays, and nothing is there twice.
func TestListsOfAnyMake(t *testing.T) {
	names := map[string]string{"VSP-00001": `Salt, "Ledger"; <one> & two`, "VSP-00002": "Été \\ à = la mer",
		"VSP-00003": "Owl's [Mill]"}
	for make, c := range listsOf {
		t.Run(make, func(t *testing.T) {
			dir := t.TempDir()
			put := func(id string) {
				coretest.Write(t, dir, "games/"+id+".iso", coretest.Image(t, coretest.Inf(id, names[id], "1/1",
					"full")))
			}
			put("VSP-00001")
			put("VSP-00002")
			set := knownTo(t, filepath.Join(dir, "known"),
				"format = 1\nname = \"any\"\nshown = \"Any\"\nconsole = \"Tern\"\n"+
					"[[attachment]]\nname = \"stick\"\nvia = \"usb\"\nfilesystems = "+
					"[\"fat32\"]\n[[accept]]\nplatforms = "+
					"[\"vesper\"]\n"+
					"path = \"G/{id}.iso\"\n[[list]]\npath = \"games.lst\"\norder = [\"id\"]\n"+c.rule+"\n")
			cache, err := scancache.Open(filepath.Join(dir, "seen.sqlite"))
			require.NoError(t, err)
			defer cache.Close()
			w := oneStick(t, dir, set, "any", "fat32", nil)
			w.o.Cache = cache
			fill := func() {
				r, err := scan.Scan(t.Context(), []string{filepath.Join(dir, "games")}, scan.Options{Set: set})
				require.NoError(t, err)
				w.titles = r.Titles
				w.fill(0)
			}
			list := w.at("Stick", "games.lst")
			fill()
			first := [][]string{{"VSP-00001", names["VSP-00001"]}, {"VSP-00002", names["VSP-00002"]}}
			assert.Equal(t, first, python(t, list, c.read))
			report, err := w.look(0).Check(t.Context(), check.Inside)
			require.NoError(t, err)
			assert.Empty(t, report.Findings)
			assert.True(t, w.look(0).Plan().Empty(), "it is as it should be")

			python(t, list, c.edit)
			assert.Equal(t, [][]string{{"X-1", "Stranger"}, {"VSP-00001", `My, "own"`}, first[1]},
				python(t, list, c.read))
			put("VSP-00003")
			fill()
			assert.ElementsMatch(t, [][]string{{"X-1", "Stranger"}, {"VSP-00001", `My, "own"`}, first[1],
				{"VSP-00003", names["VSP-00003"]}}, python(t, list, c.read))
			assert.True(t, w.look(0).Plan().Empty(), "and is not written again")
		})
	}
}
