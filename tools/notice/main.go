// Command notice writes NOTICE: the open data that is carried over (data.txt), every Go module
// that is linked into the binary and every npm package that is bundled into the console, with
// their licences. The console must have been built.
//
//	go run ./tools/notice
//	go run ./tools/notice --check
package main

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

const (
	file    = "NOTICE"
	bundled = "internal/server/webui/dist/licenses.json" // Vite writes it
)

//go:embed data.txt
var data string

// A part is a library that the product carries.
type part struct {
	name, version, license string
	texts                  []string
}

func main() {
	text, err := notice()
	if err == nil && len(os.Args) > 1 && os.Args[1] == "--check" {
		var there []byte
		if there, err = os.ReadFile(file); err == nil && !bytes.Equal(there, text) {
			err = fmt.Errorf("%s is stale: run make generate", file)
		}
	} else if err == nil {
		err = os.WriteFile(file, text, 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "notice:", err)
		os.Exit(1)
	}
}

func notice() ([]byte, error) {
	linked, err := modules()
	if err != nil {
		return nil, err
	}
	packages, err := packages()
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	b.WriteString(data)
	samples := map[string]string{}
	for _, list := range []struct {
		title string
		parts []part
	}{{"Go modules that are linked into the binary", linked}, {"npm packages that are bundled into the console", packages}} {
		fmt.Fprintf(&b, "\n%s:\n\n", list.title)
		for _, p := range list.parts {
			fmt.Fprintf(&b, "- %s %s, %s\n", p.name, p.version, p.license)
			for _, line := range append(slices.Clone(credits[p.name]), copyrights(p.texts)...) {
				fmt.Fprintf(&b, "    %s\n", line)
			}
			for _, text := range p.texts {
				if kind := strings.Join(kindsOf(text), " and "); samples[kind] == "" {
					samples[kind] = text
				}
			}
		}
	}
	delete(samples, "Apache-2.0") // LICENSE has it
	delete(samples, "")
	b.WriteString("\nThe licences. Apache-2.0 is that of East Porch itself, in the file LICENSE. Of licences whose texts differ\nin names alone, one stands for all: the copyright lines are above.\n")
	kinds := make([]string, 0, len(samples))
	for kind := range samples {
		kinds = append(kinds, kind)
	}
	slices.Sort(kinds)
	for _, kind := range kinds {
		fmt.Fprintf(&b, "\n---- %s ----\n\n%s\n", kind, strings.TrimSpace(strings.ReplaceAll(samples[kind], "\r", "")))
	}
	return b.Bytes(), nil
}

// modules are the Go modules that the binary for Linux links.
func modules() (list []part, err error) {
	cmd := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}", "./cmd/eastporch")
	cmd.Env = append(os.Environ(), "GOOS=linux", "GOARCH=amd64")
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return nil, err
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	slices.Sort(lines)
	for _, line := range slices.Compact(lines) {
		fields := strings.Fields(line)
		if len(fields) != 3 {
			continue
		}
		p := part{name: fields[0], version: fields[1]}
		entries, err := os.ReadDir(fields[2])
		if err != nil {
			return nil, err
		}
		var kinds []string
		for _, e := range entries {
			if !isLicense.MatchString(e.Name()) || e.IsDir() {
				continue
			}
			text, err := os.ReadFile(filepath.Join(fields[2], e.Name()))
			if err != nil {
				return nil, err
			}
			p.texts = append(p.texts, string(text))
			for _, kind := range kindsOf(string(text)) {
				if !slices.Contains(kinds, kind) {
					kinds = append(kinds, kind)
				}
			}
		}
		if p.license = strings.Join(kinds, " and "); len(kinds) == 0 {
			return nil, fmt.Errorf("the licence of %s is not known: look at %s", p.name, fields[2])
		}
		list = append(list, p)
	}
	return list, nil
}

// packages are the npm packages that the console was built of.
func packages() (list []part, err error) {
	text, err := os.ReadFile(bundled)
	if err != nil {
		return nil, fmt.Errorf("%w (run make build)", err)
	}
	var built []struct{ Name, Version, Identifier, Text string }
	if err := json.Unmarshal(text, &built); err != nil {
		return nil, fmt.Errorf("%s: %w", bundled, err)
	}
	for _, b := range built {
		if b.Identifier == "" {
			return nil, fmt.Errorf("the licence of the npm package %s is not known", b.Name)
		}
		p := part{name: b.Name, version: b.Version, license: b.Identifier}
		if b.Text != "" {
			p.texts = []string{b.Text}
		}
		list = append(list, p)
	}
	return list, nil
}

var (
	isLicense = regexp.MustCompile(`(?i)^(licen[cs]e|copying|notice)`)
	spaces    = regexp.MustCompile(`\s+`)
	copyright = regexp.MustCompile(`(?im)^[\s*#]*((?:Original work |Modified work )?Copyright (?:\(c\)|©|\d).*|Portions copyright .*)$`)
)

// kinds say by which words a licence is known.
var kinds = []struct{ name, words string }{
	{"Apache-2.0", "Version 2.0, January 2004"},
	{"MPL-2.0", "Mozilla Public License, version 2.0"},
	{"OFL-1.1", "SIL OPEN FONT LICENSE"},
	{"CC-BY-4.0", "Creative Commons Attribution 4.0 International"},
	{"FTL", "your choice of exactly one of"},
	{"Apache-2.0", "two different licenses: MIT and Apache"},
	{"ISC", "Permission to use, copy, modify, and/or distribute this software for any purpose with or without fee"},
	{"ISC", "Permission to use, copy, modify, and distribute this software for any purpose with or without fee"},
	{"MIT", "deal in the Software without restriction"},
	{"BSD-3-Clause", "may be used to endorse or promote products"},
	{"BSD-2-Clause", "Redistributions in binary form must reproduce"},
}

// kindsOf tells the licences that a text has, none where it is only what the makers of a library
// ask to be handed on.
func kindsOf(text string) (list []string) {
	plain := spaces.ReplaceAllString(text, " ")
	for _, k := range kinds {
		if strings.Contains(plain, k.words) && !slices.Contains(list, k.name) && (k.name != "BSD-2-Clause" || !slices.Contains(list, "BSD-3-Clause")) {
			list = append(list, k.name)
		}
	}
	return list
}

// credits are what licences ask for beyond the copyright lines.
var credits = map[string][]string{
	"github.com/ajstarks/svgo":   {"by Anthony Starks, https://github.com/ajstarks/svgo, unchanged"},
	"github.com/golang/freetype": {"Portions of this software are copyright (c) The FreeType Project (www.freetype.org). All rights reserved."},
}

func copyrights(texts []string) (list []string) {
	for _, text := range texts {
		if len(kindsOf(text)) == 0 {
			for line := range strings.Lines(text) {
				if line = strings.TrimSpace(line); line != "" {
					list = append(list, line)
				}
			}
			continue
		}
		for _, m := range copyright.FindAllStringSubmatch(text, -1) {
			if line := strings.TrimSpace(m[1]); !slices.Contains(list, line) {
				list = append(list, line)
			}
		}
	}
	return list
}
