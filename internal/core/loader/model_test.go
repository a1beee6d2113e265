package loader_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/loader"
)

// TestAConsoleSaysWhatItGotLater, whatever stands on the stick in place of that.
func TestAConsoleSaysWhatItGotLater(t *testing.T) {
	m := loader.Model{BuiltIn: []loader.BuiltIn{{ID: "A-1", Name: "Moss"}, {ID: "A-2", Name: "Alder"}}}
	var names []string
	for _, b := range m.All("a-1 Twice\r\nA-3 \x1b[2JBad\nA-4\n \n\xff\xfe no text\nA-5  Bell \nA-5 Again\n" +
		"A-6 " + strings.Repeat("x", 500) + "\n") {
		names = append(names, b.Name)
		assert.Equal(t, b.ID == "A-5", b.Later, b.ID)
	}
	assert.Equal(t, []string{"Alder", "Bell", "Moss"}, names)
	assert.Len(t, m.All(""), 2)
	many := strings.Builder{}
	for i := range 5000 {
		many.WriteString("B-" + strings.Repeat("i", i%300) + string(rune('a'+i/300)) + " Name\n")
	}
	assert.LessOrEqual(t, len(m.All(many.String())), 2000)
}

func FuzzWhatAConsoleGotLater(f *testing.F) {
	f.Add("A-1 Moss\nA-2 Alder\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, b := range (&loader.Model{}).All(text) {
			if b.ID == "" || b.Name == "" || strings.ContainsAny(b.ID+b.Name, "\x1b\n\r") {
				t.Fatalf("%q %q", b.ID, b.Name)
			}
		}
	})
}
