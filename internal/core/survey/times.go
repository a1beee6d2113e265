package survey

import (
	"runtime"
	"time"

	"polytome/internal/core/pace"
	"polytome/internal/core/plan"
	"polytome/internal/core/proof"
	"polytome/internal/core/run"
	"polytome/internal/core/shape"
)

// Pace is how fast the place takes files.
func (s *Survey) Pace() pace.Pace {
	return s.Config.Pace.Pace(s.Config.Road).Limited(int64(s.Config.Rate))
}

// Time is how long it takes to bring title i there; nothing for one that is there or does not go.
func (s *Survey) Time(i int) pace.Range {
	v := s.Sheet.Fits(i)
	if !v.Kind.Goes() || v.Need <= 0 {
		return pace.Range{}
	}
	items := s.Sheet.Placement(i).Items
	cost := 0.0
	for k := range items {
		cost += items[k].Cost(runtime.GOMAXPROCS(0))
	}
	return s.Pace().Of(len(items), v.Need).Beside(shaping(cost))
}

// shaping is how long it takes to bring files into their shapes, which goes on while they are written.
func shaping(seconds float64) pace.Range {
	return pace.Range{Least: time.Duration(seconds * 0.7 * float64(time.Second)), Most: time.Duration(seconds * 1.6 * float64(time.Second))}
}

// ProofTime is how long the proof after a run of a plan takes: it lists the place, and looks into each game, but for what the run itself reads back over a network.
func (s *Survey) ProofTime(p *plan.Plan, v run.Verify) pace.Range {
	if len(p.Steps) == 0 || s.Sheet == nil {
		return pace.Range{}
	}
	listing := pace.Range{Least: s.Took, Most: s.Took}
	if proof.UsualDepth(s.Config.Road) == proof.Names {
		return listing
	}
	looks := 0
	for i := range s.Sheet.Titles() {
		if s.Sheet.Chosen[i] && s.Sheet.Verdict(i).Kind.Goes() {
			looks++
		}
	}
	for i := range p.Steps {
		if st := &p.Steps[i]; st.Writes() && st.Make.Shape != shape.Written && s.Facts.Network != "" && v == run.VerifyFull && plain(st.Make) {
			looks--
		}
	}
	return listing.Plus(s.Pace().Looks(max(0, looks)))
}

// Guess is what the forecast of a run of a plan begins with.
func (s *Survey) Guess(p *plan.Plan, v run.Verify) run.Guess {
	g := s.Pace().Guess()
	g.After = s.ProofTime(p, v).Middle()
	return g
}

// PlanTime is how long the steps of a plan take, with the proof behind them.
func (s *Survey) PlanTime(p *plan.Plan) pace.Range {
	r := s.Pace().Of(p.Files, p.Bytes).Beside(shaping(p.Shaping))
	others := len(p.Steps) - p.Files
	return r.Plus(s.Pace().Of(others, 0)).Plus(s.ProofTime(p, options(nil, s.dir, &s.Config).Verify))
}
