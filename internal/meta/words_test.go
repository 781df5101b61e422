package meta

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// gone are words that have been replaced, everywhere: in code, contract, documents, pages and
// help. What is said instead stands behind each.
var gone = []struct{ was, now string }{
	{`(?i)whereabouts`, "location"},
	{`(?i)set[_ ]aside|setAside`, "skipped"},
	{`(?i)stored_as|storedAs`, "placeholder"},
	{`(?i)\breread`, "refresh (sources), reenrich (visits)"},
	{`(?i)known[_ -]points?`, "test points"},
	{`(?i)half within|9 in 10`, "median, 90th percentile"},
	{`(?i)atlas audit|keys log`, "atlas accuracy, audit-log"},
	{`(?i)atlas\.swap|swap: (auto|hand)|atlas use\b`, "atlas.activate, atlas activate"},
	{`(?i)visitor listener|the desk\b|admin door|docs/doors`, "public listener, admin listener"},
	{`\bArriv(al|als|ed|e|ing)\b|\barriv(als|ing)\b|order=arrival`, "QueuedVisit, StoredVisit, insert, sequence"},
	{`\bAnswerID\b|\bwrittenAnswer\b|FROM answer\b`, "edition facts"},
	{`\bKeeper\b`, "Keys, Feed"},
	{`(?i)needs? an eye|\beyedot\b|\bEyeChip\b`, "needs attention"},
	{`\bPointless\b`, "Unmappable"},
	{`\bBell\b|\bNewBell\b`, "Notifier"},
	{`\bTend\b|\btended\b`, "Maintain"},
	{`\bGuest\b|\bguest\b`, "RequestContext"},
	{`\bblame\(|\bworkedOut\b|\brooms\b`, "what they hold or do"},
	{`atlas\.(Finding|Reading|Difference)\b|checkup\.(Finding|Report|Eye)\b|editions\.(Report|Source)\b|visit\.(Reading|Difference|Edition)\b`, "LookupResult, ParseOptions, ChangeKind, Diagnostic, Result, BuildReport, SourceConfig, EarlierFacts, CountMismatch, EditionRef"},
	{`eastporch_(visitors_total|visits_total|intake_|rates_age_days|checkup_findings)`, "eastporch_visitor_addresses_total, eastporch_visits_…_total, eastporch_queue_…, eastporch_exchange_rates_age_seconds, eastporch_checkup_warnings"},
	{`"from": ?"(counts|rows)"|from: \{ type: string, enum: \[counts`, "basis"},
	{`(?i)field is not usable|is no IP address|body is not usable JSON|this wants a key|key is not good|does not fit here|nothing is served at this path`, "Invalid field, Not a valid IP address, Invalid JSON, Authentication required, Invalid key, expected a string, No such endpoint on this listener"},
	{`(?i)stand outside (these|them)|no shift until|has knocked|came by itself|take this rule out|hold the replay`, "excluded by these filters, next clock change, no visits yet, Remove, Pause"},
	{"/problems/(bad-|not-now|no-key\\b|database-away|too-many[\"` ]|no-such-path|no-such-method)", "invalid-…, conflict, authentication-required, database-unavailable, too-many-requests, no-such-endpoint, method-not-allowed"},
}

func TestWordsThatAreGone(t *testing.T) {
	root := filepath.Join("..", "..")
	skipped := []string{".git", "node_modules", "dist", "bin", "decisions", "testdata", ".cache"}
	kinds := []string{".go", ".sql", ".yaml", ".md", ".ts", ".tsx", ".css", ".html", ".js", ".lua", ".cfg", ".conf", ".sh", ""}
	var files []string
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case entry.IsDir() && slices.Contains(skipped, entry.Name()):
			return filepath.SkipDir
		case entry.IsDir() || !slices.Contains(kinds, filepath.Ext(path)) || strings.HasSuffix(path, "words_test.go"):
			return nil
		}
		files = append(files, path)
		return nil
	})
	require.NoError(t, err)
	assert.Greater(t, len(files), 300)
	// grep takes a tenth of the time that reading each file with each pattern does.
	any := make([]string, len(gone))
	for i, g := range gone {
		any[i] = "(?:" + g.was + ")"
	}
	found, err := exec.Command("grep", append([]string{"-lP", "-e", strings.Join(any, "|"), "--"}, files...)...).Output()
	var none *exec.ExitError
	if errors.As(err, &none) && none.ExitCode() == 1 {
		return
	}
	require.NoError(t, err)
	for path := range strings.Lines(string(found)) {
		path = strings.TrimSpace(path)
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, g := range gone {
			for _, at := range regexp.MustCompile(g.was).FindAllIndex(text, -1) {
				line := 1 + strings.Count(string(text[:at[0]]), "\n")
				t.Errorf("%s:%d says %q; say %s", path, line, text[at[0]:at[1]], g.now)
			}
		}
	}
}

// Every pattern finds the word that it means.
func TestGoneWordsAreFound(t *testing.T) {
	for _, word := range []string{"Whereabouts", "set aside", "set_aside", "stored_as", "reread", "known points", "half within 10 km", "atlas audit", "atlas use", "the visitor listener", "Arrivals", "order=arrival", "Keeper", "needs an eye", "Bell", "Tend", "guest", "atlas.Finding", "eastporch_intake_waiting_visits", `"from":"counts"`, "This wants a key", "stand outside these filters", "/problems/bad-field"} {
		assert.True(t, slices.ContainsFunc(gone, func(g struct{ was, now string }) bool { return regexp.MustCompile(g.was).MatchString(word) }), word)
	}
}

// Every operation and parameter of the contract tells a stranger what it is.
func TestTheContractIsDescribed(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "..", "api", "openapi.yaml"))
	require.NoError(t, err)
	doc, err := openapi3.NewLoader().LoadFromData(text)
	require.NoError(t, err)
	for path, item := range doc.Paths.Map() {
		for method, operation := range item.Operations() {
			assert.NotEmpty(t, operation.Summary, "%s %s", method, path)
			assert.Greater(t, len(operation.Description), 20, "%s %s", method, path)
			for _, p := range append(slices.Clone(operation.Parameters), item.Parameters...) {
				assert.NotEmpty(t, p.Value.Description, "%s %s: %s", method, path, p.Value.Name)
			}
		}
	}
}
