package filter_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"polytome/internal/core/filter"
	"polytome/internal/core/title"
)

func TestWhatUsersType(t *testing.T) {
	tt := title.Title{Platform: "vesper", Form: title.Image, Name: "Tin Harbour", ID: "VSP-21588", Region: "West",
		Of:      1,
		Details: title.Details{Year: "1999", Players: "1-4", Publisher: "Ferry Line Games", Tags: []string{"Beta"}},
		Discs: []title.Disc{{Number: 1, ID: "VSP-21588", File: title.File{Path: "/games/new/Tin Harbour.img",
			Size: 2210 << 20},
			Evidence: []title.Evidence{{Field: "name", Value: "Tin Harbour", From: "set by hand, locked"}}}},
		Locked: []string{"name"}, Findings: []title.Finding{{Grade: title.Suspicion, Say: "many zeros"}}}
	for text, want := range map[string]bool{
		"": true, "harbour": true, "HARBOUR tin": true, "harbour falcons": false, "-falcons": true, "-harbour": false,
		"platform:vesper": true, "platform:ves": true, "platform=ves": false, "platform:wren": false,
		"-platform:wren": true,
		"size>2G":        true, "size<2G": false, "size>2.5GiB": false, "size>4": true, "year<2000": true,
		"year>1999": false,
		"year:1999": true,
		"players>0": true, "discs=1": true, "discs>1": false, "id:21588": true, "region:west": true, "form:image": true,
		`name:"tin harbour"`: true, `name:"tin falcons"`: false, `publisher:"ferry line"`: true, "tag:beta": true,
		"finding:zeros": true,
		"file:new/":     true, "ok": true, "bad": false, "suspect": true, "edited": true, "locked": true,
		"verified":  false,
		"encrypted": false, "packed": false, "incomplete": false, "noted": false, "size>": true,
	} {
		f := filter.Parse(text)
		assert.Empty(t, f.Trouble, text)
		assert.Equal(t, want, f.Match(&tt, filter.Text(&tt)), "%q", text)
	}
	wrong := filter.Parse("plattform:vesper")
	assert.Contains(t, wrong.Trouble, `unknown field "plattform"`)
	wrong = filter.Parse("size>big")
	assert.Contains(t, wrong.Trouble, `"big" is not a number`)
}

func TestEveryTitleIsOnOneSideOfAFilter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		tt := title.Title{Name: rapid.String().Draw(t, "name"), Platform: rapid.StringMatching(`[a-z0-9]*`).
			Draw(t, "platform"),
			Discs: []title.Disc{{File: title.File{Size: rapid.Int64Range(0, 1<<40).Draw(t, "size")}}}}
		word := rapid.StringMatching(`[a-z]{1,6}(:[a-z0-9]{1,4}|[<>][0-9]{1,3}[kmg]?)?`).Draw(t, "word")
		yes, no := filter.Parse(word), filter.Parse("-"+word)
		if yes.Match(&tt, filter.Text(&tt)) == no.Match(&tt, filter.Text(&tt)) {
			t.Fatalf("%q and its opposite agree", word)
		}
	})
}
