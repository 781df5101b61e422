package editions

import (
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/parquet-go/parquet-go"

	"eastporch/internal/core/atlas"
	"eastporch/internal/core/atlas/source"
	"eastporch/internal/files/whole"
)

// readParquet reads a Parquet file as [atlas.ReadRows] reads rows: its leaf columns are
// the columns of the table, the values of a list have semicolons between them. A damaged file is an error, not a panic.
func readParquet(r io.ReaderAt, size int64, how source.ParseOptions, about atlas.About) (s *atlas.Source, err error) {
	defer func() {
		if p := recover(); p != nil {
			s, err = nil, fmt.Errorf("%s: the Parquet file is damaged: %v", about.Name, p)
		}
	}()
	f, err := parquet.OpenFile(r, size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", about.Name, err)
	}
	columns := parquetColumns(f.Metadata().Schema)
	if err := readable(columns, how.Columns); err != nil {
		return nil, fmt.Errorf("%s: %w", about.Name, err)
	}
	return source.ReadRows(parquetHead(columns), func(yield func([]string, error) bool) { parquetRows(f, columns, yield) }, how, about)
}

// readable refuses columns of facts whose type has no text, or that have several values
// where a fact has one.
func readable(columns []parquetColumn, mapping map[string]string) error {
	for _, fact := range source.Columns {
		name, mapped := mapping[fact]
		if !mapped {
			name = fact
		}
		for _, c := range columns {
			switch {
			case c.name != name:
			case c.text == nil:
				return fmt.Errorf("the column %s for %s has the type %s, which is not read: write it as text or as a number", name, fact, c.kind)
			case c.many && fact != "labels":
				return fmt.Errorf("the column %s for %s is a list, and an address has one %s: write one value a row", name, fact, fact)
			}
		}
	}
	return nil
}

func parquetHead(columns []parquetColumn) (head []string) {
	for _, c := range columns {
		head = append(head, c.name)
	}
	return head
}

func parquetRows(f *parquet.File, columns []parquetColumn, yield func([]string, error) bool) {
	fields, buffer := make([]string, len(columns)), make([]parquet.Row, 256)
	for _, group := range f.RowGroups() {
		rows := group.Rows()
		for {
			n, err := rows.ReadRows(buffer)
			for _, row := range buffer[:n] {
				clear(fields)
				for _, v := range row {
					write := columns[v.Column()].text
					if v.IsNull() || write == nil {
						continue
					}
					text := write(v)
					if fields[v.Column()] != "" {
						text = fields[v.Column()] + ";" + text
					}
					fields[v.Column()] = text
				}
				if !yield(fields, nil) {
					rows.Close()
					return
				}
			}
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				yield(nil, err)
				rows.Close()
				return
			}
		}
		rows.Close()
	}
}

func describeParquet(r io.ReaderAt, size int64) (d *source.Description, err error) {
	defer func() {
		if p := recover(); p != nil {
			d, err = nil, fmt.Errorf("the Parquet file is damaged: %v", p)
		}
	}()
	f, err := parquet.OpenFile(r, size)
	if err != nil {
		return nil, err
	}
	var rows [][]string
	columns := parquetColumns(f.Metadata().Schema)
	parquetRows(f, columns, func(fields []string, err error) bool {
		if err == nil {
			rows = append(rows, slices.Clone(fields))
		}
		return err == nil && len(rows) < source.DescribeRowsMost
	})
	return source.DescribeRows(source.Parquet, "it begins with PAR1", parquetHead(columns), rows), nil
}

// Describe looks at a file of range data, packed or not, without loading it.
func Describe(path string) (*source.Description, error) {
	f, err := whole.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	first := make([]byte, 4)
	if n, _ := f.ReadAt(first, 0); string(first[:n]) == "PAR1" {
		info, err := f.Stat()
		if err != nil {
			return nil, err
		}
		return describeParquet(f, info.Size())
	}
	return DescribeText(f)
}

// DescribeText is [Describe] for a stream.
func DescribeText(r io.Reader) (*source.Description, error) {
	text, err := Unpack(r)
	if err != nil {
		return nil, err
	}
	defer text.Close()
	return source.Describe(text)
}
