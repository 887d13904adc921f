package standin

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgtype"
)

// How dates and times are stored: as texts that sort as they follow.
const (
	dateForm = "2006-01-02"
	timeForm = "2006-01-02 15:04:05.999999"
)

// stored gives a bound value as SQLite is to store or compare it.
func stored(m *pgtype.Map, oid uint32, format int16, data []byte) (any, error) {
	if data == nil {
		return nil, nil
	}
	if format == 0 && (oid == pgtype.TimestamptzOID || oid == pgtype.TimestampOID || oid == pgtype.DateOID) {
		t, err := readTime(string(data))
		if oid == pgtype.DateOID {
			return t.Format(dateForm), err
		}
		return t.UTC().Format(timeForm), err
	}
	scan := func(dst any) error { return m.Scan(oid, format, data, dst) }
	switch oid {
	case pgtype.Int2OID, pgtype.Int4OID, pgtype.Int8OID:
		var v int64
		return &v, scan(&v)
	case pgtype.Float4OID, pgtype.Float8OID, pgtype.NumericOID:
		var v float64
		return &v, scan(&v)
	case pgtype.BoolOID:
		var v bool
		err := scan(&v)
		return map[bool]int64{true: 1}[v], err
	case pgtype.TimestamptzOID, pgtype.TimestampOID:
		var v time.Time
		err := scan(&v)
		return v.UTC().Format(timeForm), err
	case pgtype.DateOID:
		var v time.Time
		err := scan(&v)
		return v.Format(dateForm), err
	case pgtype.ByteaOID:
		var v []byte
		return &v, scan(&v)
	case pgtype.UUIDOID:
		var v pgtype.UUID
		err := scan(&v)
		return v.String(), err
	}
	return string(data), nil
}

// readTime reads the usual spellings of a date or a time.
func readTime(text string) (time.Time, error) {
	for _, form := range []string{dateForm, "2006-01-02 15:04:05.999999Z07:00", "2006-01-02 15:04:05.999999Z07", timeForm, "2006-01-02 15:04", time.RFC3339Nano} {
		if t, err := time.Parse(form, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("invalid input syntax for a date or time: %q", text)
}

// encode writes a value from SQLite as the client wants it.
func encode(m *pgtype.Map, oid uint32, format int16, v any) ([]byte, error) {
	if v == nil {
		return nil, nil
	}
	if t, ok := v.(time.Time); ok {
		v = t.Format(timeForm)
	}
	if format == 0 {
		return []byte(text(oid, v)), nil
	}
	var src any = v
	switch oid {
	case pgtype.TextOID:
		return []byte(text(oid, v)), nil
	case pgtype.BoolOID:
		src = text(oid, v) == "t"
	case pgtype.Int2OID, pgtype.Int4OID, pgtype.Int8OID:
		n, err := strconv.ParseInt(text(oid, v), 10, 64)
		if err != nil {
			return nil, fmt.Errorf("%v is no integer", v)
		}
		src = n
	case pgtype.Float4OID, pgtype.Float8OID:
		n, err := strconv.ParseFloat(text(oid, v), 64)
		if err != nil {
			return nil, fmt.Errorf("%v is no number", v)
		}
		src = n
	case pgtype.NumericOID:
		var n pgtype.Numeric
		if err := n.Scan(text(oid, v)); err != nil {
			return nil, err
		}
		src = n
	case pgtype.TimestamptzOID, pgtype.TimestampOID, pgtype.DateOID:
		form := timeForm
		if s := fmt.Sprint(v); len(s) == len(dateForm) {
			form = dateForm
		}
		if oid == pgtype.DateOID {
			v, form = text(oid, v), dateForm
		}
		t, err := time.Parse(form, strings.TrimSuffix(strings.TrimSuffix(fmt.Sprint(v), "+00"), "Z"))
		if err != nil {
			return nil, fmt.Errorf("%v is no date or time", v)
		}
		src = t.UTC()
	}
	return m.Encode(oid, format, src, nil)
}

// text writes a value the way PostgreSQL writes the type.
func text(oid uint32, v any) string {
	switch x := v.(type) {
	case int64:
		switch oid {
		case pgtype.BoolOID:
			return map[bool]string{true: "t", false: "f"}[x != 0]
		case pgtype.NumericOID, pgtype.Float8OID:
			return strconv.FormatInt(x, 10)
		}
		return strconv.FormatInt(x, 10)
	case float64:
		if oid == pgtype.NumericOID {
			return strconv.FormatFloat(round(x), 'f', -1, 64)
		}
		return strconv.FormatFloat(x, 'g', -1, 64)
	case []byte:
		if oid == pgtype.ByteaOID {
			return fmt.Sprintf(`\x%x`, x)
		}
		return string(x)
	case bool:
		return map[bool]string{true: "t", false: "f"}[x]
	}
	s := fmt.Sprint(v)
	if oid == pgtype.DateOID && len(s) > len(dateForm) {
		s = s[:len(dateForm)]
	}
	if oid == pgtype.TimestamptzOID { // a literal may have been stored with its zone
		return strings.TrimSuffix(strings.TrimSuffix(s, "+00"), "Z") + "+00"
	}
	return s
}

// round takes away what binary fractions add to sums of decimal ones.
func round(x float64) float64 {
	r, err := strconv.ParseFloat(strconv.FormatFloat(x, 'f', 6, 64), 64)
	if err != nil {
		return x
	}
	return r
}
