// Package documents runs what documents tell their readers to do, to the letter.
package documents

import (
	"testing"

	"eastporch/internal/testkit/live"
)

func TestMain(m *testing.M) { live.Main(m) }
