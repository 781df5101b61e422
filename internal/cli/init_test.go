package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/demo"
)

var pageKey = regexp.MustCompile(`porch_page_[a-z0-9]{20,}`)

// place is a directory with range data, and the flags that keep everything in it.
func place(t *testing.T) (dir, file, ranges string, flags []string) {
	t.Helper()
	dir = t.TempDir()
	_, err := demo.Write(dir)
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(dir, "eastporch.yaml")))
	file = filepath.Join(dir, "eastporch.yaml")
	return dir, file, filepath.Join(dir, "alder-networks.csv"), []string{"init", "--config", file, "--data-dir", filepath.Join(dir, "data")}
}

func TestInitWritesWhatServeTakes(t *testing.T) {
	dir, file, ranges, flags := place(t)
	code, out, errs := run(t, "", append(flags, "--site", "heronlake.example", "--ranges", ranges, "--proxy", "nginx")...)
	require.Equal(t, 0, code, errs)
	for _, says := range []string{"alder-networks.csv looks like csv", "eastporch.yaml is written", "location /porch/ {", "proxy_pass http://127.0.0.1:8080/;", `src="/porch/porch.js"`, "data-visit", "eastporch serve --config " + file} {
		assert.Contains(t, out, says)
	}
	secret := pageKey.FindString(out)
	require.NotEmpty(t, secret)
	odd := filepath.Join(dir, "odd.csv")
	require.NoError(t, os.WriteFile(odd, []byte("range,country_code,rating,remark\n198.18.0.0/24,PT,7,good\n"), 0o600))
	_, described, _ := run(t, "", "atlas", "describe", odd)
	assert.Contains(t, described, "Not understood, and not read: rating, remark.")
	code, out, errs = run(t, "", "serve", "--config", file, "--check")
	assert.Equal(t, 0, code, out+errs)
	waiting, err := os.ReadFile(filepath.Join(dir, "data", "keys", "waiting.json"))
	require.NoError(t, err)
	assert.NotContains(t, string(waiting), secret, "only its hash waits")
	assert.Contains(t, string(waiting), "https://heronlake.example")
	mode := func(name string) os.FileMode {
		info, err := os.Stat(name)
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	assert.Equal(t, os.FileMode(0o600), mode(file), "it may come to hold a password")
	require.NoError(t, os.Chmod(file, 0o640))
	code, out, errs = run(t, "", append(flags, "--site", "boathouse.example")...)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "eastporch reload", "a running service takes the site and its key up")
	assert.Equal(t, []os.FileMode{0o640, 0o640}, []os.FileMode{mode(file), mode(file + ".before")}, "whom the owner lets read may go on")
}

func TestInitAsksForWhatIsNotSaid(t *testing.T) {
	dir, file, ranges, flags := place(t)
	misspelt := filepath.Join(dir, "misspelt.csv")
	require.NoError(t, os.WriteFile(misspelt, []byte("network,country\n198.18.0.0/24,UK\n"), 0o600))
	code, out, errs := run(t, "https://Heron.Example/\nheronlake.example\nnowhere.csv\n"+misspelt+"\n"+ranges+"\nsquid\n\n", flags...)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, errs, "The host of your site")
	assert.Contains(t, errs, `"https://Heron.Example/" is not a host`)
	assert.Contains(t, errs, "nowhere.csv: ")
	assert.Contains(t, errs, "did you mean GB?")
	assert.Contains(t, errs, `"squid" is none of nginx, haproxy, apache, none`)
	assert.Contains(t, out, "For nginx:")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(text), "host: heronlake.example")

	_, _, _, flags = place(t)
	code, _, errs = run(t, "", flags...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nobody answers: give --site")
}

func TestInitAgainChangesOnlyWhatIsAsked(t *testing.T) {
	dir, file, ranges, _ := place(t)
	own := "# ours\nsites:\n  - host: harbour.example # the first\n    privacy: hashed\nlog: { level: debug }\n"
	require.NoError(t, os.WriteFile(file, []byte(own), 0o600))
	code, out, errs := run(t, "", "init", "--config", file, "--ranges", ranges)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "is changed; "+file+".before is as it was")
	assert.Empty(t, pageKey.FindString(out), "no site was asked for, so no key")
	before, err := os.ReadFile(file + ".before")
	require.NoError(t, err)
	assert.Equal(t, own, string(before))
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, kept := range []string{"# ours", "# the first", "privacy: hashed", "level: debug"} {
		assert.Contains(t, string(text), kept)
	}
	code, out, _ = run(t, "", "init", "--config", file, "--ranges", ranges)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "says so already")

	// What cannot be used is told, and nothing is written; a file that would locate nothing is no source.
	misspelt := filepath.Join(dir, "misspelt.csv")
	require.NoError(t, os.WriteFile(misspelt, []byte("network,country\n198.18.0.0/24,UK\n"), 0o600))
	for args, says := range map[string]string{
		"--site UPPER.example":         "is not a host",
		"--proxy squid":                "none of nginx",
		"--ranges " + dir + "/nowhere": "no such file",
		"--ranges " + file:             "",
		"--ranges " + misspelt:         "did you mean GB?",
		"--origin heronlake.example":   "not an origin",
	} {
		code, _, errs := run(t, "", append([]string{"init", "--config", file}, strings.Fields(args)...)...)
		assert.NotEqual(t, 0, code, args)
		assert.Contains(t, errs, says, args)
		now, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, string(text), string(now), args)
	}
}

func TestInitWithoutRangeDataSaysWhatToDo(t *testing.T) {
	_, file, ranges, flags := place(t)
	code, out, errs := run(t, "", append(flags, "--site", "heronlake.example", "--ranges", "", "--proxy", "none")...)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "There is no range data yet")
	assert.Contains(t, out, "eastporch init --config "+file+" --ranges FILE")
	assert.Contains(t, out, `src="http://127.0.0.1:8080/porch.js"`)
	code, out, errs = run(t, "", "init", "--config", file, "--ranges", ranges)
	require.Equal(t, 0, code, errs)
	assert.NotContains(t, out, "There is no range data yet")
}

func TestInitLabelsAList(t *testing.T) {
	dir, file, ranges, flags := place(t)
	office := filepath.Join(dir, "office.txt")
	require.NoError(t, os.WriteFile(office, []byte("198.18.9.0/24\n"), 0o600))
	code, _, errs := run(t, "", append(flags, "--site", "heronlake.example", "--ranges", ranges, "--proxy", "nginx")...)
	require.Equal(t, 0, code, errs)
	code, out, errs := run(t, "", "init", "--config", file, "--site", "heronlake.example", "--ranges", office)
	require.Equal(t, 0, code, errs)
	assert.Contains(t, out, "Its addresses get the label office.")
	assert.Contains(t, out, "any page may show it; those of before go on working (eastporch keys list):")
	assert.Contains(t, out, `src="/porch/porch.js"`, "the proxy of before is still in front")
	edition := filepath.Join(dir, "list.edition")
	code, out, errs = run(t, "", "atlas", "build", "--config", file, "--out", edition)
	require.Equal(t, 0, code, out+errs)
	code, out, errs = run(t, "", "resolve", "198.18.9.1", "--atlas", edition, "--open", "198.18.0.0/15", "--output", "json")
	require.Equal(t, 0, code, out+errs)
	assert.Contains(t, out, "office")
}
