package editions

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"eastporch/internal/core/plain"
	"eastporch/internal/core/rpsl"
	"eastporch/internal/files/whole"
)

// operators reads what AS numbers are called: of tables with the columns as_number and operator,
// and of RPSL objects aut-num. Where several name one, the first does.
func operators(ctx context.Context, paths []string) (map[uint32]string, error) {
	names := map[uint32]string{}
	for _, path := range paths {
		if err := readOperators(ctx, path, names); err != nil {
			return nil, fmt.Errorf("names of AS numbers in %s: %w", filepath.Base(path), err)
		}
	}
	return names, nil
}

func readOperators(ctx context.Context, path string, names map[uint32]string) error {
	file, err := whole.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	text, err := unpackAhead(file)
	if err != nil {
		return err
	}
	defer text.Close()
	in := bufio.NewReaderSize(text, 1<<20)
	first, _ := in.Peek(4 << 10)
	if line, _, _ := bytes.Cut(first, []byte{'\n'}); bytes.Contains(line, []byte("as_number")) {
		return operatorTable(in, names)
	}
	before := len(names)
	err = eachObject(ctx, in, func(o *rpsl.Object) {
		if !o.IsAS() {
			return
		}
		if as, ok := asNumber(string(o.Key)); ok && names[as] == "" {
			names[as] = plain.Clean(rpsl.Text(firstOf(o.Descr, o.ASName)), 200)
		}
	})
	if err == nil && len(names) == before && len(bytes.TrimSpace(first)) > 0 {
		err = errors.New("it is neither a table with the columns as_number and operator, nor RPSL with objects aut-num that name others")
	}
	return err
}

func operatorTable(in io.Reader, names map[uint32]string) error {
	table := csv.NewReader(in)
	table.FieldsPerRecord, table.ReuseRecord = -1, true
	head, err := table.Read()
	if err != nil {
		return err
	}
	number, operator := slices.Index(head, "as_number"), slices.Index(head, "operator")
	if number < 0 || operator < 0 {
		return errors.New("its head names no columns as_number and operator")
	}
	for {
		row, err := table.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if len(row) <= max(number, operator) {
			continue
		}
		if as, ok := asNumber(row[number]); ok && names[as] == "" {
			names[as] = plain.Clean(row[operator], 200)
		}
	}
}

func asNumber(text string) (uint32, bool) {
	text = strings.TrimSpace(text)
	if len(text) > 2 && strings.EqualFold(text[:2], "as") {
		text = text[2:]
	}
	n, err := strconv.ParseUint(text, 10, 32)
	return uint32(n), err == nil
}

// longestObject bounds what is read of an object.
const longestObject = 64 << 10

// eachObject reads RPSL objects one by one; of a long one the beginning.
func eachObject(ctx context.Context, in *bufio.Reader, do func(*rpsl.Object)) error {
	var text []byte
	var o rpsl.Object
	for {
		line, err := in.ReadSlice('\n')
		isEnd := err != nil && !errors.Is(err, bufio.ErrBufferFull)
		if len(text) < longestObject {
			text = append(text, line...)
		}
		if len(bytes.TrimSpace(line)) == 0 || isEnd {
			if o.Read(text); o.Class != nil {
				do(&o)
			}
			text = text[:0]
		}
		if isEnd {
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return cmp.Or(err, ctx.Err())
		}
	}
}

func firstOf(a, b []byte) []byte {
	if len(a) > 0 {
		return a
	}
	return b
}
