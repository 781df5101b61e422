package plain

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCount(t *testing.T) {
	for want, got := range map[string]string{
		"1 visit": Count(1, "visit"), "0 visits": Count(0, "visit"), "2 visits": Count(2, "visit"), "-1 visits": Count(-1, "visit"),
		"1 address": Count(1, "address"), "3 addresses": Count(int64(3), "address"), "1 entry": Count(1, "entry"), "5 entries": Count(5, "entry"),
		"2 days": Count(2, "day"), "7 countries": Count(7, "country"), "2 matches": Count(2, "match"),
	} {
		assert.Equal(t, want, got)
	}
}
