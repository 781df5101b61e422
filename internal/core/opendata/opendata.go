// Package opendata knows the range data that is published openly, and writes a configuration for
// it. Nothing is fetched in here.
package opendata

import (
	"bytes"
	"cmp"
	_ "embed"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"text/template"

	"eastporch/internal/core/addr"
)

//go:embed open-sources.csv
var known []byte

//go:embed starter.yaml.tmpl
var starter string

// A File is one that is published.
type File struct {
	What      string // statistics, rpsl or mrt
	Registry  string
	Region    string
	URL       string
	Megabytes int // about, as it is fetched
	Note      string
	packed    bool
}

// Known gives the public files of the five regional registries, as this version knows them.
func Known() []File {
	list, err := Read(bytes.NewReader(known))
	if err != nil {
		panic(err) // a test holds that it is read
	}
	return list
}

// Read reads a catalog: CSV with the columns what, registry, region, url, compressed,
// about_megabytes, note; lines that begin with # are comments. The error names the line.
func Read(r io.Reader) ([]File, error) {
	in := csv.NewReader(r)
	in.Comment, in.FieldsPerRecord, in.TrimLeadingSpace = '#', 7, true
	rows, err := in.ReadAll()
	if err != nil {
		return nil, err
	}
	if len(rows) < 2 || strings.Join(rows[0], ",") != "what,registry,region,url,compressed,about_megabytes,note" {
		return nil, errors.New("a catalog begins with what,registry,region,url,compressed,about_megabytes,note, and has files below")
	}
	var list []File
	for i, row := range rows[1:] {
		f := File{What: row[0], Registry: row[1], Region: row[2], URL: row[3], packed: row[4] != "", Note: row[6]}
		u, err := url.Parse(f.URL)
		f.Megabytes, _ = strconv.Atoi(row[5])
		switch {
		case !slices.Contains([]string{"statistics", "rpsl", "mrt"}, f.What):
			return nil, fmt.Errorf("file %d: %.40q is none of statistics, rpsl, mrt", i+1, f.What)
		case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
			return nil, fmt.Errorf("file %d: %.80q is no address of HTTP", i+1, f.URL)
		case strings.ContainsAny(f.Registry+f.Region+f.Note+f.URL, "\n\r\"'{}[]"):
			return nil, fmt.Errorf("file %d: a name with a quote, bracket or line break", i+1)
		case f.Megabytes < 0 || f.Registry == "":
			return nil, fmt.Errorf("file %d: it has no registry, or a size below 0", i+1)
		}
		list = append(list, f)
	}
	return list, nil
}

// Regions picks the files of regions or registries whose name holds one of words, whatever the
// case; of all where there are none. The error names a word that none holds.
func Regions(files []File, words []string) (picked []File, err error) {
	holds := func(f File, word string) bool {
		return strings.Contains(strings.ToLower(f.Region+"\n"+f.Registry), strings.ToLower(strings.TrimSpace(word)))
	}
	for _, word := range words {
		if !slices.ContainsFunc(files, func(f File) bool { return holds(f, word) }) {
			return nil, fmt.Errorf("no region and no registry is called %.40q: there are %s", word, strings.Join(names(files), ", "))
		}
	}
	for _, f := range files {
		if len(words) == 0 || slices.ContainsFunc(words, func(word string) bool { return holds(f, word) }) {
			picked = append(picked, f)
		}
	}
	return picked, nil
}

func names(files []File) (list []string) {
	for _, f := range files {
		if name := f.Registry + " (" + f.Region + ")"; !slices.Contains(list, name) {
			list = append(list, name)
		}
	}
	return list
}

// Carried is where a file lies that is carried in: its last name in the directory, behind its host
// where several files are called alike.
func Carried(files []File, f File, dir string) string {
	name := path.Base(f.URL)
	for _, other := range files {
		if u, err := url.Parse(f.URL); err == nil && other.URL != f.URL && path.Base(other.URL) == name {
			name = u.Hostname() + "-" + name
		}
	}
	return filepath.Join(dir, name)
}

// A Registry is a publisher in a starter: what it has, and what it lacks.
type Registry struct {
	Name, Region   string
	Statistics     []string // where each file is
	Objects, Names []string // RPSL of networks and of AS numbers; a file of all kinds is both
	Lacks          []string
}

// plan is what the starter's template sees.
type plan struct {
	Registries []Registry
	Files      []File
	Routes     []string
	Offline    bool
	Plain      bool // feeds over http count
	Inside     bool // and come from addresses that are not public
	MadeUp     bool
	Megabytes  int
	Minutes    int
}

// Starter writes a configuration for files: the part atlas of eastporch.yaml, with comments. dir,
// unless "", is where the files are carried to.
func Starter(files []File, dir string) (string, error) {
	p := plan{Offline: dir != "", Files: files}
	at := func(f File) string {
		if dir != "" {
			return Carried(files, f, dir)
		}
		return f.URL
	}
	for _, f := range files {
		p.Megabytes += f.Megabytes
		u, _ := url.Parse(f.URL) // which Read has done
		p.Plain = p.Plain || u.Scheme == "http"
		if ip, err := netip.ParseAddr(u.Hostname()); err == nil && addr.KindOf(ip) != addr.Public {
			p.Inside, p.MadeUp = true, true
		}
		if f.What == "mrt" {
			p.Routes = append(p.Routes, at(f))
			continue
		}
		i := slices.IndexFunc(p.Registries, func(r Registry) bool { return r.Name == f.Registry })
		if i < 0 {
			i = len(p.Registries)
			p.Registries = append(p.Registries, Registry{Name: f.Registry, Region: f.Region})
		}
		switch r, note := &p.Registries[i], strings.ToLower(f.Note); {
		case f.What == "statistics":
			r.Statistics = append(r.Statistics, at(f))
		case strings.Contains(note, "names of as"):
			r.Names = append(r.Names, at(f))
		case strings.Contains(note, "all kinds"):
			r.Objects, r.Names = append(r.Objects, at(f)), append(r.Names, at(f))
		default:
			r.Objects = append(r.Objects, at(f))
		}
	}
	for i := range p.Registries {
		r := &p.Registries[i]
		if len(r.Objects) == 0 {
			r.Lacks = append(r.Lacks, "no public file of its networks: countries by registration alone, and its geofeeds are not found; list those you know under geofeeds:")
		}
		if len(r.Names) == 0 {
			r.Lacks = append(r.Lacks, "no public file of the names of AS numbers: operators stay numbers unless a table names them")
		}
	}
	p.Minutes = max(1, p.Megabytes/500)
	var out bytes.Buffer
	t, err := template.New("starter").Funcs(template.FuncMap{"quote": strconv.Quote}).Parse(starter)
	if err == nil {
		err = t.Execute(&out, p)
	}
	return out.String(), err
}

// Names are all files that name AS numbers.
func (p plan) Names() (list []string) {
	for _, r := range p.Registries {
		list = append(list, r.Names...)
	}
	return list
}

// HasObjects says whether any registry's networks are there, which name geofeeds.
func (p plan) HasObjects() bool {
	return slices.ContainsFunc(p.Registries, func(r Registry) bool { return len(r.Objects) > 0 })
}

// HasStatistics says whether any registry's statistics are there.
func (p plan) HasStatistics() bool {
	return slices.ContainsFunc(p.Registries, func(r Registry) bool { return len(r.Statistics) > 0 })
}

// At is the key of addresses, or of files.
func (p plan) At() string { return cmp.Or(map[bool]string{true: "files"}[p.Offline], "urls") }
