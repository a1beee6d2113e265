package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"polytome/internal/core/plan"
	"polytome/internal/core/shape"
)

func TestOnlyTheCoversOfAPlan(t *testing.T) {
	fitted := &shape.Spec{Shape: shape.Fitted}
	p := &plan.Plan{There: 2, Left: []plan.Left{{Label: "x"}}, Steps: []plan.Step{
		{Kind: plan.MakeFolder, Path: "FULL"},
		{Kind: plan.MakeFolder, Path: "FACES"},
		{Kind: plan.MakeFolder, Path: "FACES/front"},
		{Kind: plan.MakeFolder, Path: "FACES/disc"},
		{Kind: plan.Copy, Path: "FULL/a.iso", Make: &shape.Spec{}, Size: 100},
		{Kind: plan.Move, Path: "FULL/c.iso", From: "FULL/d.iso"},
		{Kind: plan.Copy, Path: "FACES/front/a.jpg", Make: fitted, Size: 7, Needs: []int{4}},
		{Kind: plan.Copy, Path: "FACES/front/b.jpg", Make: fitted, Size: 9},
		{Kind: plan.Replace, Path: "FACES/front/e.jpg", Make: fitted, Size: 11, Remade: true},
		{Kind: plan.Copy, Path: "FACES/disc/c.png", Make: fitted, Size: 13, Needs: []int{5}},
		{Kind: plan.Copy, Path: "FACES/front/m.jpg", Make: fitted, Size: 13, Fix: true},
		{Kind: plan.Copy, Path: "TUNE/b.tune", Make: &shape.Spec{Shape: shape.Written}, Size: 3},
		{Kind: plan.Remove, Path: "FULL/old.iso"},
	}}
	only := p.OnlyCovers()
	var paths []string
	for i := range only.Steps {
		paths = append(paths, only.Steps[i].Path)
	}
	assert.Equal(t, []string{"FACES", "FACES/front", "FACES/front/b.jpg", "FACES/front/e.jpg"}, paths,
		"of titles that are there, with the folders for them")
	assert.Equal(t, [2]any{2, int64(20)}, [2]any{only.Files, only.Bytes})
	assert.Empty(t, only.Left)
	assert.Zero(t, only.Loses(), "a picture of ours that is made again is no loss")
	assert.Len(t, p.Steps, 13, "the whole plan stays as it is")
}
