package survey

import (
	"runtime"
	"time"

	"polytome/internal/core/check"
	"polytome/internal/core/estimate"
	"polytome/internal/core/plan"
	"polytome/internal/core/run"
	"polytome/internal/core/shape"
	"polytome/internal/target/served"
)

// Stays reports whether games that are brought there stay where they are: the target is an export of this computer.
func (s *Survey) Stays() bool { return served.Is(s.dir) }

// Speed is how fast the target takes files.
func (s *Survey) Speed() estimate.Speed {
	if s.Stays() {
		return estimate.Stays
	}
	return s.Config.Speed.Speed(s.Config.Via).Limited(int64(s.Config.Rate))
}

// Time is how long it takes to bring title i there; nothing for one that is there or does not go.
func (s *Survey) Time(i int) estimate.Range {
	v := s.Sheet.Fits(i)
	if !v.Kind.Goes() || v.Need <= 0 {
		return estimate.Range{}
	}
	items := s.Sheet.Placement(i).Items
	cost := 0.0
	for k := range items {
		cost += items[k].Cost(runtime.GOMAXPROCS(0))
	}
	return s.Speed().Of(len(items), v.Need).Beside(shaping(cost))
}

// shaping is how long it takes to bring files into their shapes, which goes on while they are written.
func shaping(seconds float64) estimate.Range {
	return estimate.Range{Least: time.Duration(seconds * 0.7 * float64(time.Second)),
		Most: time.Duration(seconds * 1.6 * float64(time.Second))}
}

// CheckTime is how long the check after a run of a plan takes: it lists the target, and looks into each game, but for
// what the run itself reads back over a network.
func (s *Survey) CheckTime(p *plan.Plan, v run.Verify) estimate.Range {
	if len(p.Steps) == 0 || s.Sheet == nil {
		return estimate.Range{}
	}
	listing := estimate.Range{}
	if s.Facts.Network != "" { // elsewhere it takes no time worth saying, and planning twice gives the same
		listing = estimate.Range{Least: s.Took, Most: s.Took}
	}
	if check.UsualDepth(s.Config.Via) == check.Names {
		return listing
	}
	looks := 0
	for i := range s.Sheet.Titles() {
		if s.Sheet.Chosen[i] && s.Sheet.Verdict(i).Kind.Goes() {
			looks++
		}
	}
	for i := range p.Steps {
		if st := &p.Steps[i]; st.Writes() && st.Make.Shape != shape.Written && s.Facts.Network != "" &&
			v == run.VerifyFull && plain(st.Make) {
			looks--
		}
	}
	return listing.Plus(s.Speed().Looks(max(0, looks)))
}

// Guess is what the forecast of a run of a plan begins with.
func (s *Survey) Guess(p *plan.Plan, v run.Verify) run.Guess {
	g := s.Speed().Guess()
	g.After = s.CheckTime(p, v).Middle()
	return g
}

// PlanTime is how long the steps of a plan take, with the check behind them.
func (s *Survey) PlanTime(p *plan.Plan) estimate.Range {
	speed := s.Speed()
	writing, others := estimate.Range{}, 0
	for i := range p.Steps {
		if st := &p.Steps[i]; st.Writes() {
			writing = writing.Plus(speed.Of(1, st.Size))
		} else {
			others++
		}
	}
	return writing.Beside(shaping(p.Shaping)).Plus(speed.Of(others, 0)).Plus(s.CheckTime(p,
		options(nil, s.dir, &s.Config).Verify))
}
