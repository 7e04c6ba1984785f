package deliver

import (
	"google.golang.org/protobuf/proto"

	collogs "go.opentelemetry.io/proto/otlp/collector/logs/v1"
)

// partialSuccess reads ExportLogsServiceResponse.partial_success.
func partialSuccess(answer []byte) (rejected int64, message string) {
	var resp collogs.ExportLogsServiceResponse
	if proto.Unmarshal(answer, &resp) != nil {
		return 0, ""
	}
	return resp.GetPartialSuccess().GetRejectedLogRecords(), resp.GetPartialSuccess().GetErrorMessage()
}
