package shape

import "polytome/internal/core/title"

// extract is a file out of an image: the image goes as the folder that is in it.
var extract = Kind{
	Name: Extract, Word: "extract", From: title.Image,
	Rule:     "images are unpacked into a folder",
	Reported: "taken out of the image %s",
	Says: func(l, form string) string {
		return l + " does not read this " + form + "; it needs the folder in it"
	},
	Open: fromSource,
}
