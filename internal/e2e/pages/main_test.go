// Package pages opens pages with the page script in browsers.
package pages

import (
	"testing"

	"eastporch/internal/testkit/live"
)

func TestMain(m *testing.M) { live.Main(m) }
