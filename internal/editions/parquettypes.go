package editions

import (
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/deprecated"
	"github.com/parquet-go/parquet-go/format"
	"github.com/shopspring/decimal"
)

// A parquetColumn is a leaf of a Parquet file's schema.
type parquetColumn struct {
	name string // its path with dots; of a list, that of the list
	kind string // its logical type, else the physical one
	many bool   // it may have several values
	// text writes a value as a table would; nil for a type that has no text.
	text func(parquet.Value) string
}

// parquetColumns lists the leaves of a schema in the order of their indexes. The types
// are those of the Parquet format's LogicalTypes, or the older converted types.
func parquetColumns(schema []format.SchemaElement) []parquetColumn {
	var list []parquetColumn
	var walk func(at int, path []string, many, shut bool) int
	walk = func(at int, path []string, many, shut bool) int {
		e := &schema[at]
		at++
		repeated := e.RepetitionType.Valid && e.RepetitionType.V == format.Repeated
		if !shut && at > 1 {
			path = append(path[:len(path):len(path)], e.Name)
		}
		if !e.NumChildren.Valid || e.NumChildren.V == 0 {
			text, kind := textOfParquet(e)
			list = append(list, parquetColumn{strings.Join(path, "."), kind, many || repeated, text})
			return at
		}
		_, isList := e.LogicalType.Value.(*format.ListType)
		isList = isList || e.ConvertedType.Valid && e.ConvertedType.V == deprecated.List
		for range e.NumChildren.V {
			switch {
			case isList: // list.element, or whatever else its levels are called
				at = walkList(schema, at, path, walk)
			default:
				at = walk(at, path, many || repeated, false)
			}
		}
		return at
	}
	walk(0, nil, false, false)
	return list
}

// walkList goes through the levels of a list that have no name of their own: the repeated
// one, and below it the one element, if it is a level.
func walkList(schema []format.SchemaElement, at int, path []string, walk func(int, []string, bool, bool) int) int {
	e := &schema[at]
	if !e.NumChildren.Valid || e.NumChildren.V != 1 { // values, or elements of several fields
		return walk(at, path, true, true)
	}
	return walk(at+1, path, true, true)
}

// textOfParquet says how the values of a leaf are written, and what they are.
func textOfParquet(e *format.SchemaElement) (text func(parquet.Value) string, kind string) {
	physical := e.Type.V
	if e.LogicalType.Value != nil {
		kind = e.LogicalType.Value.String()
	}
	switch t := e.LogicalType.Value.(type) {
	case *format.StringType, *format.EnumType, *format.JsonType:
		return stringOfParquet, kind
	case *format.DecimalType:
		return decimalOfParquet(physical, t.Scale), kind
	case *format.IntType:
		return integerOfParquet(physical, t.IsSigned), kind
	case *format.DateType:
		return dateOfParquet, kind
	case *format.TimestampType:
		return timeOfParquet(physical, t.Unit.Value), kind
	case *format.UUIDType:
		return func(v parquet.Value) string { u, _ := uuid.FromBytes(v.ByteArray()); return u.String() }, kind
	case *format.Float16Type:
		return halfOfParquet, kind
	case *format.NullType:
		return func(parquet.Value) string { return "" }, kind
	case nil:
	default: // TIME, BSON, GEOMETRY, VARIANT and what comes after this was written
		return nil, kind
	}
	if e.ConvertedType.Valid {
		kind = fmt.Sprintf("%s, converted type %d", physical, e.ConvertedType.V)
		switch e.ConvertedType.V {
		case deprecated.UTF8, deprecated.Enum, deprecated.Json:
			return stringOfParquet, kind
		case deprecated.Decimal:
			return decimalOfParquet(physical, e.Scale.V), kind
		case deprecated.Uint8, deprecated.Uint16, deprecated.Uint32, deprecated.Uint64:
			return integerOfParquet(physical, false), kind
		case deprecated.Int8, deprecated.Int16, deprecated.Int32, deprecated.Int64:
			return integerOfParquet(physical, true), kind
		case deprecated.Date:
			return dateOfParquet, kind
		case deprecated.TimestampMillis:
			return timeOfParquet(physical, &format.MilliSeconds{}), kind
		case deprecated.TimestampMicros:
			return timeOfParquet(physical, &format.MicroSeconds{}), kind
		}
		return nil, kind
	}
	kind = physical.String()
	switch physical {
	case format.Boolean:
		return func(v parquet.Value) string { return strconv.FormatBool(v.Boolean()) }, kind
	case format.Int32, format.Int64:
		return integerOfParquet(physical, true), kind
	case format.Float:
		return func(v parquet.Value) string { return strconv.FormatFloat(float64(v.Float()), 'f', -1, 32) }, kind
	case format.Double:
		return func(v parquet.Value) string { return strconv.FormatFloat(v.Double(), 'f', -1, 64) }, kind
	case format.ByteArray: // many writers leave out that it is text
		return stringOfParquet, kind
	}
	return nil, kind
}

// stringOfParquet is text, which what is not UTF-8 is not.
func stringOfParquet(v parquet.Value) string {
	if b := v.ByteArray(); utf8.Valid(b) {
		return string(b)
	}
	return "\ufffd"
}

func integerOfParquet(physical format.Type, signed bool) func(parquet.Value) string {
	return func(v parquet.Value) string {
		switch {
		case physical == format.Int32 && signed:
			return strconv.FormatInt(int64(v.Int32()), 10)
		case physical == format.Int32:
			return strconv.FormatUint(uint64(uint32(v.Int32())), 10)
		case signed:
			return strconv.FormatInt(v.Int64(), 10)
		}
		return strconv.FormatUint(uint64(v.Int64()), 10)
	}
}

// decimalOfParquet reads whole numbers of a scale, in bytes those of two's complement with
// the highest first.
func decimalOfParquet(physical format.Type, scale int32) func(parquet.Value) string {
	return func(v parquet.Value) string {
		var n *big.Int
		switch physical {
		case format.Int32:
			n = big.NewInt(int64(v.Int32()))
		case format.Int64:
			n = big.NewInt(v.Int64())
		default:
			b := v.ByteArray()
			n = new(big.Int).SetBytes(b)
			if len(b) > 0 && b[0] >= 0x80 {
				n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(8*len(b))))
			}
		}
		return decimal.NewFromBigInt(n, -scale).String()
	}
}

func dateOfParquet(v parquet.Value) string {
	return time.Unix(int64(v.Int32())*24*60*60, 0).UTC().Format(time.DateOnly)
}

func timeOfParquet(physical format.Type, unit format.TimeUnitValue) func(parquet.Value) string {
	if physical != format.Int64 {
		return nil
	}
	return func(v parquet.Value) string {
		var at time.Time
		switch unit.(type) {
		case *format.MilliSeconds:
			at = time.UnixMilli(v.Int64())
		case *format.MicroSeconds:
			at = time.UnixMicro(v.Int64())
		default:
			at = time.Unix(0, v.Int64())
		}
		return at.UTC().Format(time.RFC3339Nano)
	}
}

// halfOfParquet reads a number of 16 bits (IEEE 754), the low byte first.
func halfOfParquet(v parquet.Value) string {
	b := v.ByteArray()
	if len(b) != 2 {
		return "\ufffd"
	}
	n := uint16(b[0]) | uint16(b[1])<<8
	sign, exponent, part := 1.0, int(n>>10&31), float64(n&1023)
	if n>>15 == 1 {
		sign = -1
	}
	value := math.Ldexp(part, -24)
	switch {
	case exponent == 31:
		return fmt.Sprint(sign * math.Inf(1))
	case exponent > 0:
		value = math.Ldexp(1024+part, exponent-25)
	}
	return strconv.FormatFloat(sign*value, 'f', -1, 32)
}
