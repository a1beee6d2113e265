package journal

import (
	"context"

	"polytome/internal/core/run"
)

// Start begins to carry out a job, and writes it down. The note is why that cannot be written down, nil where it can:
// the run goes on all the same.
func (j *Journal) Start(ctx context.Context, b Beginning, job run.Job) (lane *run.Lane, id int64, note error) {
	b.Plan, b.Verify = job.Plan, job.Verify
	rec, note := j.Begin(b)
	emit, over := job.Emit, job.Over
	job.Emit = func(e run.Event) {
		rec.Event(e)
		if emit != nil {
			emit(e)
		}
	}
	job.Over = func(r run.Report) {
		_ = rec.End(r) // what could not be written down is in no way lost on the target
		if over != nil {
			over(r)
		}
	}
	return run.Start(ctx, job), rec.ID(), note
}
