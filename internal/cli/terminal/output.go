package terminal

import (
	"encoding/json"
	"io"
	"regexp"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

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
	draw()
	return nil
}
