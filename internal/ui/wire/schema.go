package wire

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
)

// Output is what a command prints, and a zero value of its struct.
type Output struct {
	Title string
	Value any
}

// Outputs are all of them, by the name of their schema.
func Outputs() map[string]Output {
	of := func(command string, value any) Output {
		return Output{"Output of: anagram " + command + " --json", value}
	}
	return map[string]Output{
		"export": of("export", Export{}), "match": of("match", Match{}), "import": of("import", Import{}),
		"review":  {"One line of: anagram review --json", Finding{}},
		"decided": of("approve", Decided{}), "decide": of("decide", Joined{}), "approve-beside": of("approve --beside", Beside{}),
		"comment": of("comment", Commented{}), "sign": of("sign", Signed{}), "review-out": of("review --out", Reviewed{}),
		"review-files": of("review --files", FilesWritten{}),
		"history":      of("history", History{}), "history-docket": of("history DOCKET", DocketHistory{}),
		"history-record": of("history RECORD", RecordHistory{}),
		"history-since":  of("history --since", Brought{}), "history-out": of("history DOCKET --out", HistoryFile{}),
		"prove": of("prove", Proof{}), "status": of("status", Status{}), "status-parcel": of("status PARCEL", Whereabouts{}),
		"env-list": of("env list", Environments{}), "env-test": of("env test", Tested{}), "env-password": of("env password", Password{}),
		"env-renewed":  of("env renewed", Renewed{}),
		"init-example": of("init", Begun{}), "init": of("init --source --target", Drafted{}), "trust": of("trust", Stakes{}),
		"pair-new": of("pair", Paired{}), "pair-forget": of("pair --forget", Forgotten{}), "pair-list": of("pair --list", Pairs{}),
		"parcel-list": of("parcel list", Parcels{}), "parcel-record": of("parcel show PARCEL ADDRESS", ParcelRecord{}),
		"parcel-verify": of("parcel verify", Verified{}), "parcel-made": of("parcel make", Made{}),
		"parcel-table": of("parcel table", Table{}), "parcel-kept": of("parcel rename", Stored{}),
		"selection-list": of("selection list", Selections{}), "selection": of("selection show", Selection{}),
		"selection-preview": of("selection show --from", Preview{}), "selection-change": of("selection add", Selected{}),
		"catalog-draft": of("catalog draft", Draft{}), "catalog-draft-into": of("catalog draft --into", DraftedInto{}),
		"catalog-file": of("catalog show --docket --out", CatalogFile{}), "catalog": of("catalog show", Catalog{}),
		"catalog-type": of("catalog show TYPE", Type{}), "catalog-check": of("catalog check", CatalogCheck{}),
		"version": of("version", Build{}),
	}
}

// Schema gives the schema of an output, in JSON.
func Schema(o Output) []byte {
	s := object(reflect.TypeOf(o.Value))
	head := schema{{"$schema", "https://json-schema.org/draft/2020-12/schema"}, {"title", o.Title}}
	text, err := json.MarshalIndent(append(head, s...), "", "  ")
	if err != nil {
		panic(err) // it is made of texts, numbers and lists of them
	}
	return append(text, '\n')
}

// schema is a JSON object whose members have an order.
type schema []member

type member struct {
	name  string
	value any
}

// MarshalJSON writes the members in their order.
func (s schema) MarshalJSON() ([]byte, error) {
	out := []byte{'{'}
	for i, m := range s {
		value, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		if i > 0 {
			out = append(out, ',')
		}
		out = append(fmt.Appendf(out, "%q:", m.name), value...)
	}
	return append(out, '}'), nil
}

// object is the schema of a struct. What is embedded by a pointer may be missing as a whole.
func object(t reflect.Type) schema {
	properties, required := members(t, false)
	slices.Sort(required)
	return schema{{"type", "object"}, {"properties", properties}, {"required", append([]string{}, required...)},
		{"additionalProperties", true}}
}

func members(t reflect.Type, maybe bool) (properties schema, required []string) {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			of := f.Type
			if of.Kind() == reflect.Pointer {
				of = of.Elem()
			}
			more, also := members(of, maybe || f.Type.Kind() == reflect.Pointer)
			properties, required = append(properties, more...), append(required, also...)
			continue
		}
		name, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
		omitted := strings.Contains(rest, "omitempty")
		properties = append(properties, member{name, value(f.Type, f.Tag, omitted)})
		if !omitted && !maybe {
			required = append(required, name)
		}
	}
	return properties, required
}

var anyJSON = reflect.TypeFor[json.RawMessage]()

// value is the schema of a value; omitted says that it is left out where it is zero.
func value(t reflect.Type, tag reflect.StructTag, omitted bool) schema {
	if words, ok := tag.Lookup("one"); ok {
		return schema{{"enum", strings.Split(words, ",")}}
	}
	if t == anyJSON {
		return schema{}
	}
	switch t.Kind() {
	case reflect.String:
		return schema{{"type", "string"}}
	case reflect.Bool:
		return schema{{"type", "boolean"}}
	case reflect.Float64:
		return schema{{"type", "number"}}
	case reflect.Int, reflect.Int64:
		least := json.Number("0")
		if omitted {
			least = "1"
		}
		if said, ok := tag.Lookup("least"); ok {
			least = json.Number(said)
		}
		return schema{{"type", "integer"}, {"minimum", least}}
	case reflect.Slice:
		return schema{{"type", "array"}, {"items", value(t.Elem(), "", false)}}
	case reflect.Map:
		return schema{{"type", "object"}, {"additionalProperties", value(t.Elem(), "", false)}}
	case reflect.Struct:
		return object(t)
	case reflect.Pointer:
		if t.Elem().Kind() == reflect.String && !omitted { // null where there is none
			return schema{{"type", []string{"string", "null"}}}
		}
		return value(t.Elem(), "", false)
	default:
		return schema{} // whatever it is
	}
}
