package cli_test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"eastporch/internal/cli"
	"eastporch/internal/cli/terminal"
	"eastporch/internal/demo"
	"eastporch/internal/testkit/db"
)

func TestMain(m *testing.M) { os.Exit(db.Run(m, db.Model{})) }

// run runs a command in-process and gives what it wrote.
func run(t *testing.T, in string, args ...string) (code int, out, errs string) {
	t.Helper()
	return runIn(t, t.TempDir(), in, args...)
}

// runIn runs a command of a user with a home directory.
func runIn(t *testing.T, home, in string, args ...string) (code int, out, errs string) {
	t.Helper()
	var stdout, stderr bytes.Buffer
	code = cli.Run(t.Context(), terminal.System{
		Args: args, Getenv: func(k string) string { return map[string]string{"HOME": home}[k] }, In: strings.NewReader(in), Out: &stdout, Err: &stderr,
	})
	return code, stdout.String(), stderr.String()
}

func TestCommandsOfflineNeedNoService(t *testing.T) {
	dir := t.TempDir()
	_, err := demo.Write(dir)
	require.NoError(t, err)
	feed := filepath.Join(dir, "harbour-net.csv")
	broken := filepath.Join(dir, "broken.csv")
	require.NoError(t, os.WriteFile(broken, []byte("198.18.3.0/26,PT,PT-11,Lisbon,\n198.18.4.0/24,UK,,,\n198.18.5.0/24,PT,,,\n"), 0o600))

	rates := filepath.Join(dir, "some-rates.csv")
	require.NoError(t, os.WriteFile(rates, []byte("date,base,currency,rate\n2026-11-25,EUR,JPY,161.25\n2026-11-25,EUR,KWD,0.333\n2026-11-25,EUR,SEK,0\n"), 0o600))

	database := db.New(t)
	tests := []struct {
		name, in   string
		args       []string
		code       int
		out, notes string
	}{
		{"kind", "", []string{"kind", "10.1.2.3", "::1"}, 0, "RFC 1918", ""},
		{"kind of standard input", "198.18.3.40\n\n3fff::1\n", []string{"kind", "-"}, 0, "RFC 9637", ""},
		{"a bad one among good ones", "", []string{"kind", "10.1.2.3", "10.1.2.300"}, 1, "private", "0 to 255"},
		{"resolve with evidence", "", []string{"resolve", "--atlas", feed, "--open", "198.18.0.0/15", "198.18.3.40"}, 0, "self-published claim", ""},
		{"resolve what?", "", []string{"resolve"}, 2, "", "which address? Type eastporch resolve"},
		{"resolve a range", "", []string{"resolve", "198.18.3.0/24"}, 2, "", "eastporch ranges 198.18.3.0/24"},
		{"a link to a map", "", []string{"resolve", "--atlas", feed, "--open", "198.18.0.0/15", "--map-link=https://map.example/{latitude}/{longitude}", "198.18.3.40"}, 0, "Map  https://map.example/38.717/-9.133", ""},
		{"a link to a map in JSON", "", []string{"resolve", "--atlas", feed, "--open", "198.18.0.0/15", "--map-link=m:{latitude},{longitude}", "-o", "json", "198.18.3.40"}, 0, `"map_link": "m:38.717,-9.133"`, ""},
		{"a link to nowhere", "", []string{"resolve", "--atlas", feed, "--map-link=m:{latitude},{longitude}", "-o", "json", "10.1.2.3"}, 0, `"map_link": null`, ""},
		{"a template without a place", "", []string{"resolve", "--atlas", feed, "--map-link=https://map.example", "10.1.2.3"}, 2, "", "has no {latitude} and {longitude}"},
		{"a host name offline", "", []string{"resolve", "--atlas", feed, "localhost"}, 0, "loopback", "is asked of this machine's resolver"},
		{"towns by name", "", []string{"near", "lissabon"}, 0, "38.717 -9.133  Lisbon", ""},
		{"no town of a name", "", []string{"near", "Nowhere-on-Sea"}, 1, "", `no town of the gazetteer is called "Nowhere-on-Sea"`},
		{"resolve skips what is not opened", "", []string{"resolve", "--atlas", feed, "198.18.3.40"}, 0, "Skipped: benchmarking", ""},
		{"resolve says which lines are bad", "", []string{"resolve", "--atlas", broken, "--open", "198.18.0.0/15", "198.18.3.40"}, 0, "Lisbon", "broken.csv line 2: \"UK\" is not a country code: did you mean GB?"},
		{"several are a table", "", []string{"resolve", "--atlas", feed, "--open", "198.18.0.0/15", "198.18.3.40", "198.19.44.1"}, 0, "Brazil BR", ""},
		{"trail", "", []string{"trail", "--peer", "203.0.113.4", "--trust", "203.0.113.0/28", "-H", "X-Forwarded-For: 192.0.2.10, 198.18.7.114"}, 0, "The visitor is 198.18.7.114.", ""},
		{"trail of an unreadable hop", "", []string{"trail", "--peer", "203.0.113.4", "--trust", "203.0.113.0/28", "-H", "x-forwarded-for: unknown"}, 0, "was not found", ""},
		{"trail of pasted headers", "> GET / HTTP/1.1\n> Forwarded: for=198.18.7.114\n< 200\n", []string{"trail", "--peer", "203.0.113.4", "--file", "-", "--trust", "203.0.113.4", "--believe", "forwarded"}, 0, "The visitor is 198.18.7.114.", ""},
		{"trail by hop count", "", []string{"trail", "--peer", "203.0.113.4", "--trust", "203.0.113.4", "--hops", "2", "-H", "X-Forwarded-For: 198.18.7.114, 198.18.8.8"}, 0, "The visitor is 198.18.7.114.", ""},
		{"trail of nothing", "", []string{"trail", "--peer", "::1", "--file", "-"}, 1, "", "paste lines such as"},
		{"find", "at 198.18.3.40 and 2001:db8::/32, not 1.2.3.4.5", []string{"find"}, 0, "2001:db8::/32", ""},
		{"find look-alikes", "v1.2.3.4", []string{"find", "--rejected", "-"}, 0, "version number", ""},
		{"find as JSON", "198.18.3.40 ::1", []string{"find", "-o", "json"}, 0, `"address":"::1"`, ""},
		{"find in no file", "", []string{"find", "/nowhere"}, 1, "", "no such file"},
		{"an integer is an address", "", []string{"kind", "3323069224"}, 0, "an integer", ""},
		{"a country", "", []string{"countries", "ch"}, 0, "Suisse (fr)", ""},
		{"countries of a group, by their Norwegian names", "", []string{"countries", "--group", "schengen", "--language", "nb"}, 0, "Sveits", ""},
		{"countries as JSON", "", []string{"countries", "JP", "-o", "json"}, 0, `"hour_cycle": "h23"`, ""},
		{"a former country", "", []string{"countries", "AN"}, 1, "", "did you mean BQ, CW or SX?"},
		{"no group", "", []string{"countries", "--group", "nordic"}, 2, "", "known are eea, eu, euro-area, schengen"},
		{"no language", "", []string{"countries", "--language", "!"}, 2, "", "not a language tag"},
		{"conversion by a file", "", []string{"convert", "85", "--from", "EUR", "--to", "JPY", "--rates", rates, "--ending", "x00"}, 0, "¥13,700", "line 4: the rate 0 of SEK"},
		{"conversion with three decimals", "", []string{"convert", "85", "--from", "EUR", "--to", "KWD", "--rates", rates, "-o", "csv"}, 0, "28.305", ""},
		{"conversion without a rate", "", []string{"convert", "85", "--from", "EUR", "--to", "CHF", "--rates", rates}, 1, "", "have none for CHF"},
		{"no amount", "", []string{"convert", "many", "--from", "EUR", "--to", "JPY", "--rates", rates}, 2, "", "not a decimal number"},
		{"no currency", "", []string{"convert", "1", "--from", "EUR", "--to", "JP", "--rates", rates}, 2, "", "did you mean JPY?"},
		{"no ending", "", []string{"convert", "1", "--from", "EUR", "--to", "JPY", "--rates", rates, "--ending", "95"}, 2, "", "such as x.95"},
		{"an ending without a file", "", []string{"convert", "1", "--to", "JPY", "--ending", "x9"}, 2, "", "--ending goes with --rates"},
		{"a stand-in that cannot listen", "", []string{"standin", "rates", "--address", "192.0.2.1:1"}, 1, "", "--address"},
		{"version", "", []string{"version"}, 0, "CLDR 48", ""},
		{"help has examples", "", []string{"resolve", "--help"}, 0, "Examples:", ""},
		{"a file that is not there", "", []string{"resolve", "--atlas", "/nowhere.csv", "1.1.1.1"}, 1, "", "no such file"},
		{"an unknown command", "", []string{"resolv"}, 2, "", "unknown command"},
		{"an unknown flag", "", []string{"kind", "--nope", "::1"}, 2, "", "unknown flag"},
		{"no argument", "", []string{"kind"}, 2, "", "requires at least 1 arg"},
		{"an unknown output", "", []string{"kind", "-o", "xml", "::1"}, 2, "", "table, json, ndjson, csv or yaml"},
		{"a bad prefix", "", []string{"trail", "--peer", "::1", "--trust", "10.0.0.1/8"}, 2, "", "did you mean 10.0.0.0/8?"},
		{"a bad header", "", []string{"trail", "--peer", "::1", "-H", "nothing"}, 2, "", "write it like"},
		{"a service that is not there", "", []string{"--server", "http://127.0.0.1:1", "resolve", "::1"}, 1, "", "eastporch serve"},
		{"a bad configuration", "", []string{"serve", "--config", feed}, 1, "", "harbour-net.csv"},
		{"an address that cannot be listened at", "", []string{"serve", "--public-address", "192.0.2.1:1", "--admin-address", "127.0.0.1:0", "--database-url", database}, 1, "", "--public-address"},
		{"a bad flag of serve", "", []string{"serve", "--check", "--log-level", "loud"}, 1, "", "flag --log-level"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			code, out, notes := run(t, tt.in, tt.args...)
			assert.Equal(t, tt.code, code, notes)
			assert.Contains(t, out, tt.out)
			assert.Contains(t, notes, tt.notes)
		})
	}
}

func TestOutputs(t *testing.T) {
	_, one, _ := run(t, "", "kind", "10.1.2.3", "-o", "json")
	var single map[string]any
	require.NoError(t, json.Unmarshal([]byte(one), &single), "one answer is not a list")
	assert.Equal(t, "private", single["kind"])
	_, several, _ := run(t, "", "kind", "10.1.2.3", "9.9.9.9", "-o", "json")
	var list []map[string]any
	require.NoError(t, json.Unmarshal([]byte(several), &list))
	assert.Nil(t, list[1]["block"])
	_, lines, _ := run(t, "", "kind", "10.1.2.3", "9.9.9.9", "-o", "ndjson")
	assert.Len(t, strings.Split(strings.TrimSpace(lines), "\n"), 2)
}
