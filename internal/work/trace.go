package work

import (
	"context"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/codes"
)

// traced begins a span of a job, and gives what ends it. Without an exporter it costs
// nothing and goes nowhere.
func traced(ctx context.Context, kind string) (context.Context, func(error)) {
	ctx, span := otel.Tracer("tinbell").Start(ctx, "job "+kind)
	return ctx, func(err error) {
		if err != nil {
			span.SetStatus(codes.Error, err.Error())
		}
		span.End()
	}
}
