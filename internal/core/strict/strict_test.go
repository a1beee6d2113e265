package strict_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/strict"
)

type sample struct {
	Name  string           `toml:"name"`
	Items []item           `toml:"item"`
	Map   map[string]inner `toml:"map"`
}

type item struct {
	Path   string `toml:"path"`
	Longer int    `toml:"longest"`
	Inner  inner  `toml:"inner"`
}

type inner struct {
	Value string `toml:"value"`
}

func TestMistakesAreReportedWithTheirPlace(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"unknown key": {"nmae = 'x'\n", `f.toml:1:1: unknown key "nmae": did you mean "name"?`},
		"unknown nested key": {"name = 'x'\n\n[[item]]\n  longets = 3\n",
			`f.toml:4:3: unknown key "item.longets": did you mean "longest"?`},
		"unknown deep key": {"[[item]]\n[item.inner]\nvalu = 'x'\n",
			`f.toml:3:1: unknown key "item.inner.valu": did you mean "value"?`},
		"unknown in a map": {"[map.a]\nvlaue = 'x'\n",
			`f.toml:2:1: unknown key "map.a.vlaue": did you mean "value"?`},
		"nothing like it":   {"zebra = 1\n", `f.toml:1:1: unknown key "zebra"`},
		"wrong type":        {"name = 'x'\n[[item]]\nlongest = 'many'\n", "f.toml:3:"},
		"broken syntax":     {"name = 'x\n", "f.toml:1:"},
		"other letter case": {"Name = 'x'\n", `f.toml:1:1: unknown key "Name": did you mean "name"?`},
		"case, in a list": {"[[item]]\npath = 'a'\n[[item]]\nPath = 'x'\n",
			`f.toml:4:1: unknown key "item.Path": did you mean "path"?`},
		"case, in an inline": {"[[item]]\ninner = {Value = 'x'}\n",
			`unknown key "item.inner.Value": did you mean "value"?`},
		"several at one time": {"nmae = 'x'\nitme = 3\n", `f.toml:2:1: unknown key "itme": did you mean "item"?`},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := strict.Decode("f.toml", []byte(c.text), &sample{})
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
		})
	}
}

func TestErrorsPointAtTheKey(t *testing.T) {
	text := `name = "x"

[[item]]
path = "a"

[[item]]
longest = 3
path = "b"
[item.inner]
value = "c"

[map.first]
value = "d"
`
	src, err := strict.Decode("f.toml", []byte(text), &sample{})
	require.NoError(t, err)
	for path, want := range map[string]string{
		"name":               "f.toml:1:1: bad",
		"item.0.path":        "f.toml:4:1: bad",
		"item.1.path":        "f.toml:8:1: bad",
		"item.1":             "f.toml:6:3: bad",
		"item.1.inner.value": "f.toml:10:1: bad",
		"item.1.missing":     "f.toml:6:3: bad",
		"map.first.value":    "f.toml:13:1: bad",
		"nowhere":            "f.toml: bad",
	} {
		assert.Equal(t, want, src.Errorf(path, "bad").Error(), path)
	}
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte("name = 'x'\n[[item]]\npath = 'y'\n"))
	f.Add([]byte("a.b.c = [1, {x=2}]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		src, err := strict.Decode("f.toml", data, &sample{})
		if err == nil {
			_ = src.Errorf("item.0.path", "x").Error()
		}
	})
}
