package demo

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
)

// covered are the titles that have a cover beside their image.
var covered = []string{"Copper Tide", "Paper Falcons", "Saffron Circuit", "Mistral Halt"}

// coverWidth and coverHeight are the size of the covers in pixels.
const coverWidth, coverHeight = 400, 560

// cover draws a picture for a title: bands of waves in two colours that come from a seed.
func cover(seed uint64) ([]byte, error) {
	n := mix(seed)
	deep := color.RGBA{uint8(n) / 3, uint8(n>>8) / 3, uint8(n>>16)/3 + 60, 255}
	light := color.RGBA{uint8(n>>24)/2 + 120, uint8(n>>32)/2 + 100, uint8(n>>40)/2 + 80, 255}
	im := image.NewPaletted(image.Rect(0, 0, coverWidth, coverHeight), color.Palette{deep, light})
	bend := int(n>>48)%40 + 30
	for y := range coverHeight {
		for x := range coverWidth {
			wave := (x - coverWidth/2) * (x - coverWidth/2) / (bend * 20)
			if (y+wave)/bend%2 == 0 {
				im.SetColorIndex(x, y, 1)
			}
		}
	}
	var b bytes.Buffer
	err := png.Encode(&b, im)
	return b.Bytes(), err
}
