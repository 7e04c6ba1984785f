package deliver

import (
	"google.golang.org/protobuf/proto"

	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"

	"synaxis/internal/core/delivery"
	"synaxis/internal/core/record"
)

// newOTLP posts ExportLogsServiceRequests. What a receiver says it rejected is only told: the specification has no way
// to know which records these were.
func newOTLP(spec delivery.Spec, deps Deps) (Sender, error) {
	s, err := posting(spec, deps, record.OTLP)
	if err != nil {
		return nil, err
	}
	s.accepted = func(answer []byte) {
		if n, msg := partialSuccess(answer); n > 0 {
			deps.Log.Warn("the receiver took the delivery but rejected some of its records", "rejected", n, "message", msg)
		}
	}
	return s, nil
}

// partialSuccess reads ExportLogsServiceResponse.partial_success.
func partialSuccess(answer []byte) (rejected int64, message string) {
	var resp collogs.ExportLogsServiceResponse
	if proto.Unmarshal(answer, &resp) != nil {
		return 0, ""
	}
	return resp.GetPartialSuccess().GetRejectedLogRecords(), resp.GetPartialSuccess().GetErrorMessage()
}
