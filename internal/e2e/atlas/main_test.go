// Package atlas builds, activates and corrects editions, by the API and the command line.
package atlas

import (
	"testing"

	"eastporch/internal/testkit/live"
)

func TestMain(m *testing.M) { live.Main(m) }
