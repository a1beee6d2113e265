package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/fix"
	"polytome/internal/core/shape"
	"polytome/internal/core/title"
)

// seen is a file as it was found.
func seen(size int64) string { return fix.Seen(size, file("", size).Modified) }

// TestAFixGivesWay: what is changed otherwise, has changed since or is gone is not fixed, and nothing is written over.
func TestAFixGivesWay(t *testing.T) {
	there := append(dirs("FULL", "TUNE", "old", "mine", "mine/deep"), file("old/tide.iso", 100), settings(2),
		file("mine/a.txt", 5), file("mine/b.txt", 6), file("mine/deep/c.txt", 7))
	write := func(name string) fix.Fix { return fix.Fix{Do: fix.Write, Path: name, Text: "again", Seen: seen(5)} }
	rename := func(name, to string, size int64) fix.Fix {
		return fix.Fix{Do: fix.Rename, Path: name, To: to, Seen: seen(size)}
	}
	s := situation{titles: []title.Title{vesper(1, "full", 100)}, there: there,
		found: map[int][]string{0: {"old/tide.iso"}}, removing: []string{"mine/b.txt"}}
	base := say(s.plan(t))
	require.Equal(t, []string{"move FULL/VSP-00001 - Copper Tide.iso from old/tide.iso", "copy TUNE/VSP-00001.tune",
		"remove mine/b.txt"}, base)
	for name, c := range map[string]struct {
		fixes []fix.Fix
		more  []string // steps beside those without any fix
		note  string
	}{
		"a text that is there": {[]fix.Fix{write("mine/a.txt")}, []string{"replace mine/a.txt"}, ""},
		"a text that is not":   {[]fix.Fix{write("mine/new.txt")}, []string{"copy mine/new.txt"}, ""},
		"another name": {[]fix.Fix{rename("mine/a.txt", "mine/z.txt", 5)},
			[]string{"move mine/z.txt from mine/a.txt"}, ""},
		"another letter case": {[]fix.Fix{rename("mine/a.txt", "mine/A.TXT", 5)},
			[]string{"move mine/A.TXT from mine/a.txt"}, ""},
		"its own name": {[]fix.Fix{rename("mine/a.txt", "mine/a.txt", 5)}, nil, ""},
		"one piece": {[]fix.Fix{{Do: fix.Defragment, Path: "mine/a.txt", Seen: seen(5)}},
			[]string{"replace mine/a.txt"}, ""},
		"what leaves":           {[]fix.Fix{write("mine/b.txt")}, nil, ""},
		"what the plan renames": {[]fix.Fix{rename("old/tide.iso", "old/other.iso", 100)}, nil, ""},
		"twice the same": {[]fix.Fix{write("mine/a.txt"), write("MINE/A.TXT")},
			[]string{"replace mine/a.txt"}, ""},
		"what is gone": {[]fix.Fix{rename("mine/gone.txt", "mine/z.txt", 5)}, nil,
			"it no longer exists"},
		"a folder as a text": {[]fix.Fix{write("mine/deep")}, nil, "it is a folder"},
		"what has changed": {[]fix.Fix{{Do: fix.Write, Path: "mine/a.txt", Text: "again",
			Seen: seen(4)}}, nil, "it was changed since it was found"},
		"a name that is taken": {[]fix.Fix{rename("mine/a.txt", "mine/deep/C.txt", 5)}, nil,
			"there is something at mine/deep/C.txt already"},
		"a name that the plan writes": {[]fix.Fix{rename("mine/a.txt", "TUNE/vsp-00001.tune", 5)}, nil,
			"there is something at TUNE/vsp-00001.tune already"},
		"a name that another fix takes": {[]fix.Fix{write("mine/new.txt"), rename("mine/a.txt", "mine/NEW.txt", 5)},
			[]string{"copy mine/new.txt"}, "there is something at mine/NEW.txt already"},
		"a name below a file": {[]fix.Fix{rename("mine/a.txt", "mine/deep/c.txt/a.txt", 5)}, nil,
			"or is where a folder must be"},
		"a name in a folder that moves": {[]fix.Fix{rename("mine/deep", "mine/other", 0),
			rename("mine/a.txt", "mine/deep/a.txt", 5)}, []string{"move mine/other from mine/deep"},
			"something in its way is moved"},
		"what lies in a folder that moves": {[]fix.Fix{rename("mine/deep", "mine/other", 0), rename("mine/deep/c.txt",
			"mine/c.txt", 7)}, []string{"move mine/other from mine/deep"}, "something in its way is moved"},
		"two for one name": {[]fix.Fix{rename("mine/a.txt", "mine/z.txt", 5), rename("mine/deep/c.txt",
			"mine/z.txt", 7)}, []string{"move mine/z.txt from mine/a.txt"}, "there is something at mine/z.txt already"},
		"a folder below itself": {[]fix.Fix{rename("mine/deep", "mine/deep/deep", 0)}, nil,
			"something in its way is moved"},
		"a folder out of which one moved": {[]fix.Fix{rename("mine/deep/c.txt", "mine/c.txt", 7),
			rename("mine/deep", "mine/other", 0)}, []string{"move mine/c.txt from mine/deep/c.txt",
			"remove-folder mine/deep"}, "something in it is moved elsewhere"},
	} {
		t.Run(name, func(t *testing.T) {
			s.fixes = c.fixes
			p := s.plan(t)
			var more []string
			for _, line := range say(p) {
				known := false
				for _, b := range base {
					known = known || b == line
				}
				if !known {
					more = append(more, line)
				}
			}
			assert.Equal(t, c.more, more)
			assert.Len(t, p.Steps, len(base)+len(c.more), "what was planned is still done")
			if c.note == "" {
				assert.Empty(t, p.Notes)
			} else {
				require.Len(t, p.Notes, 1)
				assert.Contains(t, p.Notes[0], c.note)
				assert.Contains(t, p.Notes[0], "Check the target again.")
			}
		})
	}
}

// TestValuesOfOneTextAreSetTogether: the file is written once, with all of them.
func TestValuesOfOneTextAreSetTogether(t *testing.T) {
	set := func(key string) fix.Fix {
		return fix.Fix{Do: fix.Set, Path: "mine/a.ini", Syntax: "ini", Section: "show", Key: key, Value: "1",
			Seen: seen(50)}
	}
	s := situation{there: append(dirs("mine"), file("mine/a.ini", 50), file("mine/b.ini", 50)),
		fixes: []fix.Fix{set("covers"), set("names")}}
	s.fixes = append(s.fixes, fix.Fix{Do: fix.Set, Path: "mine/b.ini", Syntax: "ini", Section: "show", Key: "covers",
		Value: "1", Seen: seen(50)})
	p := s.plan(t)
	require.Equal(t, []string{"replace mine/a.ini", "replace mine/b.ini"}, say(p))
	a := p.Steps[0].Make.With.Values
	require.Len(t, a, 2)
	assert.Equal(t, []shape.Value{{Syntax: "ini", Section: "show", Key: "covers", Value: "1"},
		{Syntax: "ini", Section: "show", Key: "names", Value: "1"}}, a)
	assert.Greater(t, p.Steps[0].Size, p.Steps[1].Size, "space is left for both")
	assert.EqualValues(t, 50, p.Steps[0].Was.Size, "it is looked at again before it is touched")
}
