package httpapi

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/api"
)

// Every route is documented for the listeners that serve it, and every documented
// operation is served there.
func TestContractAndRoutesAgree(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(api.YAML())
	require.NoError(t, err)
	for _, listener := range []Listener{PublicListener, AdminListener} {
		documented := map[string]bool{}
		for path, item := range doc.Paths.Map() {
			for method, op := range item.Operations() {
				if slices.Contains(op.Extensions["x-listeners"].([]any), any(string(listener))) {
					documented[method+" "+path] = true
				}
			}
		}
		served := map[string]bool{}
		for _, r := range newFixture(t, "", nil).serve(t, listener).Routes() {
			served[r.Method+" "+openapiPath(r)] = true
		}
		assert.Equal(t, slices.Sorted(maps.Keys(documented)), slices.Sorted(maps.Keys(served)), "on the %s listener", listener)
	}
}

// openapiPath turns Gin's :param into OpenAPI's {param}.
func openapiPath(r gin.RouteInfo) string {
	parts := strings.Split(r.Path, "/")
	for i, p := range parts {
		if name, ok := strings.CutPrefix(p, ":"); ok {
			parts[i] = "{" + name + "}"
		}
	}
	return strings.Join(parts, "/")
}
