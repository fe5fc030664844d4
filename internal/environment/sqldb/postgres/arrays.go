package postgres

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"anagram/internal/core/record"
)

// Arrays travel as JSON arrays of their elements' kind, so that any environment can hold
// them. The server's own text of an array is described with its input and output syntax
// (documentation of PostgreSQL, "Arrays").

// listed brings the server's text of an array to JSON.
func listed(text string, element record.Kind) (string, error) {
	if strings.HasPrefix(text, "[") {
		return "",
			fmt.Errorf("its first element has another number than 1 (%.40s), which a list cannot say. Say text for the field with as: in the catalog", text)
	}
	r := arrayReader{in: text, element: element}
	if err := r.array(0); err != nil {
		return "", err
	}
	if r.at != len(text) {
		return "", errNoArray
	}
	return r.out.String(), nil
}

var errNoArray = errors.New("it holds no array as the server writes them")

type arrayReader struct {
	in      string
	at      int
	element record.Kind
	out     strings.Builder
}

// deepest is how many dimensions an array may have.
const deepest = 6

func (r *arrayReader) array(depth int) error {
	if depth >= deepest || !r.take('{') {
		return errNoArray
	}
	if depth > 0 && r.element == record.JSON {
		return errors.New("it is an array of JSON values in several dimensions, whose elements cannot be told from arrays. Say text for the field with as: in the catalog")
	}
	r.out.WriteByte('[')
	for first := true; ; first = false {
		if r.take('}') {
			break
		}
		if !first {
			if !r.take(',') {
				return errNoArray
			}
			r.out.WriteByte(',')
		}
		if r.at < len(r.in) && r.in[r.at] == '{' {
			if err := r.array(depth + 1); err != nil {
				return err
			}
			continue
		}
		if err := r.one(); err != nil {
			return err
		}
	}
	r.out.WriteByte(']')
	return nil
}

func (r *arrayReader) take(c byte) bool {
	if r.at < len(r.in) && r.in[r.at] == c {
		r.at++
		return true
	}
	return false
}

// one reads an element: quoted, or up to the next comma or brace.
func (r *arrayReader) one() error {
	quoted := r.take('"')
	var text strings.Builder
	for ; r.at < len(r.in); r.at++ {
		c := r.in[r.at]
		if quoted && c == '"' || !quoted && (c == ',' || c == '}') {
			break
		}
		if c == '\\' {
			if r.at++; r.at == len(r.in) {
				return errNoArray
			}
			c = r.in[r.at]
		}
		text.WriteByte(c)
	}
	if quoted && !r.take('"') {
		return errNoArray
	}
	if !quoted && text.String() == "NULL" {
		r.out.WriteString("null")
		return nil
	}
	return r.say(text.String())
}

// say writes an element as JSON. What is no number all the same, such as NaN, is a text.
func (r *arrayReader) say(text string) error {
	switch r.element {
	case record.Integer, record.Decimal:
		if v, err := record.Parse(r.element, text); err == nil {
			r.out.WriteString(v.Text())
			return nil
		}
	case record.Boolean:
		r.out.WriteString(map[string]string{"t": "true", "f": "false"}[text])
		return nil
	case record.JSON:
		v, err := record.Parse(record.JSON, text)
		r.out.WriteString(v.Text())
		return err
	}
	var quoted strings.Builder
	encoder := json.NewEncoder(&quoted)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(text)
	r.out.WriteString(strings.TrimSuffix(quoted.String(), "\n"))
	return err
}

// array writes a JSON array as the server reads it.
func array(text string, element record.Kind) (string, error) {
	decoder := json.NewDecoder(strings.NewReader(text))
	decoder.UseNumber()
	var list any
	if err := decoder.Decode(&list); err != nil {
		return "", err
	}
	if _, ok := list.([]any); !ok {
		return "", fmt.Errorf("it is no list (%.40s), and the column holds one", text)
	}
	var out strings.Builder
	err := appendArray(&out, list, element, true)
	return out.String(), err
}

func appendArray(out *strings.Builder, v any, element record.Kind, outer bool) error {
	list, isList := v.([]any)
	if isList && (outer || element != record.JSON) {
		out.WriteByte('{')
		for i, one := range list {
			if i > 0 {
				out.WriteByte(',')
			}
			if err := appendArray(out, one, element, false); err != nil {
				return err
			}
		}
		out.WriteByte('}')
		return nil
	}
	if v == nil {
		out.WriteString("NULL")
		return nil
	}
	text, err := elementText(v, element)
	if err != nil {
		return err
	}
	if text == "" || strings.EqualFold(text, "NULL") || strings.ContainsAny(text, "{}\",\\ \t\n\v\f\r") {
		text = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
	}
	out.WriteString(text)
	return nil
}

func elementText(v any, element record.Kind) (string, error) {
	if element == record.JSON {
		var text strings.Builder
		encoder := json.NewEncoder(&text)
		encoder.SetEscapeHTML(false)
		err := encoder.Encode(v)
		return strings.TrimSuffix(text.String(), "\n"), err
	}
	switch one := v.(type) {
	case string:
		if strings.ContainsRune(one, 0) {
			return "", errNUL
		}
		return one, nil
	case json.Number:
		return one.String(), nil
	case bool:
		return map[bool]string{true: "t", false: "f"}[one], nil
	default:
		return "", errors.New("an element of the list is itself an object, and the column holds none")
	}
}
