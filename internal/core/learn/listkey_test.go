package learn

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestEntriesAreKnownByTheirFileOrID(t *testing.T) {
	for _, c := range []struct{ make, line, want string }{
		{"json", `{{"file": "{file}", "name": "{name}"}}`, "file"},
		{"json", `{{"name": "{name}", "of": {{"id" : "{id}"}}}}`, "id"},
		{"json", `{{"name": "{name}"}}`, ""},
		{"xml", "  <game><file>{file}</file><name>{name}</name></game>\n", "game/file"},
		{"xml", "<game><name>{name}</name><file>{folder}/{file}</file></game>", "game/file"},
		{"xml", `<entry kind="x" id="{id|lower}"/>`, "entry/@id"},
		{"xml", "<br/><a><b>{title}</b></a>", ""},
		{"", "{file}\n", ""},
		{"csv", "{name},{id|lower},{file}\r\n", "2"},
		{"ini", "[{id}]\nname = {name}\n", "[]"},
		{"ini", "[{name}]\nfile = {file}\n", ""},
	} {
		assert.Equal(t, c.want, keyOf(c.make, c.line), c.line)
	}
	assert.Equal(t, []string{"csv", "ini", "", ""}, []string{makeOf("A/all.CSV", "{id},{name}"),
		makeOf("a.ini", "[{id}]\n"),
		makeOf("a.csv", "{id}"), makeOf("a.lst", "{id},{name}")})
}
