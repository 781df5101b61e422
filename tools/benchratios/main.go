// Command benchratios reads the output of go test -bench, of several rounds, and prints beside
// it the ratios that the design promises. Rounds have the two sides of every ratio take turns: a
// ratio is made within each round, and the median of the rounds is given, with the least and the
// most, since a busy machine slows one side and not the other. It fails where a benchmark failed, or where a
// promise was not measured.
package main

import (
	"bufio"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
)

// promise is a ratio of two benchmarks, or a bound of one. A benchmark's name
// may end with a unit of its own, else it is its time.
type promise struct {
	what, measured, against string // against is "" for a bound
	atMost, atLeast         float64
}

var promises = []promise{
	{"walk of a 3-hop header / split and parse", "Walk/address", "Walk/split-and-parse", 10, 0},
	{"finding addresses in a log: speed / regexp", "Find/regexp", "Find/find", 0, 10},
	{"a decision with 100 country rules / one read", "Decide100Countries", "DependentRead", 4, 0},
	{"allocations of that", "Decide100Countries allocs/op", "", 0, 0},
	{"what the gate adds in nginx / an empty sub-request", "GateThroughNginx gate-adds-ns", "GateThroughNginx empty-adds-ns", 1.1, 0},
	{"checking a key, ns", "Check", "", 5000, 0},
	{"a whole card, ns", "Card", "", 3000, 0},
	{"a whole card, allocations", "Card allocs/op", "", 6, 0},
	{"the same of a range not asked before, ns", "CardOfManyRanges", "", 3000, 0},
	{"a card as JSON: encoding/json / ours", "AppendJSON/reflected", "AppendJSON/appended", 0, 4},
	{"a card over HTTP / bare handler, time", "Address card-ns", "Address bare-ns", 1.18, 0},
	{"IPv4 lookup, uniform / one read", "Find4/uniform/dependent", "Find4/one-read", 1.5, 0},
	{"IPv4 lookup, by range / one read", "Find4/range/dependent", "Find4/one-read", 1.5, 0},
	{"IPv4 lookup, Zipf / one read", "Find4/zipf/dependent", "Find4/one-read", 1.5, 0},
	{"IPv6 lookup, uniform / one read", "Find6/uniform/dependent", "Find6/one-read", 2, 0},
	{"IPv6 lookup, by range / one read", "Find6/range/dependent", "Find6/one-read", 2, 0},
	{"IPv6 lookup, Zipf / one read", "Find6/zipf/dependent", "Find6/one-read", 2, 0},
	{"IPv4 lookups, allocations", "Find4/range/dependent allocs/op", "", 0, 0},
	{"both indexes, MB", "Index MB", "", 65, 0},
	{"sort.Search / IPv4 lookup", "Search/sort", "Search/ours", 0, 4},
	{"sort.Search / IPv4 lookup, many at once", "Search/sort", "Search/ours-many", 0, 4},
	{"routing table / ours, IPv4 by range", "Routing4/library", "Routing4/ours", 0, 3.5},
	{"routing table / ours, IPv4, many at once", "Routing4/library", "Routing4/ours-many", 0, 3.5},
	{"routing table / ours, IPv6 by range", "Routing6/library", "Routing6/ours", 0, 6},
	{"routing table / ours, IPv6, many at once", "Routing6/library", "Routing6/ours-many", 0, 6},
	{"PostgreSQL btree / ours", "Database/btree", "Database/ours", 0, 500},
	{"edition of 4.5 M rows / reading them as CSV", "Build/edition", "Build/csv", 0.6, 0},
	{"memory at the peak of that, MB", "Build/edition peak-MB", "", 2000, 0},
	{"edition of open data at full size / unpacking it into lines", "OpenData first-s", "OpenData lines-s", 1.5, 0},
	{"the next, one feed changed / the first", "OpenData next-s", "OpenData first-s", 0.1, 0},
	{"memory at the peak of that, MB", "OpenData peak-MB", "", 2000, 0},
	{"IPv4 lookup in that edition, uniform / one read", "OpenData lookup-ns", "OpenData read-ns", 1.5, 0},
	{"the same, only where it has ranges / one read", "OpenData held-lookup-ns", "OpenData read-ns", 1.5, 0},
	{"edition of 3 M rows with as many points, memory, MB", "ManyPoints peak-MB", "", 1000, 0},
	{"open and first answer, warm, ns", "Open/warm", "", 1e6, 0},
	{"open and first answer, cold, ns", "Open/cold", "", 1e8, 0},
	{"visits stored and counted / raw COPY, time", "Store insert-ns", "Store copy-ns", 2, 0},
	{"draining the queue / storing from memory, time", "Drain drain-ns", "Drain store-ns", 1, 0},
	{"accepting one by one / bare handler, time", "Accept one-ns", "Accept bare-ns", 1.67, 0},
	{"the same, visits a second: lists of 100 / one", "Accept one-ns", "AcceptLists visit-ns", 0, 10},
	{"p99 at half load / the bare handler's", "Half ours-p99-us", "Half bare-p99-us", 5, 0},
	{"card with two companions / without, over HTTP, time", "Companions http-with-ns", "Companions http-without-ns", 1.2, 0},
	{"following a link / bare handler that redirects, time", "Redirect link-ns", "Redirect bare-ns", 1.25, 0},
	{"report of one of 100,000 links / of the site, time", "LinkReport link-us", "LinkReport site-us", 1.2, 0},
	{"one worker / two workers", "Workers/one", "Workers/two", 0, 1.9},
}

func main() {
	took := map[string][]float64{} // by name, a value a round
	wrong := false
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		fmt.Println(lines.Text())
		if text := lines.Text(); strings.HasPrefix(text, "FAIL") || strings.HasPrefix(text, "--- FAIL") || strings.HasPrefix(text, "panic:") {
			wrong = true
		}
		fields := strings.Fields(lines.Text())
		if len(fields) < 4 || !strings.HasPrefix(fields[0], "Benchmark") || fields[3] != "ns/op" {
			continue
		}
		name := strings.TrimPrefix(fields[0], "Benchmark")
		if i := strings.LastIndexByte(name, '-'); i > 0 {
			if _, err := strconv.Atoi(name[i+1:]); err == nil {
				name = name[:i]
			}
		}
		add(took, name, fields[2])
		for i := 4; i+1 < len(fields); i += 2 {
			add(took, name+" "+fields[i+1], fields[i])
		}
	}
	if err := lines.Err(); err != nil {
		fmt.Fprintln(os.Stderr, "benchratios:", err)
		os.Exit(1)
	}
	fmt.Printf("\n%-48s %10s  %-17s %s\n", "promise", "measured", "least to most", "target")
	for _, p := range promises {
		values := p.of(took)
		target := fmt.Sprintf("<= %g", p.atMost)
		if p.atLeast > 0 {
			target = fmt.Sprintf(">= %g", p.atLeast)
		}
		if len(values) == 0 {
			wrong = true
			fmt.Printf("%-48s %10s  %-17s %-8s not measured\n", p.what, "", "", target)
			continue
		}
		slices.Sort(values)
		value := values[len(values)/2]
		word := "kept"
		if p.atLeast > 0 && value < p.atLeast || p.atLeast == 0 && value > p.atMost {
			word = "MISSED"
		}
		fmt.Printf("%-48s %10.2f  %-17s %-8s %s\n", p.what, value, fmt.Sprintf("%.2f to %.2f", values[0], values[len(values)-1]), target, word)
	}
	if wrong {
		fmt.Fprintln(os.Stderr, "benchratios: a benchmark failed, or did not run; what it said stands above")
		os.Exit(1)
	}
}

func add(took map[string][]float64, name, text string) {
	if value, err := strconv.ParseFloat(text, 64); err == nil {
		took[name] = append(took[name], value)
	}
}

// of gives the values of a promise, one a round.
func (p promise) of(took map[string][]float64) []float64 {
	values := slices.Clone(took[p.measured])
	if p.against == "" {
		return values
	}
	against := took[p.against]
	values = values[:min(len(values), len(against))]
	for i := range values {
		values[i] /= against[i]
	}
	return values
}
