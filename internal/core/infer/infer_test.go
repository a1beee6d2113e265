package infer_test

import (
	"fmt"
	"math/rand"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/infer"
	"polytome/internal/core/loader"
)

var words = strings.Fields("Alder Brook Copper Dune Ember Fallow Gorse Harbour Islet Juniper Kestrel Lantern Meadow " +
	"Nettle Orchard Pebble Quarry Ridge Saffron Thistle Umber Vale Willow Yarrow Zephyr 7 Tide Lane Sails Post")

// games are values of some titles, of which a third has several discs.
func games(r *rand.Rand, n int) (out []loader.Values) {
	for i := range n {
		name := words[r.Intn(len(words))]
		for range r.Intn(3) {
			name += " " + words[r.Intn(len(words))]
		}
		if r.Intn(5) == 0 {
			name = strings.ToLower(name)
		}
		v := loader.Values{loader.FieldTitle: fmt.Sprintf("%s %d", name, i), loader.FieldPlatform: "tern",
			loader.FieldExt: ".trd"}
		v[loader.FieldID] = fmt.Sprintf("TN%c-%04d", "ABC"[r.Intn(3)], r.Intn(10000))
		v[loader.FieldKind] = []string{"full", "short", "demo"}[r.Intn(3)]
		v[loader.FieldRegion] = []string{"North", "East", "West", ""}[r.Intn(4)]
		v[loader.FieldSize] = fmt.Sprint(1000 + r.Intn(5_000_000))
		v[loader.FieldNumber] = fmt.Sprint(i + 1)
		if r.Intn(3) > 0 {
			out = append(out, v)
			continue
		}
		v[loader.FieldDiscs] = "2"
		for d := range 2 {
			v[loader.FieldDisc] = fmt.Sprint(d + 1)
			v[loader.FieldID] += fmt.Sprint(d)
			out = append(out, v)
		}
	}
	return out
}

var fields = []loader.Field{loader.FieldTitle, loader.FieldID, loader.FieldDisc, loader.FieldDiscs, loader.FieldKind,
	loader.FieldRegion, loader.FieldNumber, loader.FieldSize, loader.FieldExt}

func made(t *testing.T, template string, all []loader.Values) (rows []infer.Row) {
	var tpl loader.Text
	require.NoError(t, tpl.UnmarshalText([]byte(template)), template)
	for _, v := range all {
		rows = append(rows, infer.Row{Values: v, Text: tpl.Fill(&v)})
	}
	return rows
}

// TestWhatATemplateMadeIsFoundBack: what is found from twelve titles makes the same of twelve others.
func TestWhatATemplateMadeIsFoundBack(t *testing.T) {
	for _, template := range []string{
		"games/{title}.iso",
		"{kind|upper}/{id} - {title}{if disc} (Disc {disc}){end}.iso",
		"A/{title|group:5}/{number|pad:3} {title}.{id|lower}{if disc}-{disc|letters}{end}.img",
		"{title|letter}/{id}{ext}",
		"{if disc}many/{end}{title}{if disc} {disc}{end}/game.iso",
		"{region|default:none|upper}/{title|lower|replace: :_}.bin",
		"{kind|table:full=F:short=S:demo=D}/{title}.iso",
		"{title|max:8}_{id|hash:crc16}{ext}",
		"{number|add:9|hex:2}-{title}/{id|sub:4}",
		"{size|unit:KiB}/{title}.box",
		"{id|sub:0:3}/{id}_{title}.iso",
		"{id|slug}/{title|slug}.iso",
		"{if kind is full}big/{else}small/{end}{title}.iso",
	} {
		whole := 0
		for seed := range 12 {
			r := rand.New(rand.NewSource(int64(seed)))
			rows := made(t, template, games(r, 12))
			m, ok := infer.Template(rows, infer.Options{Fields: fields, Whens: []string{"kind is full",
				"kind is short"}, Whole: true})
			if !ok {
				t.Logf("%s: nothing", template)
				continue
			}
			others := games(r, 12)
			if assert.ObjectsAreEqual(made(t, template, others), made(t, m.Text, others)) {
				whole++
			} else {
				t.Logf("%s: %s", template, m.Text)
			}
		}
		assert.GreaterOrEqual(t, whole, 11, template)
	}
}

func BenchmarkTemplate(b *testing.B) {
	r := rand.New(rand.NewSource(1))
	var tpl loader.Text
	_ = tpl.UnmarshalText([]byte("{kind|upper}/{id} - {title}{if disc} (Disc {disc}){end}.iso"))
	var rows []infer.Row
	for _, v := range games(r, 24) {
		rows = append(rows, infer.Row{Values: v, Text: tpl.Fill(&v)})
	}
	for b.Loop() {
		infer.Template(rows, infer.Options{Fields: fields, Whole: true})
	}
}

// A text that has the whole name of a game's file means that file; that all files have one name, such as in folders of
// their own, must not make it a word. The part before the ending may well be a word.
func TestTextsMeanTheFileThatTheyName(t *testing.T) {
	all := games(rand.New(rand.NewSource(1)), 5)
	for i := range all {
		all[i][loader.FieldFile], all[i][loader.FieldBase] = "game.trd", "game"
	}
	rows := made(t, "[game]\nname={title}\nstart=game.trd\n", all)
	with := append([]loader.Field{loader.FieldFile, loader.FieldBase}, fields...)
	m, ok := infer.Template(rows, infer.Options{Fields: with, Said: []loader.Field{loader.FieldFile}})
	require.True(t, ok)
	assert.Equal(t, "[game]\nname={title}\nstart={file}\n", m.Text)
}
