package httpapi

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/people"
	"tinbell/internal/scorecard"
)

// QueueState tells whether work is waiting.
type QueueState struct {
	Idle bool `json:"idle"`
}

func (s *server) addScores(api huma.API) {
	add(api, "GET", "/scorecard", "scorecard", "Precision, recall, delay and load over the past", people.Reader,
		func(ctx context.Context, in *struct {
			From time.Time `query:"from" doc:"since judging began if left out"`
			To   time.Time `query:"to" doc:"now if left out"`
			By   string    `query:"by" enum:"dataset,measure,segment,owner,tag,rule,channel,month," doc:"break it down by this too"`
			Tag  string    `query:"tag" doc:"score what has this tag alone"`
		}) (*body[scorecard.Scorecard], error) {
			if err := s.tagged(ctx, in.Tag); err != nil {
				return nil, err
			}
			return ok(s.Scores.Score(ctx, in.From, in.To, in.By, in.Tag))
		})
	add(api, "GET", "/queue", "queue", "Whether work is waiting", people.Reader,
		func(ctx context.Context, _ *none) (*body[QueueState], error) {
			idle, err := s.Queue.Idle(ctx)
			return ok(QueueState{idle}, err)
		})
}
