package wire

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestDestinationsTravel: what is said of destinations arrives, beside the numbers of sources.
func TestDestinationsTravel(t *testing.T) {
	t.Parallel()
	all := map[string]Destination{
		"archive": {Room: 1 << 30, FullIn: 3600, Rejects: 7, RejectBytes: 900, RejectsGone: 1,
			Answers: map[string]int64{"accepted": 40, "503": 2}},
		"desk": {Room: 5},
	}
	numbers := map[string]Numbers{"s": {Read: 3, Deliveries: map[string]DeliveryCounts{
		"archive": {Read: 3, OnDisk: 2, InMemory: 1, DiskBytes: 12, Oldest: 5}}}}
	req := EncodeNumbers("h", time.Unix(1, 0), time.Unix(2, 0), numbers)
	AddDestinations(req, time.Unix(2, 0), all)
	back := report(t, req)
	assert.Equal(t, all, back.Destinations)
	assert.Equal(t, numbers, back.Sources)
}
