// Package answers calls the service over HTTP: every route by scope and listener, keys and sessions, reloading, localization.
package answers

import (
	"testing"

	"eastporch/internal/testkit/live"
)

func TestMain(m *testing.M) { live.Main(m) }
