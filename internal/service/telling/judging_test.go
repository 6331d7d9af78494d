package telling_test

import (
	"testing"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/dbtest"
	"tinbell/internal/store"
)

// Who judges holds an alert and changes it again, while who groups comes in
// between: neither may wait for the other in a circle.
func TestJudgingAndGroupingDoNotStandInEachOthersWay(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.monitor("ops.scans")
	d.webhook("pager")
	id := d.ring("ops.scans")
	a, err := d.Parts.Store.Alert(t.Context(), id)
	dbtest.Must(t, err)
	for range 20 {
		dbtest.Must(t, d.Parts.Store.InTx(t.Context(), func(tx pgx.Tx) error {
			for range 2 {
				if _, err := store.PutAlert(t.Context(), tx, a); err != nil {
					return err
				}
				if err := d.Parts.Faults.Gather(t.Context()); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	if came := d.settle("/pager"); len(came) != 1 || came[0].Times != 1 {
		t.Errorf("told: %v", said(t, came))
	}
}
