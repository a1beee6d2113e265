package nearest_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/nearest"
)

func TestTheWordThatWasMeant(t *testing.T) {
	words := []string{"scan", "check", "connections", "capacity"}
	for typed, meant := range map[string]string{"sacn": "scan", "chekc": "check", "conections": "connections",
		"capcity": "capacity", "zebra": "", "": ""} {
		assert.Equal(t, meant, nearest.Word(typed, words), typed)
	}
}

func TestUnknownWords(t *testing.T) {
	words := []string{"usb", "ftp"}
	assert.EqualError(t, nearest.Unknown("connection", "ubs", words), `unknown connection "ubs": did you mean "usb"?`)
	assert.EqualError(t, nearest.Unknown("connection", "pigeon", words),
		`unknown connection "pigeon"; use one of: usb, ftp`)
	assert.EqualError(t, nearest.Unknown("connection", "pigeon", nil), `unknown connection "pigeon"`)
}
