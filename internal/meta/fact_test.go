package meta_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// invented are the edits that a copy of the tree gets for a new fact: what is written after which text of a file.
var invented = []struct{ file, after, write string }{
	{"api/openapi.yaml", "region_code, city, postal_code,", " county,"},
	{"api/openapi.yaml", "        postal_code: { type: string, nullable: true }\n", "        county: { type: string, nullable: true }\n"},
	{"internal/core/atlas/place.go", "\tPostal                string\n", "\tCounty string\n"},
	{"internal/core/atlas/facts.go", "return &w.PostalCode },\n\t},\n", `	{
		Name: "county", Title: "County", Column: "text", Meaning: "The county.", Example: "Lakeshire", MayLack: true,
		Called: []string{"county", "shire"}, Given: true,
		place: func(p *Place) *string { return &p.County },
		field: func(w *Location, _ *Network) any { return &w.County },
	},
`},
}

// TestANewFactIsOneEntry invents a fact in a copy of the tree, and asks every place that deals with facts for it. The
// edits are of three files: the contract, what a source's row is read into, and the entry. Beside them a fact wants
// columns where an edition is published as SQL, which the store's tests compare with the facts, and a line where the
// console draws it.
func TestANewFactIsOneEntry(t *testing.T) {
	tree := t.TempDir()
	for _, name := range []string{"go.mod", "go.sum", "api", "internal/core", "internal/files", "internal/server/page/porch.d.ts", "tools/contract"} {
		require.NoError(t, filepath.WalkDir("../../"+name, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || strings.HasSuffix(path, "_test.go") {
				return err
			}
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			to := filepath.Join(tree, strings.TrimPrefix(path, "../../"))
			if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
				return err
			}
			return os.WriteFile(to, text, 0o644)
		}))
	}
	for _, edit := range invented {
		path := filepath.Join(tree, edit.file)
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, 1, strings.Count(string(text), edit.after), "%s has %q once", edit.file, edit.after)
		require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), edit.after, edit.after+edit.write, 1)), 0o644))
	}
	asks, err := os.ReadFile("testdata/county.go.txt")
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(tree, "internal/invented"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(tree, "internal/invented/county_test.go"), asks, 0o644))

	for _, command := range [][]string{{"go", "run", "./tools/contract"}, {"go", "test", "-count=1", "./internal/invented"}} {
		cmd := exec.Command(command[0], command[1:]...)
		cmd.Dir = tree
		said, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s:\n%s", strings.Join(command, " "), said)
	}
}
