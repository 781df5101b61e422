// Package faults kills, stops and starves the service and its database under load, and counts what was acknowledged.
package faults

import (
	"testing"

	"eastporch/internal/testkit/live"
)

func TestMain(m *testing.M) { live.Main(m) }
