package check_test

import (
	"bytes"
	"context"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/check"
	"polytome/internal/demo"
	"polytome/internal/format/packed"
)

// TestEachIsJudgedAsItsPageSays has single changes of right targets, and what their consoles' pages say of them:
// whether the title of a path starts, how it is shown, with which cover.
func TestEachIsJudgedAsItsPageSays(t *testing.T) {
	base := right(t)
	pressed := func() []byte {
		var out bytes.Buffer
		disc := append(demo.SkuaDisc("SKUADISC", "SKU-0007", 1, "Long Water"), make([]byte, 200_000)...)
		_, err := packed.Pack(context.Background(), &out, bytes.NewReader(disc), packed.Options{Compress: true})
		require.NoError(t, err)
		return out.Bytes()
	}()
	finch, wren := demo.Cartridge("FNCH", "a"), demo.Cartridge("WREN", "b")
	const zip, two, cfg, long = "oxbow/play/finch/Reed Runner.zip", "Titles/Two Tides", "ROWAN/rowan.cfg",
		"LONG/VSP-20431"
	text := func(loader, file, from, to string) func(files) {
		return func(f files) {
			was := string(base[loader][file])
			if from == "" {
				f[file] = []byte(to)
				return
			}
			require.Contains(t, was, from)
			f[file] = []byte(strings.Replace(was, from, to, 1))
		}
	}
	set := func(file string, data []byte) func(files) { return func(f files) { f[file] = data } }
	copied := func(from, to string) func(files) { return func(f files) { f[to] = f[from] } }
	for _, c := range []struct {
		loader, what string
		do           func(files)
		path         string // of the line, "" for one that must not be there
		starts       bool
		name, cover  string // "" for any
	}{
		{"mica", "a packed image that is compressed", set("skua/SKU-0007/Long Water.pkd", pressed),
			"skua/SKU-0007/Long Water.pkd", false, "", ""},
		{"oxbow", "garbage for a zip", set(zip, []byte("not found")), zip, false, "", ""},
		{"oxbow", "another platform's game in a zip", set(zip, inZip("b.w8", wren)), zip, false, "", ""},
		{"oxbow", "one right game and another platform's", set(zip, inZip("b.w8", wren, "a.fin", finch)), zip, true,
			"Reed Runner", ""},
		{"oxbow", "a wrong extension in a zip", set(zip, inZip("a.rom", finch)), zip, false, "", ""},
		{"oxbow", "capitals in a zip", set(zip, inZip("A.FIN", finch)), zip, true, "", ""},
		{"oxbow", "what a system leaves in a zip", set(zip, inZip("a.fin", finch, "__MACOSX/._a.fin", []byte("x"))),
			zip, true, "", ""},
		{"oxbow", "a disc", copied("oxbow/play/lapwing/Heron's Watch.cue", "oxbow/play/lapwing/Two (Disc 1).cue"),
			"oxbow/play/lapwing/Two (Disc 1).cue", true, "Two (Disc 1)", ""},
		{"bellows", "a playlist of nothing", text("bellows", two+"/Two Tides.m3u", "", "# nothing\n"), two, false, "",
			""},
		{"bellows", "a mark in front of a playlist", text("bellows", two+"/Two Tides.m3u", "Two", "\uFEFFTwo"), two,
			true, "", ""},
		{"bellows", "a name in title.toml", text("bellows", "Titles/Heron's Watch/title.toml", "",
			"name = \"The Watch\"\n"), "Titles/Heron's Watch", true, "The Watch", ""},
		{"bellows", "an empty name", text("bellows", "Titles/Heron's Watch/title.toml", "", "name = \"\"\n"),
			"Titles/Heron's Watch", true, "Heron's Watch", ""},
		{"bellows", "a wrong sum in a header", func(f files) {
			b := bytes.Clone(f["Carts/wren8/Ropewalk.w8"])
			b[0x3E] ^= 1
			f["Carts/wren8/Ropewalk.w8"] = b
		}, "Carts/wren8/Ropewalk.w8", false, "", ""},
		{"rowan", "covers switched off", text("rowan", cfg, "yes", "no"), "FULL/VSP-20417 - Copper Tide.iso", true,
			"Copper Tide", "none"},
		{"rowan", "covers switched on in capitals", text("rowan", cfg, "faces", "FACES"),
			"FULL/VSP-20417 - Copper Tide.iso", true, "", "FACES/front/VSP-20417.jpg"},
		{"rowan", "a value in capitals", text("rowan", cfg, "yes", "YES"), "FULL/VSP-20417 - Copper Tide.iso", true, "",
			"none"},
		{"rowan", "the first of two keys counts", text("rowan", cfg, "faces=yes\n", "faces=yes\nfaces=no\n"),
			"FULL/VSP-20417 - Copper Tide.iso", true, "", "FACES/front/VSP-20417.jpg"},
		{"rowan", "a mark in front of the settings", text("rowan", cfg, "look", "\uFEFFlook"),
			"FULL/VSP-20417 - Copper Tide.iso", true, "", ""},
		{"rowan", "CR LF in a list of parts", func(f files) {
			f[long+"/parts.toml"] = []byte(strings.ReplaceAll(string(f[long+"/parts.toml"]), "\n", "\r\n"))
		}, long, true, "The Ninth Orchard", ""},
		{"rowan", "a comment in a list of parts", text("rowan", long+"/parts.toml", "kind", "# mine\nkind"), long,
			false, "The Ninth Orchard", ""},
		{"rowan", "another spacing in a list of parts", text("rowan", long+"/parts.toml", "title = ", "title="), long,
			false, "VSP-20431", ""},
		{"trellis", "what a system leaves beside images", set("IMG-V/._Copper Tide.iso", []byte("\x00\x05\x16\x07")),
			"", false, "", ""},
	} {
		t.Run(c.loader+" "+c.what, func(t *testing.T) {
			f := maps.Clone(base[c.loader])
			c.do(f)
			r := checkFiles(t, f, as[c.loader][0], check.Inside, c.loader)
			if c.path == "" {
				assert.Len(t, r.Listed, len(checkFiles(t, base[c.loader], as[c.loader][0], check.Inside,
					c.loader).Listed))
				return
			}
			i := slices.IndexFunc(r.Listed, func(l check.Listed) bool { return l.Path == c.path })
			require.GreaterOrEqual(t, i, 0, "%v", r.Listed)
			l := r.Listed[i]
			assert.Equal(t, c.starts, l.Starts, "%q", reported(r))
			if c.name != "" {
				assert.Equal(t, c.name, l.Name)
			}
			if c.cover != "" {
				assert.Equal(t, strings.TrimPrefix(c.cover, "none"), l.Cover)
			}
		})
	}
}
