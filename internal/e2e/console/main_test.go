// Package console uses the console in a browser.
package console

import (
	"testing"

	"eastporch/internal/testkit/live"
)

func TestMain(m *testing.M) { live.Main(m) }
