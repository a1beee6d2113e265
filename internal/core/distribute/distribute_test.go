package distribute_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"polytome/internal/core/distribute"
)

// brute tries everything.
func brute(p *distribute.Problem) distribute.Score {
	homes := make([]int, len(p.Items))
	var best distribute.Score
	found := false
	var try func(i int)
	try = func(i int) {
		if i == len(homes) {
			if s := p.Score(homes); p.Fits(homes) && (!found || s.Better(best)) {
				best, found = s, true
			}
			return
		}
		stays := false
		for _, o := range p.Items[i].Options {
			stays = stays || o.Stays
		}
		for _, o := range p.Items[i].Options {
			if o.Stays == stays {
				homes[i] = o.Target
				try(i + 1)
				if stays {
					return
				}
			}
		}
		homes[i] = distribute.None
		try(i + 1)
	}
	try(0)
	return best
}

// random is a small problem: targets of different connections, titles that take their share of them.
func random(r *rand.Rand, most int) *distribute.Problem {
	targets := 1 + r.IntN(3)
	p := &distribute.Problem{Free: make([]int64, targets)}
	speed := make([]float64, targets)
	for k := range targets {
		p.Free[k] = int64(200 + r.IntN(2500))
		speed[k] = []float64{5, 10, 30, 80}[r.IntN(4)]
	}
	for range 2 + r.IntN(most-1) {
		it := distribute.Item{Priority: r.IntN(3)}
		size := int64(20 + r.IntN(900))
		for k := range targets {
			if r.IntN(4) > 0 {
				space := size + int64(r.IntN(20))
				it.Options = append(it.Options, distribute.Option{Target: k, Space: space,
					Time: float64(space) / speed[k]})
			}
		}
		if len(it.Options) > 0 && r.IntN(6) == 0 {
			o := &it.Options[r.IntN(len(it.Options))]
			o.Space, o.Time, o.Stays = 0, 0, true
		}
		p.Items = append(p.Items, it)
	}
	return p
}

func TestSharingIsAsGoodAsTryingEverything(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	const cases = 400
	var all, sensible, worst float64
	var placed, could int
	for n := range cases {
		p := random(r, 7)
		best := brute(p)
		homes := p.Solve()
		require.True(t, p.Fits(homes), "case %d", n)
		got := p.Score(homes)
		require.Equal(t, best.Placed, got.Placed, "case %d", n)
		require.LessOrEqual(t, got.Time, best.Time*1.02+1e-6, "case %d", n)

		// without the exact search, which larger problems do not have
		quick := p.Sensible()
		require.True(t, p.Fits(quick), "case %d", n)
		s := p.Score(quick)
		for k := range s.Placed {
			placed += s.Placed[k]
			could += best.Placed[k]
		}
		if slices.Equal(s.Placed, best.Placed) {
			all, sensible = all+best.Time, sensible+s.Time
			if best.Time > 0 {
				worst = max(worst, s.Time/best.Time)
			}
		}
	}
	t.Logf("without the exact search: %d of %d titles placed, %.4f of the least time, %.2f at worst", placed, could,
		sensible/all, worst)
	assert.GreaterOrEqual(t, float64(placed), 0.98*float64(could), "good sense alone targets nearly as many")
	assert.LessOrEqual(t, sensible, 1.02*all, "and takes hardly longer")
}

func TestPriorityComesBeforeNumber(t *testing.T) {
	p := &distribute.Problem{Free: []int64{100}, Items: []distribute.Item{
		{Priority: 0, Options: []distribute.Option{{Target: 0, Space: 50}}},
		{Priority: 0, Options: []distribute.Option{{Target: 0, Space: 50}}},
		{Priority: 1, Options: []distribute.Option{{Target: 0, Space: 90}}},
	}}
	assert.Equal(t, []int{distribute.None, distribute.None, 0}, p.Solve())
}

func TestWhatIsThereStaysThere(t *testing.T) {
	p := &distribute.Problem{Free: []int64{0, 1000}, Items: []distribute.Item{
		{Options: []distribute.Option{{Target: 0, Space: 0, Time: 0, Stays: true}, {Target: 1, Space: 10, Time: 1}}},
		{Options: []distribute.Option{{Target: 0, Space: 10, Time: 1}, {Target: 1, Space: 10, Time: 9}}},
		{Options: nil},
	}}
	assert.Equal(t, []int{0, 1, distribute.None}, p.Solve())
}

func TestSpaceIsMadeByMovingOthersOn(t *testing.T) {
	// the first goes to the quick target, and has to leave it for the second, which fits nowhere else
	p := &distribute.Problem{Free: []int64{10, 10, 10}, Items: []distribute.Item{
		{Options: []distribute.Option{{Target: 0, Space: 10, Time: 1}, {Target: 1, Space: 10, Time: 5}}},
		{Options: []distribute.Option{{Target: 1, Space: 10, Time: 1}, {Target: 2, Space: 10, Time: 50}}},
		{Options: []distribute.Option{{Target: 0, Space: 10, Time: 1}}},
	}}
	assert.Equal(t, []int{1, 2, 0}, p.Sensible())
	assert.Equal(t, []int{1, 2, 0}, p.Solve())
}

func TestTheSameProblemHasTheSameHomes(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := random(rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 3)), 60)
		first := p.Solve()
		if !p.Fits(first) {
			t.Fatalf("overfilled")
		}
		if again := p.Solve(); !slices.Equal(first, again) {
			t.Fatalf("%v, and then %v", first, again)
		}
		for i, home := range first { // no one is left out who would have space
			if home != distribute.None {
				continue
			}
			free := slices.Clone(p.Free)
			for j, h := range first {
				for _, o := range p.Items[j].Options {
					if o.Target == h {
						free[h] -= o.Space
					}
				}
			}
			for _, o := range p.Items[i].Options {
				if o.Space <= free[o.Target] {
					t.Fatalf("%d is left out and has space at %d", i, o.Target)
				}
			}
		}
	})
}

func BenchmarkDistribute(b *testing.B) {
	for _, n := range []int{1000, 50_000} {
		b.Run(fmt.Sprintf("%d titles, 6 targets", n), func(b *testing.B) {
			r := rand.New(rand.NewPCG(5, 6))
			p := &distribute.Problem{}
			for range 6 {
				p.Free = append(p.Free, int64(n)*60)
			}
			var least int64
			for range n {
				it := distribute.Item{Priority: r.IntN(3)}
				size := int64(20 + r.IntN(900))
				least += size
				for k := range 6 {
					it.Options = append(it.Options, distribute.Option{Target: k, Space: size,
						Time: float64(size) / float64(5+10*k)})
				}
				p.Items = append(p.Items, it)
			}
			placed := 0
			for b.Loop() {
				placed = 0
				for _, h := range p.Solve() {
					if h != distribute.None {
						placed++
					}
				}
			}
			// were all targets one, the smallest titles of each priority would fill it
			b.ReportMetric(float64(placed)/float64(bound(p)), "of-the-most")
		})
	}
}

// bound is how many titles would find space if all targets were one: the smallest of each priority,
// the highest first.
func bound(p *distribute.Problem) (n int) {
	var free int64
	for _, f := range p.Free {
		free += f
	}
	for priority := 2; priority >= 0; priority-- {
		var sizes []int64
		for _, it := range p.Items {
			if it.Priority == priority {
				sizes = append(sizes, it.Options[0].Space)
			}
		}
		slices.Sort(sizes)
		for _, s := range sizes {
			if s > free {
				break
			}
			free -= s
			n++
		}
	}
	return n
}
