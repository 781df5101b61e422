// Command benchratios reads the output of go test -bench and prints, beside it,
// the ratios that the design promises, each measured in that one run.
package main

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
	"strings"
)

// promise is a ratio of two benchmarks, or a bound of one.
type promise struct {
	what, measured, against string // against is "" for a bound in nanoseconds
	atMost, atLeast         float64
}

var promises = []promise{
	{"walk of a 3-hop header / split and parse", "Walk/address", "Walk/split-and-parse", 10, 0},
	{"finding addresses in a log: speed / regexp", "Find/regexp", "Find/find", 0, 10},
	{"checking a key, ns", "Check", "", 5000, 0},
	{"a whole card, ns", "Card", "", 3000, 0},
}

func main() {
	took := map[string]float64{}
	lines := bufio.NewScanner(os.Stdin)
	for lines.Scan() {
		fmt.Println(lines.Text())
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
		took[name], _ = strconv.ParseFloat(fields[2], 64)
	}
	if err := lines.Err(); err != nil {
		fmt.Fprintln(os.Stderr, "benchratios:", err)
		os.Exit(1)
	}
	fmt.Printf("\n%-46s %10s  %s\n", "promise", "measured", "target")
	for _, p := range promises {
		value := took[p.measured]
		if p.against != "" && took[p.against] > 0 {
			value /= took[p.against]
		}
		target, kept := fmt.Sprintf("<= %g", p.atMost), value <= p.atMost
		if p.atLeast > 0 {
			target, kept = fmt.Sprintf(">= %g", p.atLeast), value >= p.atLeast
		}
		word := "kept"
		switch {
		case took[p.measured] == 0:
			word = "not measured"
		case !kept:
			word = "MISSED"
		}
		fmt.Printf("%-46s %10.2f  %-8s %s\n", p.what, value, target, word)
	}
}
