// Package visits records, lists, exports, erases and counts visits, by the API and the command line.
package visits

import (
	"testing"

	"eastporch/internal/testkit/live"
)

func TestMain(m *testing.M) { live.Main(m) }
