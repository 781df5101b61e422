package visits

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/parquet-go/parquet-go"

	"eastporch/internal/core/visit"
)

// ErrTooLong is wrapped where a line or record is longer than 1 MB.
var ErrTooLong = errors.New("it is longer than 1 MB")

// Read calls do for every visit of a file, with its line or row, counted from 1.
// What is not a visit has an error instead, which does not end the reading; what do
// gives back does, and so does a file that cannot be read on. Parquet is read from
// a file alone.
func Read(r io.Reader, format string, do func(line int, v visit.Visit, err error) error) error {
	switch format {
	case "csv":
		return readCSV(r, do)
	case "ndjson", "geojson":
		return readLines(r, format == "geojson", do)
	case "parquet":
		file, ok := r.(interface {
			io.ReaderAt
			io.Seeker
		})
		if !ok {
			return errors.New("a Parquet file is read from its end, and this one has none yet")
		}
		return readParquet(file, do)
	}
	return fmt.Errorf("%.20q is not a format of visits: give csv, ndjson, geojson or parquet", format)
}

func readCSV(r io.Reader, do func(int, visit.Visit, error) error) error {
	bound := &recordReader{r: r}
	c := csv.NewReader(bufio.NewReaderSize(bound, 64<<10))
	c.ReuseRecord = true
	head, err := c.Read()
	if err != nil {
		return fmt.Errorf("the line of names: %w", err)
	}
	at := map[string]int{}
	for i, name := range head {
		at[strings.TrimPrefix(name, "\ufeff")] = i
	}
	for _, name := range []string{"id", "site", "path", "card", "trail"} {
		if _, ok := at[name]; !ok {
			return fmt.Errorf("the column %q is missing: give a file that visits export has written", name)
		}
	}
	for line := 1; ; {
		bound.read = 0
		row, err := c.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if errors.Is(err, ErrTooLong) {
			return fmt.Errorf("the record after line %d: %w; perhaps a quote is not closed", line, ErrTooLong)
		}
		var wrong *csv.ParseError
		if errors.As(err, &wrong) {
			line = wrong.Line
			if err := do(wrong.StartLine, visit.Visit{}, wrong.Err); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		line, _ = c.FieldPos(0)
		cell := func(name string) string {
			if i, ok := at[name]; ok && i < len(row) {
				return row[i]
			}
			return ""
		}
		optional := func(name string) *string {
			if s := cell(name); s != "" {
				return &s
			}
			return nil
		}
		v, err := flat{
			ID: cell("id"), Site: cell("site"), Path: cell("path"), Referrer: optional("referrer"), UserAgent: optional("user_agent"), Link: optional("link"), Destination: optional("destination"),
			Attributes: optional("attributes"), Marks: cell("marks"), Card: cell("card"), Trail: cell("trail"),
		}.visit()
		if err := do(line, v, err); err != nil {
			return err
		}
	}
}

// recordReader ends where a record takes more than [maxLine] bytes, which a quote that was
// left open does: a record is kept in memory until it is whole.
type recordReader struct {
	r    io.Reader
	read int // since the record began, and a buffer at the most
}

func (b *recordReader) Read(p []byte) (int, error) {
	if b.read > maxLine {
		return 0, ErrTooLong
	}
	n, err := b.r.Read(p)
	b.read += n
	return n, err
}

func readLines(r io.Reader, features bool, do func(int, visit.Visit, error) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxLine)
	line := 1
	for ; lines.Scan(); line++ {
		body := bytes.TrimSpace(lines.Bytes())
		var v visit.Visit
		var err error
		if features {
			body = bytes.TrimSuffix(body, []byte(","))
			if !bytes.HasPrefix(body, []byte(`{"type":"Feature",`)) {
				continue // what is around the features
			}
			var f feature
			err = json.Unmarshal(body, &f)
			v = f.Properties
		} else if len(body) > 0 {
			err = json.Unmarshal(body, &v)
		} else {
			continue
		}
		if string(v.Attributes) == "null" {
			v.Attributes = nil
		}
		if at, ok := visit.TimeOf(v.ID); err == nil && ok {
			v.Time = at
		} else if err == nil {
			err = fmt.Errorf("id: %s is not a UUID of version 7", v.ID)
		}
		if err := do(line, v, err); err != nil {
			return err
		}
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) {
		return fmt.Errorf("line %d: %w", line, ErrTooLong)
	}
	return lines.Err()
}

func readParquet(r interface {
	io.ReaderAt
	io.Seeker
}, do func(int, visit.Visit, error) error,
) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the Parquet file is damaged: %v", p)
		}
	}()
	size, err := r.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	f, err := parquet.OpenFile(r, size)
	if err != nil {
		return fmt.Errorf("the Parquet file: %w", err)
	}
	for i, group := range f.Metadata().RowGroups {
		for _, column := range group.Columns {
			if m := column.MetaData; m.TotalUncompressedSize > maxChunk {
				return fmt.Errorf("the Parquet file: in row group %d the column %s has %d bytes, %d are read: write smaller groups", i+1, strings.Join(m.PathInSchema, "."), m.TotalUncompressedSize, maxChunk)
			}
		}
	}
	rows := parquet.NewGenericReader[flat](f)
	defer rows.Close()
	buffer := make([]flat, 64)
	for line := 1; ; {
		n, err := rows.Read(buffer)
		for _, row := range buffer[:n] {
			v, bad := row.visit()
			if err := do(line, v, bad); err != nil {
				return err
			}
			line++
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the Parquet file: %w", err)
		}
	}
}
