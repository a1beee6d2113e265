package scan

import "polytome/internal/core/title"

// Group joins the discs of one game, as a scan does at its end.
func Group(found []title.Title) []title.Title {
	all := make([]*title.Title, len(found))
	for i := range found {
		all[i] = &found[i]
	}
	return group(all)
}
