package odata

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
)

// Values as the service writes them in JSON, as they are held, and as they stand in URLs.

// held brings a value from JSON to the form in which it is held.
func (c column) held(raw json.RawMessage) (any, error) {
	text := strings.TrimSpace(string(raw))
	if text == "" || text == "null" {
		return nil, nil
	}
	if c.kind == record.JSON {
		v, err := record.Parse(record.JSON, text)
		return v.Text(), err
	}
	if text[0] == '"' {
		var inner string
		if err := json.Unmarshal(raw, &inner); err != nil {
			return nil, err
		}
		return c.heldText(inner)
	}
	switch {
	case text == "true" || text == "false":
		if c.kind == record.Boolean {
			return map[string]int64{"true": 1, "false": 0}[text], nil
		}
	case text[0] == '{' || text[0] == '[':
	case c.kind == record.Integer || c.kind == record.Decimal:
		return c.heldText(text)
	}
	return nil, fmt.Errorf("it holds what is no %s", c.typ)
}

// heldText brings a text to the form in which it is held.
func (c column) heldText(text string) (any, error) {
	switch c.kind {
	case record.Text:
		v, err := record.TextValue(text)
		return v.Text(), err
	case record.Integer:
		v, err := record.Parse(record.Integer, text)
		if err != nil {
			return nil, err
		}
		n, err := strconv.ParseInt(v.Text(), 10, 64)
		return n, err
	case record.Bytes:
		if len(text)%4 != 0 {
			text = strings.TrimRight(text, "=")
		}
		text = strings.NewReplacer("+", "-", "/", "_").Replace(text)
		content, err := base64.RawURLEncoding.DecodeString(strings.TrimRight(text, "="))
		if err != nil {
			return nil, fmt.Errorf("it holds what are no bytes in base64")
		}
		return append([]byte{}, content...), nil
	case record.Boolean:
		return nil, fmt.Errorf("it holds a text, and %s is expected", c.typ)
	}
	if c.kind == record.Decimal && (text == "INF" || text == "-INF" || text == "NaN") {
		return nil, fmt.Errorf("it holds %s, which is no decimal number", text)
	}
	v, err := record.Parse(c.kind, text)
	return v.Text(), err
}

// written gives a held value for JSON. Numbers that a reader might round are written as texts
// where the service takes that.
func (c column) written(held any, texts bool) (any, error) {
	switch v := held.(type) {
	case nil:
		return nil, nil
	case []byte:
		return base64.RawURLEncoding.EncodeToString(v), nil
	case int64:
		if c.kind == record.Boolean {
			return v != 0, nil
		}
		if texts && c.typ == "Edm.Int64" {
			return strconv.FormatInt(v, 10), nil
		}
		return v, nil
	case string:
		switch c.kind {
		case record.JSON:
			return json.RawMessage(v), nil
		case record.Integer, record.Decimal:
			if c.typ == "Edm.Decimal" && texts {
				return v, nil
			}
			return json.Number(v), nil
		case record.Boolean:
			return v == "true" || v == "1", nil
		case record.Time, record.Timestamp:
			return c.fraction(v), nil
		}
		return v, nil
	}
	return nil, fmt.Errorf("it cannot be written as %s", c.typ)
}

// fraction leaves out digits of a second that the property does not have.
func (c column) fraction(text string) string {
	if c.kind == record.Time && strings.Count(text, ":") == 1 {
		return text + ":00"
	}
	return text
}

// literal writes a held value as it stands in a URL; ok is false where it cannot be.
func (s *service) literal(c column, held any) (string, bool) {
	switch v := held.(type) {
	case int64:
		if c.kind == record.Boolean {
			return strconv.FormatBool(v != 0), true
		}
		return strconv.FormatInt(v, 10), c.kind == record.Integer
	case string:
		switch {
		case c.typ == "Edm.Guid" || c.kind == record.Decimal && !strings.Contains(v, "e") || c.kind == record.Date ||
			c.kind == record.Timestamp || c.kind == record.Time:
			return v, plainLiteral.MatchString(v)
		case c.typ == "Edm.String":
			return "'" + strings.ReplaceAll(v, "'", "''") + "'", true
		}
		if _, ok := s.schema.enums[s.schema.full(c.typ)]; ok && c.kind == record.Text {
			return s.schema.full(c.typ) + "'" + strings.ReplaceAll(v, "'", "''") + "'", true
		}
	}
	return "", false
}

var plainLiteral = pattern.Of(`^[-+.:0-9A-Za-z]+$`)

// predicate writes the key of an entity, ready for a URL.
func (s *service) predicate(key []column, values map[string]any, prefix string) (string, error) {
	parts := make([]string, len(key))
	for i, c := range key {
		text, ok := s.literal(c, values[prefix+c.name])
		if !ok {
			return "", fmt.Errorf("its key cannot be written into an address")
		}
		parts[i] = url.PathEscape(text)
		parts[i] = strings.NewReplacer("+", "%2B", ":", "%3A", "=", "%3D", ",", "%2C", "(", "%28", ")", "%29").Replace(parts[i])
		if len(key) > 1 {
			parts[i] = c.name + "=" + parts[i]
		}
	}
	return "(" + strings.Join(parts, ",") + ")", nil
}
