package teach

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/reading"
)

func TestASCIIThatWasTakenForWideLetters(t *testing.T) {
	for _, ascii := range []string{"RWL-5308", "Copper Tide!", "aB", "\x00RWL-5308"} {
		assert.True(t, misread(reading.Decode([]byte(ascii), "utf-16le")), ascii)
		assert.True(t, misread(reading.Decode([]byte(strings.Trim(ascii, "\x00")), "utf-16be")), ascii)
	}
	for _, word := range []string{"ひかり", "ソース", "Ürün", "Copper Tide", "港の灯り", "한국"} {
		assert.False(t, misread(word), word)
	}
}
