// Package meta holds rules about the code itself.
package meta

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "eastporch/"

// pure are the data packages that the core may use, beside itself and the
// standard library.
var pure = []string{"golang.org/x/text/", "github.com/google/uuid", "github.com/shopspring/decimal", "github.com/hashicorp/golang-lru/", "go.yaml.in/yaml/", "github.com/mileusna/useragent"}

// mayUse says what each part of internal may import of ours; the core only
// itself. A part that is missing here fails the test, so that its place is
// chosen on purpose.
var mayUse = map[string][]string{
	"api":                                 {"internal/core/"},
	"porch":                               {"internal/core/", "internal/files/edition"},
	"cmd/eastporch":                       {"internal/cli"},
	"internal/cli":                        {"api", "internal/cli/", "internal/client", "internal/config", "internal/core/", "internal/demo", "internal/demo/standin", "internal/server", "internal/server/access", "internal/server/httpapi"},
	"internal/cli/":                       {"api", "internal/cli/documents", "internal/cli/terminal", "internal/client", "internal/core/", "internal/editions", "internal/files/", "internal/plot", "internal/server/lookup"},
	"internal/cli/shelf":                  {"api", "internal/cli/documents", "internal/cli/terminal", "internal/client", "internal/config", "internal/core/", "internal/editions", "internal/fetch", "internal/files/", "internal/plot", "internal/server"},
	"internal/client":                     {"api", "internal/core/"},
	"internal/config":                     {"internal/core/", "internal/files/whole"},
	"internal/demo":                       {"api", "internal/client", "internal/core/", "internal/demo/standin"},
	"internal/demo/standin":               {"internal/core/"},
	"internal/editions":                   {"api", "internal/core/", "internal/fetch", "internal/files/edition", "internal/files/whole", "internal/gather"},
	"internal/fetch":                      {"internal/core/"},
	"internal/files/":                     {"internal/core/", "internal/files/whole"},
	"internal/plot":                       {"internal/core/"},
	"internal/server":                     {"api", "internal/config", "internal/core/", "internal/editions", "internal/fetch", "internal/files/whole", "internal/server/"},
	"internal/server/access":              {"internal/core/"},
	"internal/server/atlases":             {"api", "internal/core/", "internal/gather", "internal/server/documents"},
	"internal/gather":                     {"internal/core/", "internal/fetch", "internal/files/whole"},
	"internal/server/cluster":             {},
	"internal/server/gates":               {"api", "internal/core/", "internal/server/lifecycle", "internal/server/problem", "internal/server/rehearsals", "internal/server/access", "internal/server/documents", "internal/server/operation", "internal/server/request", "internal/server/sites"},
	"internal/server/heap":                {},
	"internal/server/guard":               {"internal/server/metrics", "internal/server/problem"},
	"internal/server/httpapi":             {"api", "internal/core/", "internal/editions", "internal/files/", "internal/flags", "internal/server/access", "internal/server/atlases", "internal/server/companions", "internal/server/documents", "internal/server/gates", "internal/server/guard", "internal/server/links", "internal/server/localize", "internal/server/lookup", "internal/server/metrics", "internal/server/notices", "internal/server/operation", "internal/server/page", "internal/server/problem", "internal/server/refused", "internal/server/rehearsals", "internal/server/request", "internal/server/respond", "internal/server/sites", "internal/server/visits"},
	"internal/server/intake":              {"internal/core/"},
	"internal/server/lastknown":           {"internal/core/", "internal/files/whole", "internal/server/lifecycle"},
	"internal/server/lifecycle":           {},
	"internal/server/links":               {"internal/core/", "internal/server/gates", "internal/server/visits", "internal/server/access", "internal/server/documents", "internal/server/operation", "internal/server/request", "internal/server/sites"},
	"internal/server/localize":            {"api", "internal/core/", "internal/files/answers", "internal/server/rates", "internal/server/access", "internal/server/documents", "internal/server/operation", "internal/server/request", "internal/server/sites"},
	"internal/server/lookup":              {"api", "internal/core/"},
	"internal/server/metrics":             {"internal/core/"},
	"internal/server/page":                {},
	"internal/server/privacy":             {"internal/core/"},
	"internal/server/problem":             {"api", "internal/core/", "internal/editions", "internal/server/access", "internal/server/atlases", "internal/server/intake", "internal/server/localize"},
	"internal/server/proxyproto":          {"internal/core/"},
	"internal/server/rates":               {"internal/core/", "internal/fetch", "internal/files/whole", "internal/server/lifecycle"},
	"internal/server/companions":          {"internal/core/", "internal/server/lifecycle", "internal/server/secrets", "internal/server/access", "internal/server/documents", "internal/server/operation", "internal/server/request", "internal/server/sites"},
	"internal/server/notices":             {"internal/core/", "internal/server/access", "internal/server/documents", "internal/server/operation", "internal/server/request", "internal/server/sites"},
	"internal/server/secrets":             {"internal/core/", "internal/files/whole"},
	"internal/server/rehearsals":          {"api", "internal/core/", "internal/fetch", "internal/server/sites"},
	"internal/server/refused":             {"api", "internal/core/", "internal/server/lifecycle"},
	"internal/server/request":             {"internal/core/", "internal/files/answers", "internal/server/problem", "internal/server/sites"},
	"internal/server/respond":             {"internal/core/", "internal/files/answers", "internal/server/request"},
	"internal/server/sites":               {"internal/core/"},
	"internal/server/store":               {"internal/core/", "internal/server/access", "internal/server/refused", "internal/server/store/companionrows", "internal/server/store/gaterows", "internal/server/store/linkrows", "internal/server/store/noticerows", "internal/server/store/topics"},
	"internal/server/store/gaterows":      {"internal/core/", "internal/server/store/noticerows"},
	"internal/server/store/companionrows": {"internal/core/", "internal/server/store/topics"},
	"internal/server/store/noticerows":    {"internal/core/", "internal/server/store/topics"},
	"internal/server/store/linkrows":      {"internal/core/", "internal/server/store/topics"},
	"internal/server/visits":              {"api", "internal/core/", "internal/files/visits", "internal/server/access", "internal/server/sites"},
	"internal/server/webui":               {},
	"internal/flags":                      {"internal/core/"},
	"internal/server/documents":           {"internal/core/"},
	"internal/server/operation":           {"internal/core/caller", "internal/server/access", "internal/server/request", "internal/server/sites"},
	"internal/server/store/topics":        {},
	"internal/testkit/papers":             {"internal/core/document", "internal/server/documents"},
	"internal/core/":                      {"internal/core/"},
	"internal/testkit/db":                 {"internal/server/cluster"},
	"internal/testkit/browser":            {},
	"internal/testkit/rpkimade":           {},
	"internal/testkit/synthetic":          {"internal/core/"},
	"internal/testkit/live":               {"api", "internal/cli", "internal/cli/terminal", "internal/client", "internal/config", "internal/core/", "internal/demo", "internal/demo/standin", "internal/server", "internal/server/access", "internal/server/httpapi", "internal/server/store", "internal/testkit/"},
	"internal/e2e/":                       {},
	"internal/meta":                       {},
	"tools/benchratios":                   {},
	"tools/tails":                         {},
	"tools/contract":                      {},
	"tools/mutants":                       {},
	"tools/notice":                        {},
	"tools/screenshots":                   {"internal/testkit/browser"},
}

func list(t *testing.T, args ...string) []string {
	t.Helper()
	cmd := exec.Command("go", append([]string{"list"}, args...)...)
	cmd.Dir = "../.."
	out, err := cmd.Output()
	require.NoError(t, err)
	return strings.Split(strings.TrimSpace(string(out)), "\n")
}

func allowed(what string, list []string) bool {
	for _, a := range list {
		if what == strings.TrimSuffix(a, "/") || strings.HasSuffix(a, "/") && strings.HasPrefix(what, a) {
			return true
		}
	}
	return false
}

func TestDependenciesPointDown(t *testing.T) {
	for _, line := range list(t, "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...") {
		fields := strings.Fields(line)
		pkg := strings.TrimPrefix(fields[0], module)
		may, known := mayUse[pkg]
		for _, house := range []string{"internal/core/", "internal/cli/", "internal/files/", "internal/e2e/"} {
			if !known && strings.HasPrefix(pkg, house) {
				may, known = mayUse[house]
			}
		}
		assert.True(t, known, "%s has no place in the layers: choose one", pkg)
		for _, dep := range fields[1:] {
			if ours, ok := strings.CutPrefix(dep, module); ok {
				assert.True(t, allowed(ours, may), "%s must not import %s", pkg, ours)
			}
		}
	}
}

func TestTheCoreIsPure(t *testing.T) {
	for _, line := range list(t, "-deps", "-f", "{{.ImportPath}} {{.Standard}}", "./internal/core/...") {
		pkg, std, _ := strings.Cut(line, " ")
		if std == "true" {
			assert.NotContains(t, []string{"net/http", "database/sql", "log/slog", "os/exec"}, pkg, "the core must not depend on it")
			continue
		}
		assert.True(t, strings.HasPrefix(pkg, module+"internal/core/") || allowed(pkg, pure), "the core must not depend on %s", pkg)
	}
	for _, line := range list(t, "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./internal/core/...") {
		assert.NotContains(t, strings.Fields(line), "os", "the core reads no environment and no files")
	}
}

func TestTheClientLinksNoServer(t *testing.T) {
	for _, pkg := range list(t, "-deps", "./internal/client") {
		assert.False(t, strings.HasPrefix(pkg, module+"internal/server"), pkg)
	}
}

// The job's own rule: the framework's guess of the client address is not used.
func TestTheFrameworksGuessIsNotUsed(t *testing.T) {
	guess := regexp.MustCompile(`\.(ClientIP|RemoteIP|SetTrustedProxies)\(`)
	everyGoFile(t, func(path, text string) {
		assert.False(t, guess.MatchString(text), "%s uses the framework's guess of the client address", path)
	})
}

func TestEveryPackageHasOneComment(t *testing.T) {
	for _, line := range list(t, "-f", "{{.ImportPath}}\t{{.Doc}}\t{{len .GoFiles}}", "./...") {
		fields := strings.Split(line, "\t")
		if fields[2] != "0" {
			assert.NotEmpty(t, fields[1], "%s has no package comment", fields[0])
		}
	}
}

func TestTestsDoNotSleepOrSkip(t *testing.T) {
	bad := regexp.MustCompile(`\b(time\.Sleep|t\.Skip\w*|chromedp\.Sleep)\(`)
	everyGoFile(t, func(path, text string) {
		if strings.HasSuffix(path, "_test.go") {
			assert.False(t, bad.MatchString(text), "%s sleeps or skips", path)
		}
	})
}

func everyGoFile(t *testing.T, visit func(path, text string)) {
	t.Helper()
	err := filepath.WalkDir("../..", func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepath.SkipDir
		}
		if strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, "meta_test.go") {
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			visit(path, string(text))
		}
		return nil
	})
	require.NoError(t, err)
}

// Links of the documents lead to files that are there, and to headings that stand in them.
func TestLinksOfTheDocumentsLeadSomewhere(t *testing.T) {
	root := filepath.Join("..", "..")
	files, err := filepath.Glob(filepath.Join(root, "docs", "*.md"))
	require.NoError(t, err)
	more, err := filepath.Glob(filepath.Join(root, "docs", "*", "*.md"))
	require.NoError(t, err)
	files = append(append(files, more...), filepath.Join(root, "README.md"), filepath.Join(root, "CONTRIBUTING.md"))
	link := regexp.MustCompile(`\]\(([^)\s]+)\)`)
	heading := regexp.MustCompile(`(?m)^#+ +(.+)$`)
	others := regexp.MustCompile(`[^\p{L}\p{N} _-]`)
	links := 0
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, found := range link.FindAllStringSubmatch(string(text), -1) {
			path, anchor, _ := strings.Cut(found[1], "#")
			if strings.Contains(path, ":") {
				continue
			}
			links++
			to := file
			if path != "" {
				to = filepath.Join(filepath.Dir(file), path)
			}
			if _, err := os.Stat(to); !assert.NoError(t, err, "%s leads to %s", file, found[1]) || anchor == "" {
				continue
			}
			there, err := os.ReadFile(to)
			require.NoError(t, err)
			var anchors []string
			for _, h := range heading.FindAllStringSubmatch(string(there), -1) {
				anchors = append(anchors, strings.ReplaceAll(others.ReplaceAllString(strings.ToLower(h[1]), ""), " ", "-"))
			}
			assert.Contains(t, anchors, anchor, "%s leads to %s", file, found[1])
		}
	}
	assert.Greater(t, links, 100)
}
