package editions

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/parquet-go/parquet-go"

	"eastporch/internal/core/atlas"
)

// readParquet reads a flat Parquet file as [atlas.ReadRows] reads rows: its leaf
// columns are the columns of the table. A damaged file is an error, not a panic.
func readParquet(r io.ReaderAt, size int64, how atlas.Reading, about atlas.About) (s *atlas.Source, err error) {
	defer func() {
		if p := recover(); p != nil {
			s, err = nil, fmt.Errorf("%s: the Parquet file is damaged: %v", about.Name, p)
		}
	}()
	f, err := parquet.OpenFile(r, size)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", about.Name, err)
	}
	return atlas.ReadRows(parquetHead(f), func(yield func([]string, error) bool) { parquetRows(f, yield) }, how, about)
}

func parquetHead(f *parquet.File) (head []string) {
	for _, path := range f.Schema().Columns() {
		head = append(head, strings.Join(path, "."))
	}
	return head
}

func parquetRows(f *parquet.File, yield func([]string, error) bool) {
	fields, buffer := make([]string, len(f.Schema().Columns())), make([]parquet.Row, 256)
	for _, group := range f.RowGroups() {
		rows := group.Rows()
		for {
			n, err := rows.ReadRows(buffer)
			for _, row := range buffer[:n] {
				clear(fields)
				for _, v := range row {
					if v.IsNull() {
						continue
					}
					text := v.String()
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

func describeParquet(r io.ReaderAt, size int64) (d *atlas.Description, err error) {
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
	parquetRows(f, func(fields []string, err error) bool {
		if err == nil {
			rows = append(rows, slices.Clone(fields))
		}
		return err == nil && len(rows) < atlas.DescribeRowsMost
	})
	return atlas.DescribeRows(atlas.Parquet, "it begins with PAR1", parquetHead(f), rows), nil
}

// Describe looks at a file of range data, packed or not, without loading it.
func Describe(path string) (*atlas.Description, error) {
	f, err := os.Open(path)
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
func DescribeText(r io.Reader) (*atlas.Description, error) {
	text, err := Unpack(r)
	if err != nil {
		return nil, err
	}
	defer text.Close()
	return atlas.Describe(text)
}
