package meta

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheArchitectureHasEveryPackage(t *testing.T) {
	text, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	named := map[string]bool{}
	for _, row := range regexp.MustCompile(`(?m)^\| ([^|]*) \|`).FindAllStringSubmatch(string(text), -1) {
		folder := ""
		for i, m := range regexp.MustCompile("`([^`]+)`").FindAllStringSubmatch(row[1], -1) {
			name := m[1]
			if i == 0 {
				folder, _, _ = strings.Cut(name, "/")
			} else {
				name = folder + "/" + name
			}
			named[name] = true
			assert.DirExists(t, "../../"+name, "docs/architecture.md names it")
		}
	}
	for _, pkg := range list(t, "./...") {
		assert.True(t, named[strings.TrimPrefix(pkg, module)], "docs/architecture.md says nothing of %s", pkg)
	}
	for _, m := range regexp.MustCompile("`((?:core|server|files|cli|httpapi|intake|store|editions|source|card|web)/[a-z/_]+\\.(?:go|ts|tsx))`").FindAllStringSubmatch(string(text), -1) {
		found := false
		for _, at := range []string{"", "internal/", "internal/server/", "internal/core/", "internal/core/atlas/"} {
			_, err := os.Stat("../../" + at + m[1])
			found = found || err == nil
		}
		assert.True(t, found, "docs/architecture.md names %s, which is not there", m[1])
	}
}
