package pages

import (
	"net/http"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"eastporch/internal/testkit/live"
)

// Every snippet runs in its language, where that is on the machine, and gets the facts
// that were chosen.
func TestSnippetsRun(t *testing.T) {
	t.Parallel()
	s := live.Start(t, nil)
	key := s.Keys(t)["server"]
	got := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/snippets?fields=location.city,locale.language,money.currency_code&base="+s.PublicURL+"&key="+key, "")
	list := live.Parse[struct {
		Snippets []struct{ Name, File, Text string }
	}](t, got).Snippets
	run := map[string][]string{
		"go": {"go", "run", "porch.go"}, "node": {"node", "porch.mjs"}, "python": {"python3", "porch_card.py"}, "php": {"php", "porch.php"},
		"java": {"java", "Porch.java"}, "rust": {"sh", "-c", "rustc -o porch porch.rs && ./porch"}, "shell": {"sh", "porch.sh"},
	}
	needs := map[string]string{"rust": "rustc"}
	ran := []string{}
	for _, one := range list {
		command, ok := run[one.Name]
		if !ok {
			continue
		}
		need := command[0]
		if other, ok := needs[one.Name]; ok {
			need = other
		}
		if !onMachine(need) {
			continue
		}
		ran = append(ran, one.Name)
		out := runSnippet(t, one.File, one.Text, command)
		assert.JSONEq(t, `{"location":{"city":"Lisbon"},"locale":{"language":"pt-PT"},"money":{"currency_code":"EUR"}}`, out, one.Name)
	}
	assert.Subset(t, ran, []string{"go", "node", "shell"}, "these are there wherever the tests are")
	t.Log("ran", ran)
	bad := s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/snippets?base=javascript:alert(1)", "")
	assert.Equal(t, http.StatusUnprocessableEntity, bad.Status)
	assert.Equal(t, http.StatusUnprocessableEntity, s.Call(t, "127.0.0.1", http.MethodGet, s.AdminURL+"/v1/snippets?fields='x'", "").Status)
	assert.True(t, slices.ContainsFunc(list, func(one struct{ Name, File, Text string }) bool { return one.Name == "page" }))
}
