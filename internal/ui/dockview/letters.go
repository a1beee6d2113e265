package dockview

import "strings"

// glyphs are the letters in which a phase is written so that it can be read from afar: five rows of three pixels, each
// a bit, the left one the highest.
var glyphs = map[rune][5]byte{
	'A': {2, 5, 7, 5, 5}, 'C': {7, 4, 4, 4, 7}, 'D': {6, 5, 5, 5, 6}, 'E': {7, 4, 6, 4, 7}, 'F': {7, 4, 6, 4, 4},
	'I': {7, 2, 2, 2, 7}, 'K': {5, 6, 4, 6, 5}, 'L': {4, 4, 4, 4, 7}, 'N': {7, 5, 5, 5, 5}, 'O': {7, 5, 5, 5, 7},
	'S': {7, 4, 7, 1, 7}, 'T': {7, 2, 2, 2, 2}, 'U': {5, 5, 5, 5, 7}, 'W': {5, 5, 5, 7, 5}, 'Y': {5, 5, 2, 2, 2},
	'0': {7, 5, 5, 5, 7}, '1': {2, 6, 2, 2, 7}, '2': {7, 1, 7, 4, 7}, '3': {7, 1, 3, 1, 7}, '4': {5, 5, 7, 1, 1},
	'5': {7, 4, 7, 1, 7}, '6': {7, 4, 7, 5, 7}, '7': {7, 1, 1, 2, 2}, '8': {7, 5, 7, 5, 7}, '9': {7, 5, 7, 1, 7},
	'%': {5, 1, 2, 4, 5}, '!': {2, 2, 2, 0, 2}, ' ': {},
}

// bigRows is how many rows large letters take.
const bigRows = 5

// longest is as long as a word in large letters gets.
const longest = "DONE"

// big writes a word in large letters of solid cells: scale times two for each pixel across, and scale down. Letters
// that there are none of are left out. With a scale of 0 there is nothing.
func big(word, solid string, scale int) (rows []string) {
	for y := range bigRows {
		row := ""
		for _, r := range word {
			g, ok := glyphs[r]
			if !ok {
				continue
			}
			for bit := byte(4); bit > 0; bit >>= 1 {
				cell := " "
				if g[y]&bit != 0 {
					cell = solid
				}
				row += strings.Repeat(cell, 2*scale)
			}
			row += strings.Repeat(" ", 2*scale)
		}
		for range scale {
			rows = append(rows, row)
		}
	}
	return rows
}

// bigWidth is how many cells a word takes in large letters at a scale of 1.
func bigWidth(word string) int { return 8 * len([]rune(word)) }
