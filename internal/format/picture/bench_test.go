package picture_test

import (
	"bytes"
	"image/jpeg"
	"image/png"
	"testing"

	"polytome/internal/format/picture"
)

func BenchmarkFit(b *testing.B) {
	var j, p bytes.Buffer
	_ = jpeg.Encode(&j, noisy(1000, 1400), nil)
	_ = png.Encode(&p, noisy(1000, 1400))
	for name, data := range map[string][]byte{"jpeg": j.Bytes(), "png": p.Bytes()} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if _, err := picture.Fit(bytes.NewReader(data), picture.Rule{Width: 256, Height: 368, Fit: "inside",
					Format: "jpg"}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
