package meta

import (
	"bytes"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What one person can hold: lines of a package without its tests, of a file and of a file of
// tests, and fields of what a constructor is given.
const (
	packageMost = 2500
	fileMost    = 400
	testsMost   = 600
	optionsMost = 6
)

// generated marks what no hand has written.
var generated = regexp.MustCompile(`(?m)^// Code generated .* DO NOT EDIT\.$`)

func sources(t *testing.T, patterns ...string) map[string][]byte {
	t.Helper()
	cmd := exec.Command("git", append([]string{"ls-files", "--cached", "--others", "--exclude-standard"}, patterns...)...)
	cmd.Dir = "../.."
	out, err := cmd.Output()
	require.NoError(t, err)
	files := map[string][]byte{}
	for name := range strings.Lines(string(out)) {
		name = strings.TrimSpace(name)
		text, err := os.ReadFile(filepath.Join("../..", name))
		if os.IsNotExist(err) { // it is about to go
			continue
		}
		require.NoError(t, err)
		if !generated.Match(text) {
			files[name] = text
		}
	}
	require.NotEmpty(t, files)
	return files
}

func TestFilesAndPackagesAreSmall(t *testing.T) {
	packages := map[string]int{}
	for name, text := range sources(t, "*.go", "web/src/*.ts", "web/src/*.tsx", "web/src/*.css") {
		lines, most := bytes.Count(text, []byte("\n")), fileMost
		tests := strings.HasSuffix(name, "_test.go") || strings.Contains(name, ".test.")
		if tests {
			most = testsMost
		} else if strings.HasSuffix(name, ".go") {
			packages[filepath.Dir(name)] += lines
		}
		if !strings.HasSuffix(name, ".d.ts") {
			assert.LessOrEqual(t, lines, most, "%s is too long: split it", name)
		}
	}
	for dir, lines := range packages {
		assert.LessOrEqual(t, lines, packageMost, "the package %s is too large: part it", dir)
	}
}

// Whatever is made of a struct of options is made of a few.
func TestConstructorsTakeAFew(t *testing.T) {
	for name, text := range sources(t, "internal/*.go", "porch/*.go") {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, text, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			spec, ok := n.(*ast.TypeSpec)
			if !ok || !strings.HasSuffix(spec.Name.Name, "Options") {
				return true
			}
			of, ok := spec.Type.(*ast.StructType)
			if !ok {
				return true
			}
			fields := 0
			for _, f := range of.Fields.List {
				fields += max(1, len(f.Names))
			}
			assert.LessOrEqual(t, fields, optionsMost, "%s: %s has too many fields", name, spec.Name.Name)
			return true
		})
	}
}

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
