package title

import "strings"

// MarkOf is the kind of a picture that stands at the end of a file's name, without its extension: behind a dot, hyphen,
// space or underscore, in brackets, or as the whole name. What is in front of it is the name of the game. It is ""
// where none stands there.
func MarkOf(stem string) (game, of string) {
	lower := strings.ToLower(stem)
	for _, of := range PictureKinds {
		if lower == of {
			return "", of
		}
		for _, mark := range []string{"." + of, "-" + of, " (" + of + ")", "(" + of + ")", " " + of, "_" + of} {
			if strings.HasSuffix(lower, mark) {
				return stem[:len(stem)-len(mark)], of
			}
		}
	}
	return stem, ""
}
