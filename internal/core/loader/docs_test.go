package loader_test

import (
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/loader"
)

var blocks = regexp.MustCompile("(?s)```toml( platform)?\n(.*?)```")

const docs = "../../../docs/"

// whole makes a profile of an example that shows a part of one.
func whole(example string) string {
	var b strings.Builder
	if !strings.HasPrefix(example, "format = ") {
		b.WriteString("format = 1\nname = \"mine\"\nshown = \"Mine\"\n")
	}
	b.WriteString(example)
	if !strings.Contains(example, "[[attachment]]") {
		b.WriteString("\n[[attachment]]\nname = \"stick\"\nvia = \"usb\"\nfilesystems = [\"fat32\"]\n")
	}
	if !strings.Contains(example, "[[accept]]") {
		b.WriteString("\n[[accept]]\nplatforms = [\"wren8\"]\npath = \"{title}{ext}\"\n")
	}
	return b.String()
}

func TestTheExamplesOfTheDocumentsAreSound(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	for _, file := range []string{"profile-format.md", "write-a-profile.md"} {
		text, err := os.ReadFile(docs + file)
		require.NoError(t, err)
		found := blocks.FindAllStringSubmatch(string(text), -1)
		require.NotEmpty(t, found, file)
		for _, m := range found {
			if m[1] != "" {
				p, err := loader.ParsePlatform(file, []byte(m[2]))
				require.NoError(t, err, m[2])
				known := *set
				known.Platforms = append(known.Platforms, p)
				continue
			}
			p, err := loader.ParseProfile(file, []byte(whole(m[2])))
			require.NoError(t, err, m[2])
			if file == "profile-format.md" {
				assert.NoError(t, set.Check(p))
			}
			for _, s := range p.Explain() {
				for _, l := range s.Lines {
					assert.NotContains(t, l, "%!")
				}
			}
		}
	}
}

// keys lists every key that a type takes, with the tables above it.
func keys(t reflect.Type, seen map[reflect.Type]bool) []string {
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice || t.Kind() == reflect.Map {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct || seen[t] {
		return nil
	}
	seen[t] = true
	var out []string
	for _, f := range reflect.VisibleFields(t) {
		if name, _, _ := strings.Cut(f.Tag.Get("toml"), ","); name != "" && name != "-" {
			out = append(out, name)
			out = append(out, keys(f.Type, seen)...)
		}
	}
	return out
}

// TestEveryKeyIsInTheDocument wants an example of every key that the two formats have.
func TestEveryKeyIsInTheDocument(t *testing.T) {
	text, err := os.ReadFile(docs + "profile-format.md")
	require.NoError(t, err)
	shown := ""
	for _, m := range blocks.FindAllStringSubmatch(string(text), -1) {
		shown += m[2]
	}
	all := append(keys(reflect.TypeOf(loader.Profile{}), map[reflect.Type]bool{}),
		keys(reflect.TypeOf(loader.Platform{}), map[reflect.Type]bool{})...)
	require.Greater(t, len(all), 100)
	for _, k := range all {
		assert.Regexp(t, `(?m)(^|[[.{ ])`+regexp.QuoteMeta(k)+`( = |\]|\.)`, shown, "the key %q has no example", k)
	}
}

func TestEveryLoaderHasItsPage(t *testing.T) {
	set, err := loader.Shipped()
	require.NoError(t, err)
	for _, p := range set.Profiles {
		name := strings.ReplaceAll(strings.ToLower(p.Console), " ", "-") + "-" + p.Name + ".md"
		assert.FileExists(t, filepath.Join(docs, "consoles", name))
	}
}
