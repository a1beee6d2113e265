package layout_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/layout"
	"polytome/internal/core/loader"
	"polytome/internal/core/title"
	"polytome/internal/testkit/coretest"
)

const numbering = `format = 1
name = "any"
shown = "Any"
list-order = ["title"]
[[attachment]]
name = "stick"
via = "usb"
filesystems = ["exfat"]
[[accept]]
platforms = ["vesper"]
path = "{kind}/{number|letters}/{title}{if disc}-{disc}{end}.iso"
numbers = "HOW"
`

// TestNumbersAreEachTitlesOwn: whatever is wanted, held and taken, no two titles that are there have one number; what
// holds one under appending keeps it; in order, the others follow the list without a gap that nobody has.
func TestNumbersAreEachTitlesOwn(t *testing.T) {
	for _, how := range []string{"in-order", "append"} {
		p, err := loader.ParseProfile("any.toml", []byte(strings.Replace(numbering, "HOW", how, 1)))
		require.NoError(t, err)
		d := coretest.Destination(t, p, "usb", "exfat")
		rapid.Check(t, func(t *rapid.T) {
			n := rapid.IntRange(1, 12).Draw(t, "titles")
			var all []title.Title
			for i := range n {
				tt := vesper(i, rapid.SampledFrom([]string{"Beacon", "Owl", "Reed", "Tin"}).
					Draw(t, "name")+fmt.Sprint(i), "full")
				all = append(all, tt)
			}
			numbers := rapid.Permutation([]int{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}).Draw(t, "numbers")
			x := layout.Numbering{Held: map[int]int{}, Taken: map[string]map[int]bool{"FULL": {}}}
			wants := make([]bool, n)
			for i := range n {
				wants[i] = rapid.Bool().Draw(t, "wanted")
				if rapid.Bool().Draw(t, "there") {
					x.Held[i] = numbers[i]
				}
			}
			for _, taken := range numbers[n : n+rapid.IntRange(0, 3).Draw(t, "others")] {
				x.Taken["FULL"][taken] = true
			}
			x.Counts = func(i int) bool { return wants[i] }
			for i, h := range x.Held {
				if !wants[i] {
					x.Taken["FULL"][h] = true
				}
			}
			before := layout.Lay(all, p, d)
			tree := before.Number(x)
			has := map[int]int{}
			var order []int
			for i := range n {
				number := tree.NumberOf(i)
				if !wants[i] && x.Held[i] == 0 {
					continue // it is not there
				}
				if j, twice := has[number]; twice {
					t.Fatalf("%d and %d both have %d", i, j, number)
				}
				has[number] = i
				switch {
				case !wants[i] && number != x.Held[i], how == "append" && x.Held[i] > 0 && number != x.Held[i]:
					t.Fatalf("%d has %d, and had %d", i, number, x.Held[i])
				case wants[i] && x.Taken["FULL"][number]:
					t.Fatalf("%d is somebody else's", number)
				}
				if wants[i] {
					order = append(order, i)
				}
				read := tree.NumbersAt([]string{tree.Placements[i].Items[0].Path})
				if len(read) != 1 || read[0].Number != number || read[0].Title != i || read[0].Folder != "FULL" {
					t.Fatalf("%s is read as %+v", tree.Placements[i].Items[0].Path, read)
				}
			}
			if how == "in-order" {
				slices.SortFunc(order, func(a, b int) int { return strings.Compare(all[a].Name, all[b].Name) })
				last := 0
				for _, i := range order {
					for last++; x.Taken["FULL"][last]; last++ {
					}
					if tree.NumberOf(i) != last {
						t.Fatalf("%s has %d instead of %d", all[i].Name, tree.NumberOf(i), last)
					}
				}
			}
			for i := range n { // the tree that it was made from is as it was
				if before.Placements[i].Items[0].Path != layout.Lay(all, p, d).Placements[i].Items[0].Path {
					t.Fatal("the tree before has changed")
				}
			}
		})
	}
}
