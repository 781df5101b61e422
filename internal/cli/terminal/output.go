package terminal

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"regexp"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"eastporch/internal/core/plain"
	"eastporch/internal/files/answers"
)

// NewTable makes a table in the one style of all commands; figures columns are
// aligned right.
func NewTable(out io.Writer, header table.Row, figures ...string) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(trimmed{out})
	style := table.StyleLight
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	t.SetStyle(style)
	if header != nil {
		t.AppendHeader(header)
	}
	var columns []table.ColumnConfig
	for _, name := range figures {
		columns = append(columns, table.ColumnConfig{Name: name, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(columns)
	return t
}

// trimmed drops the spaces that pad the last column.
type trimmed struct{ io.Writer }

var padding = regexp.MustCompile(` +(\n|$)`)

func (w trimmed) Write(p []byte) (int, error) {
	_, err := w.Writer.Write(padding.ReplaceAll(p, []byte("$1")))
	return len(p), err
}

// A Stream writes values one by one, as [Emit] writes a list of them, and keeps none. Close ends it.
type Stream struct {
	a   *App
	out *bufio.Writer
	csv *answers.CSV
	n   int
}

// NewStream makes one that writes to the output of a.
func NewStream(a *App) *Stream {
	s := &Stream{a: a, out: bufio.NewWriterSize(a.Out, 1<<16)}
	s.csv = answers.NewCSV(s.out)
	return s
}

// Write writes a value; as text it is one line, with head before the first.
func (s *Stream) Write(v any, head, line string) error {
	s.n++
	switch s.a.Output {
	case "ndjson":
		e := json.NewEncoder(s.out)
		e.SetEscapeHTML(false)
		return e.Encode(v)
	case "json":
		before := ",\n  "
		if s.n == 1 {
			before = "[\n  "
		}
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		e.SetIndent("  ", "  ")
		if err := e.Encode(v); err != nil {
			return err
		}
		_, err := s.out.WriteString(before + strings.TrimSuffix(b.String(), "\n"))
		return err
	case "csv":
		return s.csv.Write(v)
	case "yaml":
		text, err := answers.Render("yaml", []any{v}, "", nil)
		if err == nil {
			_, err = s.out.Write(text)
		}
		return err
	}
	if s.n == 1 {
		line = head + "\n" + line
	}
	_, err := s.out.WriteString(plain.Visible(line) + "\n")
	return err
}

// Flush hands on what was written.
func (s *Stream) Flush() error { return s.out.Flush() }

// Close ends what was written.
func (s *Stream) Close() error {
	switch {
	case s.a.Output == "json" && s.n == 0:
		_, _ = s.out.WriteString("[]\n") // an error comes with Flush
	case s.a.Output == "json":
		_, _ = s.out.WriteString("\n]\n")
	case s.a.Output == "yaml" && s.n == 0:
		_, _ = s.out.WriteString("[]\n")
	}
	return s.out.Flush()
}

// Emit writes values as JSON or YAML (one list), as NDJSON (one a line) or CSV
// (one a row), or calls draw for a table. A single value that stands for itself is not an array.
func Emit[T any](a *App, values []T, single bool, draw func()) error {
	switch a.Output {
	case "ndjson":
		e := json.NewEncoder(a.Out)
		e.SetEscapeHTML(false)
		for _, v := range values {
			if err := e.Encode(v); err != nil {
				return err
			}
		}
		return nil
	case "json":
		e := json.NewEncoder(a.Out)
		e.SetEscapeHTML(false)
		e.SetIndent("", "  ")
		if single && len(values) == 1 {
			return e.Encode(values[0])
		}
		return e.Encode(append([]T{}, values...))
	case "csv", "yaml":
		var value any = append([]T{}, values...)
		if single && len(values) == 1 && a.Output == "yaml" {
			value = values[0]
		}
		text, err := answers.Render(a.Output, value, "", nil)
		if err == nil {
			_, err = a.Out.Write(text)
		}
		return err
	}
	out := a.Out
	a.Out = ForPeople(out)
	defer func() { a.Out = out }()
	draw()
	return nil
}

// ForPeople gives a writer to w for what people read: strangers' texts cannot turn round or
// part what stands beside them (see [plain.Visible]).
func ForPeople(w io.Writer) io.Writer { return forPeople{w} }

type forPeople struct{ io.Writer }

func (w forPeople) Write(p []byte) (int, error) {
	if _, err := w.Writer.Write([]byte(plain.Visible(string(p)))); err != nil {
		return 0, err
	}
	return len(p), nil
}
