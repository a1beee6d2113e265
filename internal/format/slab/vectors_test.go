package slab_test

import (
	"encoding/hex"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"polytome/internal/format/slab"
)

// TestTheExamplesOfTheDocument: what docs/formats/slab.md gives as bytes is what is written.
func TestTheExamplesOfTheDocument(t *testing.T) {
	doc, err := os.ReadFile("../../../docs/formats/slab.md")
	require.NoError(t, err)
	_, examples, found := strings.Cut(string(doc), "## 6. Examples")
	require.True(t, found)
	examples, _, _ = strings.Cut(examples, "## 7.")
	var given []string
	for _, m := range regexp.MustCompile("`([0-9a-f \n]{8,})`").FindAllStringSubmatch(examples, -1) {
		given = append(given, strings.Join(strings.Fields(m[1]), ""))
	}
	m, d := disk(t, 12, options())
	is := []string{hex.EncodeToString(m.B[:96]), hex.EncodeToString(m.B[508:512]),
		hex.EncodeToString(m.B[slab.Slab : slab.Slab+48]), hex.EncodeToString(m.B[slab.Slab+508 : slab.Slab+512])}
	add(t, d, "VSP-20417", "Copper Tide", []byte("abc"))
	record := m.B[slab.Slab+512:]
	record = record[:uint32(record[4])|uint32(record[5])<<8]
	is = append(is, hex.EncodeToString(record))
	assert.Equal(t, is, given)
	assert.Equal(t, record, m.B[2*slab.Slab+512:][:len(record)], "the other table has the same")
	head := m.B[d.Titles()[0].Extents[0].First*512:]
	assert.Equal(t, "SLABHEAD", string(head[:8]))
	assert.Equal(t, "abc", string(head[4096:4099]))
}
