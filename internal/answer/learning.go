package answer

import (
	"context"
	"fmt"

	"tinbell/internal/record"
	"tinbell/internal/work"
)

// SetLearning changes how the service learns: the filter, its limit, and whether
// tuning runs by itself. Switched off, it lets go what it holds back.
func (d *Desk) SetLearning(ctx context.Context, state string, limit float64, nightly bool, author string) (record.Learning, error) {
	if limit < 0.001 || limit > 0.2 {
		return record.Learning{}, record.Invalid{Field: "limit", Given: fmt.Sprint(limit),
			Allowed: "0.001 to 0.2: the share of faults that may be lost"}
	}
	if err := d.store.SetLearning(ctx, state, limit, nightly, author); err != nil {
		return record.Learning{}, err
	}
	if state != record.FilterActive {
		if err := d.store.Release(ctx); err != nil {
			return record.Learning{}, err
		}
	}
	if err := d.queue.Add(ctx, work.Relearn{}); err != nil {
		return record.Learning{}, err
	}
	return d.store.Learning(ctx)
}
