package standin

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/go-mysql-org/go-mysql/mysql"
)

func itoa(n uint32) string { return strconv.FormatUint(uint64(n), 10) }

// rows runs a query, and gives its result as the protocol has it.
func (s *mysqlSession) rows(ctx context.Context, text string, args []any, inBinary bool) (*mysql.Result, error) {
	r, err := s.conn.QueryContext(ctx, text, args...)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	names, err := r.Columns()
	if err != nil {
		return nil, err
	}
	types, err := r.ColumnTypes()
	if err != nil {
		return nil, err
	}
	all, err := scanned(r, len(names))
	if err != nil {
		return nil, err
	}
	out := mysql.NewResultset(len(names))
	for i, name := range names {
		out.Fields[i] = mysqlField(name, types[i].DatabaseTypeName(), i, all)
	}
	for _, row := range all {
		out.RowDatas = append(out.RowDatas, mysqlRow(out.Fields, row, inBinary))
	}
	return &mysql.Result{Resultset: out}, nil
}

// mysqlField describes a column by its type as it was declared, or else by the values that it has.
func mysqlField(name, declared string, at int, rows [][]any) *mysql.Field {
	f := &mysql.Field{Name: []byte(name), OrgName: []byte(name), Type: mysql.MYSQL_TYPE_VAR_STRING, Charset: 45, ColumnLength: 1024}
	number := func(kind uint8, length uint32) *mysql.Field {
		f.Type, f.Charset, f.ColumnLength, f.Flag = kind, 63, length, mysql.BINARY_FLAG
		return f
	}
	declared, scale, _ := strings.Cut(strings.ToLower(declared), "(")
	switch {
	case strings.HasPrefix(declared, "int"), strings.HasSuffix(declared, "int"):
		return number(mysql.MYSQL_TYPE_LONGLONG, 20)
	case strings.HasPrefix(declared, "decimal"):
		_, digits, _ := strings.Cut(strings.TrimSuffix(scale, ")"), ",")
		n, _ := strconv.Atoi(strings.TrimSpace(digits))
		f.Decimal = uint8(n)
		return number(mysql.MYSQL_TYPE_NEWDECIMAL, 20)
	case declared == "datetime", declared == "timestamp":
		return number(mysql.MYSQL_TYPE_DATETIME, 19)
	case declared != "":
		return f
	}
	kind := byte(0)
	for _, row := range rows { // of which SQLite may have several kinds
		switch row[at].(type) {
		case nil:
		case int64:
			kind = max(kind, 1)
		case float64:
			kind = max(kind, 2)
		default:
			kind = 3
		}
	}
	switch kind {
	case 1:
		return number(mysql.MYSQL_TYPE_LONGLONG, 20)
	case 2:
		f.Decimal = 31
		return number(mysql.MYSQL_TYPE_DOUBLE, 22)
	}
	return f
}

// mysqlRow writes a row. Source: "Text Resultset Row" and "Binary Protocol Resultset Row" in MySQL's internals manual.
func mysqlRow(fields []*mysql.Field, row []any, inBinary bool) (out []byte) {
	if !inBinary {
		for i, v := range row {
			if v == nil {
				out = append(out, 0xfb)
				continue
			}
			out = append(out, mysql.PutLengthEncodedString([]byte(mysqlString(fields[i], v)))...)
		}
		return out
	}
	nulls := make([]byte, (len(row)+9)/8)
	var values []byte
	for i, v := range row {
		if v == nil {
			nulls[(i+2)/8] |= 1 << ((i + 2) % 8)
			continue
		}
		switch fields[i].Type {
		case mysql.MYSQL_TYPE_LONGLONG:
			n, _ := strconv.ParseInt(mysqlString(fields[i], v), 10, 64)
			values = binary.LittleEndian.AppendUint64(values, uint64(n))
		case mysql.MYSQL_TYPE_DOUBLE:
			n, _ := strconv.ParseFloat(mysqlString(fields[i], v), 64)
			values = binary.LittleEndian.AppendUint64(values, math.Float64bits(n))
		case mysql.MYSQL_TYPE_DATETIME:
			at, _ := time.Parse(time.DateTime, mysqlString(fields[i], v))
			values = append(values, 7, byte(at.Year()), byte(at.Year()>>8), byte(at.Month()), byte(at.Day()), byte(at.Hour()), byte(at.Minute()), byte(at.Second()))
		default:
			values = append(values, mysql.PutLengthEncodedString([]byte(mysqlString(fields[i], v)))...)
		}
	}
	return append(append([]byte{0}, nulls...), values...)
}

// mysqlString gives a value as text.
func mysqlString(f *mysql.Field, v any) string {
	switch v := v.(type) {
	case time.Time:
		return v.UTC().Format(time.DateTime)
	case []byte:
		return string(v)
	case float64:
		if f.Type == mysql.MYSQL_TYPE_NEWDECIMAL {
			return strconv.FormatFloat(v, 'f', int(f.Decimal), 64)
		}
		return strconv.FormatFloat(v, 'g', -1, 64)
	case int64:
		if f.Type == mysql.MYSQL_TYPE_NEWDECIMAL {
			return strconv.FormatFloat(float64(v), 'f', int(f.Decimal), 64)
		}
		return strconv.FormatInt(v, 10)
	case bool:
		if v {
			return "1"
		}
		return "0"
	}
	return fmt.Sprint(v)
}
