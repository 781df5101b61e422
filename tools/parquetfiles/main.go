// Parquetfiles writes the Parquet files of internal/editions/testdata with Apache's Go
// module: rows.csv in every encoding and compression, with logical types of every kind.
// write.mjs beside it does the same with another writer. Run it with `make parquetfiles`.
package main

import (
	"encoding/csv"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/decimal"
	"github.com/apache/arrow-go/v18/arrow/memory"
	"github.com/apache/arrow-go/v18/parquet"
	"github.com/apache/arrow-go/v18/parquet/compress"
	"github.com/apache/arrow-go/v18/parquet/pqarrow"
)

var schema = arrow.NewSchema([]arrow.Field{
	{Name: "first", Type: arrow.PrimitiveTypes.Uint32},
	{Name: "last", Type: arrow.PrimitiveTypes.Uint64},
	{Name: "country_code", Type: arrow.BinaryTypes.String},
	{Name: "city", Type: arrow.BinaryTypes.LargeString, Nullable: true},
	{Name: "latitude", Type: &arrow.Decimal128Type{Precision: 9, Scale: 4}, Nullable: true},
	{Name: "longitude", Type: &arrow.Decimal128Type{Precision: 30, Scale: 4}, Nullable: true},
	{Name: "radius_km", Type: arrow.PrimitiveTypes.Float32, Nullable: true},
	{Name: "as_number", Type: arrow.PrimitiveTypes.Uint32, Nullable: true},
	{Name: "labels", Type: arrow.ListOf(arrow.BinaryTypes.String), Nullable: true},
	{Name: "seen", Type: arrow.FixedWidthTypes.Date32, Nullable: true},
	{Name: "at", Type: arrow.FixedWidthTypes.Timestamp_us, Nullable: true},
	{Name: "raw", Type: arrow.BinaryTypes.Binary, Nullable: true},
	{Name: "half", Type: arrow.FixedWidthTypes.Float16, Nullable: true},
	{Name: "sure", Type: arrow.FixedWidthTypes.Boolean, Nullable: true},
	{Name: "many", Type: arrow.MapOf(arrow.BinaryTypes.String, arrow.PrimitiveTypes.Int32), Nullable: true},
}, nil)

func main() {
	dir := os.Args[1]
	f, err := os.Open(filepath.Join(dir, "rows.csv"))
	check(err)
	rows, err := csv.NewReader(f).ReadAll()
	check(err)
	record := build(rows[1:])
	for name, codec := range map[string]compress.Compression{
		"none": compress.Codecs.Uncompressed, "snappy": compress.Codecs.Snappy, "gzip": compress.Codecs.Gzip,
		"brotli": compress.Codecs.Brotli, "zstd": compress.Codecs.Zstd, "lz4raw": compress.Codecs.Lz4Raw,
	} {
		write(filepath.Join(dir, "arrow-"+name+".parquet"), record, parquet.WithCompression(codec))
	}
	plain := []parquet.WriterProperty{parquet.WithDictionaryDefault(false)}
	write(filepath.Join(dir, "arrow-plain.parquet"), record, plain...)
	write(filepath.Join(dir, "arrow-v2.parquet"), record, parquet.WithDataPageVersion(parquet.DataPageV2), parquet.WithVersion(parquet.V2_LATEST))
	encoded := func(of map[string]parquet.Encoding) []parquet.WriterProperty {
		list := append([]parquet.WriterProperty{}, plain...)
		for column, encoding := range of {
			list = append(list, parquet.WithEncodingFor(column, encoding))
		}
		return list
	}
	write(filepath.Join(dir, "arrow-delta.parquet"), record, encoded(map[string]parquet.Encoding{
		"first": parquet.Encodings.DeltaBinaryPacked, "last": parquet.Encodings.DeltaBinaryPacked, "as_number": parquet.Encodings.DeltaBinaryPacked,
		"country_code": parquet.Encodings.DeltaLengthByteArray, "city": parquet.Encodings.DeltaByteArray, "radius_km": parquet.Encodings.ByteStreamSplit,
	})...)
}

func build(rows [][]string) arrow.RecordBatch {
	b := array.NewRecordBuilder(memory.DefaultAllocator, schema)
	for n, row := range rows {
		number := func(s string) uint64 { v, err := strconv.ParseUint(s, 10, 64); check(err); return v }
		b.Field(0).(*array.Uint32Builder).Append(uint32(number(row[0])))
		b.Field(1).(*array.Uint64Builder).Append(number(row[1]))
		b.Field(2).(*array.StringBuilder).Append(row[2])
		for i, text := range row {
			field := b.Field(i)
			switch {
			case i < 3:
			case text == "":
				field.AppendNull()
			case i == 3:
				field.(*array.LargeStringBuilder).Append(text)
			case i == 4 || i == 5:
				d, err := decimal.Decimal128FromString(text, 30, 4)
				check(err)
				field.(*array.Decimal128Builder).Append(d)
			case i == 6:
				v, err := strconv.ParseFloat(text, 32)
				check(err)
				field.(*array.Float32Builder).Append(float32(v))
			case i == 7:
				field.(*array.Uint32Builder).Append(uint32(number(text)))
			case i == 8:
				list := field.(*array.ListBuilder)
				list.Append(true)
				for label := range strings.SplitSeq(text, ";") {
					list.ValueBuilder().(*array.StringBuilder).Append(label)
				}
			}
		}
		for i := len(row); i < b.Schema().NumFields(); i++ {
			b.Field(i).AppendNull()
		}
		_ = n
	}
	return b.NewRecordBatch()
}

func write(name string, record arrow.RecordBatch, properties ...parquet.WriterProperty) {
	f, err := os.Create(name)
	check(err)
	w, err := pqarrow.NewFileWriter(record.Schema(), f, parquet.NewWriterProperties(properties...), pqarrow.NewArrowWriterProperties())
	check(err)
	check(w.WriteBuffered(record))
	check(w.Close())
	fmt.Println(name)
}

func check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}
