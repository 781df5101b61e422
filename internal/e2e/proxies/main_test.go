// Package proxies puts real proxies in front of the service and of sites, with the recipes as they are handed out.
package proxies

import (
	"testing"

	"eastporch/internal/testkit/live"
)

func TestMain(m *testing.M) { live.Main(m) }
