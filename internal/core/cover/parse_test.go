package cover

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/bench"
	"polytome/internal/core/title"
)

func FuzzIndex(f *testing.F) {
	f.Add([]byte("id,path\nA,b.png\n"))
	f.Add([]byte(`[{"id":"A","path":"b.png"}]`))
	f.Add([]byte("path\n../x\n/y\nhttp://z\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		x, _ := parseIndex(data)
		if x == nil {
			return
		}
		tt := title.Title{Platform: "p", Name: "A", Discs: []title.Disc{{ID: "A"}}}
		for _, p := range x.paths(&tt, 0, "front") {
			if bench.CheckRelative(p) != nil || strings.Contains(p, "..") && strings.Contains("/"+p+"/", "/../") {
				t.Fatalf("%q leads elsewhere", p)
			}
		}
	})
}

func FuzzAbout(f *testing.F) {
	f.Add([]byte(`{"text":"x","year":1.5}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		a, err := parseAbout(data)
		if err == nil && len(a) == 0 {
			t.Fatal("nothing, and no error")
		}
		for _, v := range a {
			if strings.ContainsAny(v, "\x1b\n\r\t") {
				t.Fatalf("%q", v)
			}
		}
	})
}

func TestNamesWithoutWhatStandsInBrackets(t *testing.T) {
	for from, want := range map[string]string{"Copper Tide (North) [v2]": "Copper Tide", "(x) Y": "Y", "a ) b": "a  b",
		"open (": "open", "": ""} {
		assert.Equal(t, want, bare(from), from)
	}
}
