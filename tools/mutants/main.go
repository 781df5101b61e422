// Command mutants says how well the tests watch the code: it makes small changes, drawn at random
// from a seed, and runs the tests of each change's package and of the packages that depend on it,
// until one fails. Tests of the whole service (internal/e2e) are asked only for changes that nobody
// else noticed.
//
//	go run ./tools/mutants                  # 40 changes of the committed seed
//	go run ./tools/mutants -n 5 -seed 7     # others
//	go run ./tools/mutants -only 3,17       # some of them again
//
// No file is changed: the compiler is given each change as an overlay. The exit status is 0 whatever
// is noticed; 1 where the tests could not be run.
package main

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

const module = "eastporch/"

func main() {
	n := flag.Int("n", 40, "how many changes are made")
	seed := flag.Uint64("seed", 31, "what they are drawn from")
	only := flag.String("only", "", "their numbers, where not all are made")
	flag.Parse()
	if err := run(*n, *seed, *only); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

// A change replaces a piece of a file.
type change struct {
	file, pkg  string
	line       int
	begin, end int // bytes
	was, is    string
}

func run(n int, seed uint64, only string) error {
	users, err := usersOf()
	if err != nil {
		return err
	}
	all, err := changes()
	if err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(seed, 1))
	dir, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	made, noticed := 0, 0
	for made < n && len(all) > 0 {
		i := r.IntN(len(all))
		c := all[i]
		all = slices.Delete(all, i, i+1)
		overlay, err := c.overlay(dir)
		if err != nil {
			return err
		}
		if !compiles(overlay, c.pkg) {
			continue // another is drawn
		}
		made++
		if only != "" && !slices.Contains(strings.Split(only, ","), strconv.Itoa(made)) {
			continue
		}
		began := time.Now()
		by := watch(overlay, users[c.pkg])
		if by != "" {
			noticed++
		}
		fmt.Printf("%2d  %s:%d  %s -> %s  %s  %.0f s\n", made, c.file, c.line, c.was, c.is, orNobody(by), time.Since(began).Seconds())
	}
	fmt.Printf("%d changes, %d noticed\n", made, noticed)
	return nil
}

func orNobody(by string) string {
	if by == "" {
		return "NOBODY noticed"
	}
	return "noticed by " + by
}

// overlay writes the changed file and what tells the compiler of it.
func (c change) overlay(dir string) (string, error) {
	text, err := os.ReadFile(c.file)
	if err != nil {
		return "", err
	}
	changed := filepath.Join(dir, "changed.go")
	if err := os.WriteFile(changed, []byte(string(text[:c.begin])+c.is+string(text[c.end:])), 0o600); err != nil {
		return "", err
	}
	whole, err := filepath.Abs(c.file)
	if err != nil {
		return "", err
	}
	list, err := json.Marshal(map[string]map[string]string{"Replace": {whole: changed}})
	if err != nil {
		return "", err
	}
	file := filepath.Join(dir, "overlay.json")
	return file, os.WriteFile(file, list, 0o600)
}

// with runs the go command with an overlay, which those that tests start have too.
func with(overlay string, args ...string) error {
	cmd := exec.Command("go", args...)
	cmd.Env = append(os.Environ(), "GOFLAGS=-trimpath -overlay="+overlay, "EASTPORCH_TEST_BINARY=")
	return cmd.Run()
}

func compiles(overlay, pkg string) bool {
	return with(overlay, "vet", "-unusedresult=false", pkg) == nil
}

// watch gives the package whose tests notice a change first, or "".
func watch(overlay string, packages []string) string {
	for _, pkg := range packages {
		var failed *exec.ExitError
		if err := with(overlay, "test", "-timeout", "5m", pkg); errors.As(err, &failed) {
			return strings.TrimPrefix(pkg, module)
		}
	}
	return ""
}

// usersOf gives for each package itself, those that depend on it, the nearest first, and last those
// that try the whole service.
func usersOf() (map[string][]string, error) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}} {{join .TestImports " "}} {{join .XTestImports " "}}`, "./...").Output()
	if err != nil {
		return nil, err
	}
	direct := map[string][]string{}
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		for _, dep := range fields[1:] {
			if strings.HasPrefix(dep, module) && dep != fields[0] {
				direct[dep] = append(direct[dep], fields[0])
			}
		}
	}
	users := map[string][]string{}
	for line := range strings.Lines(string(out)) {
		pkg := strings.Fields(line)[0]
		reached := []string{pkg}
		for i := 0; i < len(reached); i++ {
			for _, user := range direct[reached[i]] {
				if !slices.Contains(reached, user) {
					reached = append(reached, user)
				}
			}
		}
		slices.SortStableFunc(reached, func(a, b string) int { return whole(a) - whole(b) })
		users[pkg] = reached
	}
	return users, nil
}

func whole(pkg string) int {
	if strings.HasPrefix(pkg, module+"internal/e2e/") {
		return 1
	}
	return 0
}

var turned = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD,
}

// changes are all that could be made, in the order of the files.
func changes() (all []change, err error) {
	out, err := exec.Command("git", "ls-files", "internal/*.go", "porch/*.go").Output()
	if err != nil {
		return nil, err
	}
	for file := range strings.Lines(string(out)) {
		file = strings.TrimSpace(file)
		if strings.HasSuffix(file, "_test.go") || strings.Contains(file, "_gen.go") || strings.HasPrefix(file, "internal/testkit/") {
			continue
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		files := token.NewFileSet()
		parsed, err := parser.ParseFile(files, file, text, parser.SkipObjectResolution)
		if err != nil {
			return nil, err
		}
		add := func(begin, end token.Pos, is string) {
			b, e := files.Position(begin), files.Position(end)
			all = append(all, change{file, module + filepath.Dir(file), b.Line, b.Offset, e.Offset, string(text[b.Offset:e.Offset]), is})
		}
		ast.Inspect(parsed, func(node ast.Node) bool {
			switch of := node.(type) {
			case *ast.BinaryExpr:
				if to, ok := turned[of.Op]; ok {
					add(of.OpPos, of.OpPos+token.Pos(len(of.Op.String())), to.String())
				}
			case *ast.UnaryExpr:
				if of.Op == token.NOT {
					add(of.OpPos, of.OpPos+1, "")
				}
			case *ast.BasicLit:
				if number, err := strconv.Atoi(of.Value); err == nil && of.Kind == token.INT {
					add(of.Pos(), of.End(), strconv.Itoa(number+1))
				}
			case *ast.IncDecStmt:
				add(of.TokPos, of.TokPos+2, map[token.Token]string{token.INC: "--", token.DEC: "++"}[of.Tok])
			case *ast.Ident:
				if of.Name == "true" || of.Name == "false" {
					add(of.Pos(), of.End(), strconv.FormatBool(of.Name == "false"))
				}
			}
			return true
		})
	}
	return all, nil
}
