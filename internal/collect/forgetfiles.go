package collect

import (
	"context"
	"errors"

	"tinbell/internal/collect/landing"
	"tinbell/internal/record"
)

// ForgetFiles drops what is known of files that landed more than so many days ago and are
// there no more; one that is still there would be counted again. 0 days: nothing.
func (c *Collector) ForgetFiles(ctx context.Context, days int) error {
	if days <= 0 {
		return nil
	}
	datasets, err := c.store.Datasets(ctx)
	if err != nil {
		return err
	}
	for _, d := range datasets {
		if d.Pattern != "" {
			err = errors.Join(err, c.forgetFiles(ctx, d, days))
		}
	}
	return err
}

func (c *Collector) forgetFiles(ctx context.Context, d record.Dataset, days int) error {
	source, err := c.store.Source(ctx, d.Source)
	if err != nil {
		return err
	}
	pattern, err := landing.ParsePattern(d.Pattern)
	if err != nil {
		return err
	}
	files, err := pattern.List(source.Address)
	if err != nil {
		return nil // a folder that cannot be read now says nothing of what is there
	}
	there := make([]string, 0, len(files))
	for _, f := range files {
		if broken := unkeepable(f); broken != nil {
			f.Path = broken.Path
		}
		there = append(there, f.Path)
	}
	return c.store.ForgetDeliveries(ctx, d.ID, there, c.now().AddDate(0, 0, -days))
}
