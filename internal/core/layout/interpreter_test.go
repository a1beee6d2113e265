package layout_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand"
	"os/exec"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/testkit/coretest"
	"polytome/internal/testkit/judge"
)

// ruled is a rule as the other interpreter gets it.
type ruled struct {
	When string `json:"when"`
	Path string `json:"path"`
}

// judged is one title that was placed by rules.
type judged struct {
	Rules  []ruled           `json:"rules"`
	Facts  map[string]string `json:"facts"`
	Values map[string]string `json:"values"`
	Path   string            `json:"path"` // "" where it is not taken
}

// drawn draws rules and titles.
type drawn struct{ *rand.Rand }

func (d drawn) one(from ...string) string { return from[d.Intn(len(from))] }

// condition is one of a rule, or of a section in a path, which cannot ask for as much.
func (d drawn) condition(rule bool) string {
	asks := []string{"region", "kind", "discs", "region is North", "kind in short, full", "discs over 2",
		"id matches ^VSP-[0-4]", "name matches o.*e", "kind is not short", "region in North, West"}
	if rule {
		asks = append(asks, "size over 4GiB", "size under 700MB", "tags is v2", "form is image", "parts over 1")
	}
	term := func() string { return d.one("", "not ") + d.one(asks...) }
	out := term()
	for d.Intn(3) == 0 {
		out += d.one(" and ", " or ") + term()
	}
	return out
}

func (d drawn) field() string {
	out := "{" + d.one("id", "title", "name", "region|default:none", "kind|default:x", "platform", "id", "title")
	for d.Intn(2) == 0 {
		out += "|" + d.one("upper", "lower", "trim", "max:6", "pad:12", "letter", "group:3", "group:5", "add:7",
			"hex:3",
			"letters",
			"replace:o:0", "replace:-:", "table:North=N:West=W", "sub:0:3", "sub:-4", "sub:2", "sub:1:2", "hash:crc32",
			"hash:crc16", "hash:md5", "hash:sha1", "hash:sha256", "default:y")
	}
	return out + "}"
}

func (d drawn) path(depth int) string {
	out := ""
	for range 1 + d.Intn(3) {
		switch {
		case d.Intn(4) == 0 && depth > 0:
			out += "{if " + d.condition(false) + "}a" + d.path(depth-1) + d.one("", "{else}b"+d.path(depth-1)) + "{end}"
		case d.Intn(3) == 0:
			out += d.one("x", "-", " y ", "_")
		default:
			out += d.field()
		}
	}
	return out
}

// TestAnotherInterpreterComesToTheSamePaths has thousands of titles of all sorts placed by random rules, and again by a
// program in another language that was written from the document.
func TestAnotherInterpreterComesToTheSamePaths(t *testing.T) {
	d := drawn{rand.New(rand.NewSource(25))}
	set := coretest.Set(t)
	var in bytes.Buffer
	cases, taken := 0, 0
	for cases < 4000 {
		text := "format = 1\nname = \"any\"\nshown = \"Any\"\n" +
			"[[attachment]]\nname = \"s\"\nvia = \"usb\"\nfilesystems = [\"ext4\"]\n"
		var rules []ruled
		for range 1 + d.Intn(3) {
			r := ruled{Path: "p" + d.path(2) + "{id}q"}
			if d.Intn(3) > 0 {
				r.When = d.condition(true)
			}
			rules = append(rules, r)
			text += fmt.Sprintf("[[accept]]\nplatforms = [\"vesper\"]\npath = %q\n", r.Path)
			if r.When != "" {
				text += fmt.Sprintf("when = %q\n", r.When)
			}
		}
		p, err := loader.ParseProfile("any.toml", []byte(text))
		if err != nil && strings.Contains(err.Error(), "too many conditions") {
			continue
		}
		require.NoError(t, err, text)
		require.NoError(t, set.Check(p))
		for range 8 {
			kind, region := d.one("", "short", "full"), d.one("", "North", "West", "East")
			size := int64(d.Intn(6)) << 30
			tt := title.Title{Key: "k", Platform: "vesper", Form: title.Image, Of: 1,
				ID:     "VSP-" + strconv.Itoa(10000+d.Intn(80000)),
				Name:   d.one("Copper Tide", "7 Owls", "mole", "Zum Ende", "The Weir - Two"),
				Region: region, Discs: []title.Disc{{Number: 1, Kind: kind, File: title.File{Path: "/a.iso",
					Size: size}}}}
			if d.Intn(2) == 0 {
				tt.Tags = []string{"v2", "x"}
			}
			tree := layout.Lay([]title.Title{tt}, p, coretest.Destination(t, p, "usb", "ext4"))
			c := judged{Rules: rules, Facts: map[string]string{"id": tt.ID, "name": tt.Name, "title": tt.Name,
				"region": region,
				"kind":   kind, "platform": "vesper", "form": "image",
				"size": strconv.FormatInt(size, 10), "parts": "1",
				"tags": strings.Join(tt.Tags, "\n")}}
			c.Values = map[string]string{"id": tt.ID, "name": tt.Name, "title": tt.Name, "region": region, "kind": kind,
				"platform": "vesper"}
			if pl := &tree.Placements[0]; pl.Refusal == nil {
				c.Path = pl.Items[0].Path
				taken++
			}
			line, err := json.Marshal(c)
			require.NoError(t, err)
			in.Write(append(line, '\n'))
			cases++
		}
	}
	require.Greater(t, taken, cases/2)
	judge.NotWindows(t, "the other interpreter runs under Linux")
	cmd := exec.Command("/usr/bin/python3", "testdata/interpreter.py")
	cmd.Stdin = &in
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Empty(t, string(out[:min(len(out), 2000)]))
}
