package scim

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/record"
	"anagram/internal/environment/mirror"
)

// Resources as the directory writes them, and as they are held.

type resource map[string]json.RawMessage

// attribute finds a member whose name is that, in whatever case: names are not told apart by it.
func (r resource) attribute(name string) json.RawMessage {
	if raw, ok := r[name]; ok {
		return raw
	}
	for have, raw := range r {
		if strings.EqualFold(have, name) {
			return raw
		}
	}
	return nil
}

type meta struct {
	Version      string
	LastModified string
}

var errNoID = errors.New("a resource comes without an id")

// row makes a row of a resource.
func (p *place) row(raw json.RawMessage) (mirror.Row, error) {
	var of resource
	if json.Unmarshal(raw, &of) != nil {
		return mirror.Row{}, errors.New("a resource is no JSON object")
	}
	out := mirror.Row{Values: map[string]any{}}
	var m meta
	if raw := of.attribute("meta"); raw != nil && json.Unmarshal(raw, &m) != nil {
		return out, errors.New("a resource has a meta that is none")
	}
	if json.Unmarshal(of.attribute(idColumn), &out.Ref) != nil || out.Ref == "" || len(out.Ref) > 1000 {
		return out, errNoID
	}
	if len(m.Version) > 1000 || strings.ContainsAny(m.Version, "\r\n") {
		return out, errors.New("a resource has a version that is none")
	}
	out.Tag = m.Version
	for _, c := range p.columns {
		raw := of.attribute(c.Name)
		switch {
		case c.Name == changedColumn:
			if raw = nil; m.LastModified != "" {
				raw, _ = json.Marshal(m.LastModified)
			}
		case c.urn != "":
			raw = of.attribute(c.urn)
		}
		held, err := c.held(raw)
		if err != nil {
			return out, fmt.Errorf("a resource cannot be read, attribute %s: %w", c.Name, err)
		}
		if held != nil {
			out.Values[c.Name] = held
		}
	}
	return out, nil
}

// held brings a value from JSON to the form in which it is held.
func (c column) held(raw json.RawMessage) (any, error) {
	raw = bytes.TrimSpace(raw)
	if len(raw) == 0 || string(raw) == "null" {
		return nil, nil
	}
	if c.kind == record.JSON {
		return c.plainJSON(raw)
	}
	var text string
	if raw[0] == '"' {
		if err := json.Unmarshal(raw, &text); err != nil {
			return nil, err
		}
	} else {
		text = string(raw)
	}
	wrong := fmt.Errorf("it holds what is no %s", c.Type)
	switch c.kind {
	case record.Text:
		if raw[0] != '"' {
			return nil, wrong
		}
		v, err := record.TextValue(text)
		return v.Text(), err
	case record.Boolean:
		// Some directories write booleans as texts.
		switch strings.ToLower(text) {
		case "true":
			return int64(1), nil
		case "false":
			return int64(0), nil
		}
		return nil, wrong
	case record.Integer:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return nil, wrong
		}
		return n, nil
	case record.Bytes:
		content, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			return nil, wrong
		}
		return append([]byte{}, content...), nil
	}
	v, err := record.Parse(c.kind, text)
	return v.Text(), err
}

// plainJSON leaves out what the directory fills by itself, and puts several values in one order,
// as they have none.
func (c column) plainJSON(raw json.RawMessage) (any, error) {
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.UseNumber()
	var v any
	if err := decoder.Decode(&v); err != nil {
		return nil, err
	}
	v = c.pruned(v)
	if v == nil {
		return nil, nil
	}
	if all, ok := v.([]any); ok && c.MultiValued {
		texts := make([]string, 0, len(all))
		for _, one := range all {
			text, err := canonical(one)
			if err != nil {
				return nil, err
			}
			texts = append(texts, text)
		}
		slices.Sort(texts)
		return canonicalText("[" + strings.Join(texts, ",") + "]")
	}
	text, err := canonical(v)
	return text, err
}

func canonical(v any) (string, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return "", err
	}
	of, err := record.Parse(record.JSON, string(text))
	return of.Text(), err
}

func canonicalText(text string) (any, error) {
	v, err := record.Parse(record.JSON, text)
	return v.Text(), err
}

// pruned drops read-only parts of complex values, and what is empty.
func (c column) pruned(v any) any {
	switch of := v.(type) {
	case []any:
		var out []any
		for _, one := range of {
			if one = c.pruned(one); one != nil {
				out = append(out, one)
			}
		}
		if len(out) == 0 {
			return nil
		}
		return out
	case map[string]any:
		for name, value := range of {
			at := slices.IndexFunc(c.SubAttributes, func(a attribute) bool { return strings.EqualFold(a.Name, name) })
			if value == nil || name == "$ref" || at >= 0 && (c.SubAttributes[at].Mutability == "readOnly" ||
				c.SubAttributes[at].Returned == "never") {
				delete(of, name)
			}
		}
		if len(of) == 0 {
			return nil
		}
	}
	return v
}

// written gives a held value for JSON.
func (c column) written(held any) any {
	switch v := held.(type) {
	case []byte:
		return base64.StdEncoding.EncodeToString(v)
	case int64:
		if c.kind == record.Boolean {
			return v != 0
		}
		return v
	case string:
		switch c.kind {
		case record.JSON:
			return json.RawMessage(v)
		case record.Decimal, record.Integer:
			return json.Number(v)
		}
		return v
	}
	return nil
}

// literal writes a held value as it stands in a filter; ok is false where it cannot be.
func (c column) literal(held any) (string, bool) {
	switch v := held.(type) {
	case string:
		if c.kind == record.Text || c.kind == record.Timestamp {
			text, err := json.Marshal(v)
			return string(text), err == nil
		}
	case int64:
		if c.kind == record.Integer {
			return strconv.FormatInt(v, 10), true
		}
	}
	return "", false
}
