package titlelist_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/core/title"
	"polytome/internal/core/titlelist"
	"polytome/internal/format/sums"
)

func TestIDFirstThenChecksumThenName(t *testing.T) {
	var l titlelist.List
	require.NoError(t, l.Read("season.csv",
		strings.NewReader("\uFEFFID;Name;Region;Year;Players;Publisher;Platform;Checksum;Shelf\r\n"+
			"VSP-20417;Copper Tide: the Long Way;North;1998;1-4;Gullwing;;;A3\r\n"+
			";Marsh Light;;2001;1;\"West; Hall\";heron16;0ABC1234;\r\n"+
			";Ropewalk;East;1999;;;;;\r\n"+
			";Ropewalk;West;2002;;;;;\r\n")))
	assert.Equal(t, []sums.Algorithm{sums.CRC32}, l.Wants())
	find := func(tt title.Title, checksums ...string) string {
		row, by := l.Find(&tt, checksums)
		if row == nil {
			return ""
		}
		return row.Year + " by " + by
	}
	assert.Equal(t, "1998 by its ID", find(title.Title{ID: "vsp-20417", Name: "Ropewalk"}, "0abc1234"))
	assert.Equal(t, "2001 by its checksum", find(title.Title{Platform: "heron16", Name: "Ropewalk"}, "0abc1234"))
	assert.Equal(t, "", find(title.Title{Platform: "wren8"}, "0abc1234"), "the row is for another platform")
	assert.Equal(t, "2001 by its name", find(title.Title{Platform: "heron16", Name: "MARSH_LIGHT"}))
	assert.Equal(t, "", find(title.Title{Name: "Ropewalk"}), "two rows have the name")
	assert.Equal(t, "2002 by its name", find(title.Title{Name: "Ropewalk", Region: "West"}))
	row, _ := l.Find(&title.Title{Platform: "heron16", Name: "Marsh Light"}, nil)
	assert.Equal(t, "West; Hall", row.Publisher)
}

func TestBadLines(t *testing.T) {
	var l titlelist.List
	err := l.Read("a.csv", strings.NewReader("id,name,crc32\nVSP-1,One,12345678\nVSP-2,Two,1234\n,,\nVSP-3,Three\n"))
	require.Error(t, err)
	assert.Equal(t, "a.csv:3: \"1234\" is not a checksum of the column crc32\na.csv:4: the line has neither an ID, a "+
		"name nor a checksum", err.Error())
	assert.Len(t, l.Rows, 3, "the good ones are used")
	assert.ErrorContains(t, l.Read("b.csv", strings.NewReader("year,shelf\n1998,A\n")),
		"csv: the first line has no column id or name")
	assert.ErrorContains(t, l.Read("c.csv", strings.NewReader("")), "its first line")
}

func FuzzRead(f *testing.F) {
	f.Add("id,name,year\nVSP-1,\"a\nb\",1998\n")
	f.Add("name;checksum\n\"x;0abc1234")
	f.Fuzz(func(t *testing.T, text string) {
		var l titlelist.List
		_ = l.Read("f.csv", strings.NewReader(text))
		for _, r := range l.Rows {
			tt := title.Title{ID: r.ID, Name: r.Name, Platform: r.Platform}
			if row, _ := l.Find(&tt, r.Sums); row == nil && (r.ID != "" || len(r.Sums) > 0) {
				t.Fatalf("its own row is not found: %+v", r)
			}
		}
	})
}
