package outbox

import (
	"context"

	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"

	"github.com/illumicode/illumicode/internal/store"
)

// Trace returns the W3C traceparent of the span in ctx, to be kept with a delivery; empty for none.
func Trace(ctx context.Context) string {
	carrier := propagation.MapCarrier{}
	propagation.TraceContext{}.Inject(ctx, carrier)
	return carrier.Get("traceparent")
}

// startSpan starts the span of an attempt, in the trace of the request that asked for it.
func startSpan(ctx context.Context, d store.Delivery) (context.Context, trace.Span) {
	if d.Trace != "" {
		ctx = propagation.TraceContext{}.Extract(ctx, propagation.MapCarrier{"traceparent": d.Trace})
	}
	return otel.Tracer("github.com/illumicode/illumicode/outbox").Start(ctx, "deliver "+d.Letter,
		trace.WithSpanKind(trace.SpanKindProducer),
		trace.WithAttributes(attribute.String("illumicode.delivery", d.ID),
			attribute.String("illumicode.lane", string(d.Lane))))
}

// endSpan says how it ended.
func endSpan(ctx context.Context, a store.Attempt, end store.End) {
	span := trace.SpanFromContext(ctx)
	if !span.IsRecording() {
		return
	}
	span.SetAttributes(attribute.String("illumicode.provider", a.Provider),
		attribute.String("illumicode.class", string(a.Class)),
		attribute.Int("illumicode.attempt", a.Number), attribute.String("illumicode.state", string(end.State)))
	if end.State != store.Sent {
		span.SetStatus(codes.Error, string(a.Class))
	}
}
