package title_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/title"
)

func TestEveryEditableFieldHasItsTarget(t *testing.T) {
	var e title.Edit
	var tt title.Title
	assert.True(t, e.Empty())
	for _, f := range title.Editable {
		require.NotNil(t, e.Value(f), f)
		require.NotNil(t, tt.Value(f), f)
		*e.Value(f), *tt.Value(f) = f, f
		assert.False(t, e.Empty())
		*e.Value(f) = ""
		assert.True(t, e.Empty())
	}
	assert.Nil(t, e.Value("colour"))
	assert.Nil(t, tt.Value("colour"))
	assert.Equal(t, title.Title{Name: "name", ID: "ID", Region: "region", Platform: "platform",
		Details: title.Details{Year: "year", Players: "players", Publisher: "publisher", Text: "text"}}, tt)
}

func TestLocks(t *testing.T) {
	var e title.Edit
	e.Lock("name", true)
	e.Lock("region", true)
	e.Lock("name", true)
	assert.Equal(t, []string{"region", "name"}, e.Locked)
	before := e
	e.Lock("region", false)
	assert.Equal(t, []string{"name"}, e.Locked)
	assert.Equal(t, []string{"region", "name"}, before.Locked, "earlier choices stay as they were")
}

func TestWhatATitleTakesAndWhereItIs(t *testing.T) {
	open := title.Title{Discs: []title.Disc{{File: title.File{Path: "/g/a.cue", Size: 10},
		Parts: []title.Part{{Name: "a.bin", File: title.File{Path: "/g/a.bin", Size: 100}}}}}}
	assert.Equal(t, int64(110), open.Size())
	assert.Equal(t, "/g/a.cue", open.Where())
	packed := title.Title{Archive: ".rar", Discs: []title.Disc{{File: title.File{Path: "/g/a.rar", Size: 10},
		Volumes: []title.File{{Path: "/g/a.r00", Size: 5}},
		Parts:   []title.Part{{Name: "a.iso", File: title.File{Path: "/g/a.rar", Entry: "in/a.iso", Size: 1000}}}}}}
	assert.Equal(t, int64(15), packed.Size(), "as it is packed")
	assert.Equal(t, "/g/a.rar", packed.Where())
	packed.Among = 2
	assert.Equal(t, "/g/a.rar//in/a.iso", packed.Where())
	assert.Empty(t, (&title.Title{}).Where())
	suspect := title.Title{Findings: []title.Finding{{Grade: title.Suspicion}, {Grade: title.Note}}}
	assert.True(t, suspect.OK(), "a suspicion keeps nothing from being placed")
}
