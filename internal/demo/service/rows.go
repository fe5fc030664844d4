package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// Rows as JSON and back.

type queryer interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// entity is one row.
type entity struct {
	values []any // one for each field
	tag    string
}

// selectRows reads rows of a set.
func (s *set) selectRows(ctx context.Context, q queryer, rest string, args ...any) ([]entity, error) {
	columns := make([]string, len(s.fields))
	for i, f := range s.fields {
		columns[i] = "+" + s.at(f.name) // so that the driver leaves it as it is
	}
	rows, err := q.QueryContext(ctx, "SELECT "+strings.Join(columns, ", ")+" FROM "+quote(s.name)+" "+rest, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []entity
	for rows.Next() {
		values, into := make([]any, len(s.fields)), make([]any, len(s.fields))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		sum := sha256.New()
		for _, v := range values {
			fmt.Fprintf(sum, "%T %v\x00", v, v)
		}
		out = append(out, entity{values: values, tag: `W/"` + hex.EncodeToString(sum.Sum(nil)[:9]) + `"`})
	}
	return out, rows.Err()
}

// shown gives a value as it stands in JSON.
func (f field) shown(v any, texts bool) any {
	number := func(text string) any {
		if texts && (f.edm == "Edm.Int64" || f.edm == "Edm.Decimal") {
			return text
		}
		return json.Number(text)
	}
	switch of := v.(type) {
	case nil:
		return nil
	case int64:
		if f.edm == "Edm.Boolean" {
			return of != 0
		}
		if f.edm == "Edm.Int64" || f.edm == "Edm.Decimal" {
			return number(strconv.FormatInt(of, 10))
		}
		return strconv.FormatInt(of, 10)
	case float64:
		return number(strconv.FormatFloat(of, 'f', -1, 64))
	case []byte:
		return string(of)
	case string:
		switch f.edm {
		case "Edm.Untyped":
			if json.Valid([]byte(of)) {
				return json.RawMessage(of)
			}
		case "Edm.DateTimeOffset":
			return strings.Replace(of, " ", "T", 1) + "Z"
		case "Edm.Decimal":
			return number(of)
		}
		return of
	}
	return nil
}

func stored(instant string) string {
	return strings.Replace(strings.TrimSuffix(strings.TrimSuffix(instant, "Z"), "+00:00"), "T", " ", 1)
}

// taken brings a value from JSON to what is stored.
func (f field) taken(raw json.RawMessage) (any, error) {
	raw = bytes.TrimSpace(raw)
	if len(raw) == 0 || string(raw) == "null" {
		if !f.nullable {
			return nil, fmt.Errorf("%s must have a value", f.name)
		}
		return nil, nil
	}
	wrong := fmt.Errorf("%s is no %s", f.name, f.edm)
	text := string(raw)
	quoted := raw[0] == '"'
	if quoted && json.Unmarshal(raw, &text) != nil {
		return nil, wrong
	}
	if f.edm == "Edm.Untyped" {
		var out bytes.Buffer
		if json.Compact(&out, raw) != nil {
			return nil, wrong
		}
		return out.String(), nil
	}
	v, ok := f.takenText(text, quoted)
	if !ok {
		return nil, wrong
	}
	if at := strings.IndexByte(text, '.'); f.edm == "Edm.Decimal" && f.precision > 0 && at >= 0 && len(text)-at-1 > f.scale {
		return nil, fmt.Errorf("%s has more than %d places", f.name, f.scale)
	}
	if f.length > 0 && len([]rune(text)) > f.length {
		return nil, fmt.Errorf("%s has more than %d characters: %s", f.name, f.length, text)
	}
	return v, nil
}

// takenText brings a text from JSON, quoted there or not, to what is stored.
func (f field) takenText(text string, quoted bool) (any, bool) {
	switch f.edm {
	case "Edm.Int64":
		n, err := strconv.ParseInt(text, 10, 64)
		return n, err == nil
	case "Edm.Decimal":
		_, err := strconv.ParseFloat(text, 64)
		return text, err == nil
	case "Edm.Boolean":
		return text == "true", !quoted
	case "Edm.DateTimeOffset":
		return stored(text), quoted && (strings.HasSuffix(text, "Z") || strings.HasSuffix(text, "+00:00"))
	}
	return text, quoted
}

// predicate writes the key of a row.
func (s *set) predicate(e entity) string {
	var parts []string
	for _, key := range s.key {
		for i, f := range s.fields {
			if f.name != key {
				continue
			}
			text := fmt.Sprint(f.shown(e.values[i], false))
			if f.edm == "Edm.String" {
				text = "'" + strings.ReplaceAll(text, "'", "''") + "'"
			}
			if len(s.key) > 1 {
				text = key + "=" + text
			}
			parts = append(parts, text)
		}
	}
	return "(" + strings.Join(parts, ",") + ")"
}

// where reads a key predicate, without its parentheses.
func (s *set) where(predicate string) (string, []any, error) {
	f := &filtering{set: s, text: predicate}
	var parts []string
	var args []any
	for i, key := range s.key {
		if i > 0 && !f.take(",") {
			return "", nil, errFilter
		}
		name := key
		if len(s.key) > 1 {
			at := strings.IndexByte(f.text, '=')
			if at < 0 {
				return "", nil, errFilter
			}
			name, f.text = strings.TrimSpace(f.text[:at]), f.text[at+1:]
		}
		of, ok := s.field(name)
		if !ok {
			return "", nil, errFilter
		}
		v, err := f.literal(of)
		if err != nil {
			return "", nil, err
		}
		parts, args = append(parts, s.at(name)+" = ?"), append(args, v)
	}
	if f.text != "" {
		return "", nil, errFilter
	}
	return strings.Join(parts, " AND "), args, nil
}
