package infer

import "slices"

// mostSeeds is from how many rows a template is grown.
const mostSeeds = 5

// Most finds the template that makes the most rows, where some are made by another rule or by none; made says which.
func Most(rows []Row, o Options) (best Made, made []bool) {
	if m, ok := Template(rows, o); ok {
		made = make([]bool, len(rows))
		for i := range made {
			made[i] = true
		}
		return m, made
	}
	most := 0
	for seed := range min(mostSeeds, len(rows)) {
		first := seed * len(rows) / min(mostSeeds, len(rows))
		of := []Row{rows[first]}
		in := make([]bool, len(rows))
		in[first] = true
		var m Made
		for k := 1; k < len(rows); k++ {
			i := (first + k) % len(rows)
			if x, ok := Template(append(slices.Clone(of), rows[i]), o); ok && (m.Text == "" || x.Cost <= m.Cost+14) &&
				x.Cost < literalCost*max(12, shortest(of)) {
				m, of, in[i] = x, append(of, rows[i]), true
			}
		}
		if len(of) > most && m.Text != "" {
			most, best, made = len(of), m, in
		}
	}
	if best.Text == "" && len(rows) == 1 {
		best, _ = Template(rows, o)
		made = []bool{true}
	}
	return best, made
}

func shortest(rows []Row) int {
	n := len(rows[0].Text)
	for _, r := range rows {
		n = min(n, len(r.Text))
	}
	return n
}
