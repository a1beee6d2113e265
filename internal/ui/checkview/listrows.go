package checkview

import (
	"fmt"

	"polytome/internal/core/check"
	"polytome/internal/size"
)

// A row is one of the list as the console shows it: a title, or what heads a page or a section.
type row struct {
	line int    // index of the title; -1 for what heads others
	head string // what is said there
	page bool   // it heads a page
	sub  bool   // it is in a section
}

// rowsOf divides a report's list into the sections and pages that the console shows; page is how many lines a loader's
// console shows at a time, 0 where that is not known.
func rowsOf(all []check.Listed, page func(loader string) int) (rows []row) {
	for from := 0; from < len(all); {
		to := from + 1
		for to < len(all) && all[to].Loader == all[from].Loader {
			to++
		}
		rows = append(rows, paged(all, from, to, page(all[from].Loader))...)
		from = to
	}
	return rows
}

// paged are the rows of one loader's list, of the titles from one to another.
func paged(all []check.Listed, from, to, page int) (rows []row) {
	entries := 0 // of the list itself: titles and sections
	for i := from; i < to; i++ {
		if all[i].Section == "" || i == from || all[i-1].Section != all[i].Section {
			entries++
		}
	}
	head := func(n, of int, section string) {
		if page > 0 && of > page && n%page == 0 {
			say := fmt.Sprintf("page %d of %d", n/page+1, (of+page-1)/page)
			if section != "" {
				say = section + ", " + say
			}
			rows = append(rows, row{line: -1, head: say, page: true, sub: section != ""})
		}
	}
	n := 0
	for i := from; i < to; {
		section := all[i].Section
		head(n, entries, "")
		n++
		if section == "" {
			rows = append(rows, row{line: i})
			i++
			continue
		}
		end := i
		for end < to && all[end].Section == section {
			end++
		}
		rows = append(rows, row{line: -1, head: fmt.Sprintf("%s: %s", section, size.Count(end-i, "title"))})
		for k := i; k < end; k++ {
			if k > i {
				head(k-i, end-i, section)
			}
			rows = append(rows, row{line: k, sub: true})
		}
		i = end
	}
	return rows
}
