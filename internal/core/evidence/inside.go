package evidence

import (
	"encoding/json"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"anagram/internal/core/pattern"
	"anagram/internal/core/record"
)

// Ids within values: a list of them, one at a path of JSON, or one between other characters
// of a text.

// Way is one way in which ids may stand in the values of a column.
type Way struct {
	Form, Text string                      // as the catalog writes it: list, pattern or path
	Hint       string                      // a name beside the ids
	Find       func(value string) []string // the ids in a value, in their order
}

var (
	listValue = pattern.Of(`^\s*\d+(\s*[,;|]\s*\d+)*\s*[,;|]?\s*$`)
	inText    = pattern.Of(`([\p{L}_]*[^\s\p{L}\p{N}_"'.,+*/()=<>-]{1,3}|[\p{L}_]+[:=#])(\d+)([^\s\p{L}\p{N}_"'.,+*/()=<>-]{0,2})`)
)

// Ways gives the ways in which numbers stand in some values of a column.
func Ways(column string, kind record.Kind, values []string) []Way {
	if out := pathsIn(values); out != nil || kind == record.JSON {
		return out
	}
	filled, lists, several, separator := 0, 0, 0, ""
	between := map[string][2]string{}
	count := map[string]int{}
	for _, v := range values {
		if strings.TrimSpace(v) == "" {
			continue
		}
		filled++
		if listValue.MatchString(v) {
			lists++
			if at := strings.IndexAny(v, ",;|"); at >= 0 {
				several++
				separator = v[at : at+1]
			}
		}
		for _, found := range inText.FindAllStringSubmatch(v, -1) {
			id := found[1] + "\x00" + found[3]
			between[id] = [2]string{found[1], found[3]}
			count[id]++
		}
	}
	if filled > 0 && lists == filled && several > 0 {
		return []Way{{Form: "list", Text: separator, Hint: column, Find: func(v string) []string {
			var out []string
			for item := range strings.SplitSeq(v, separator) {
				if item = strings.TrimSpace(item); item != "" {
					out = append(out, item)
				}
			}
			return out
		}}}
	}
	var out []Way
	for _, id := range sortedKeys(between) {
		if b := between[id]; count[id] >= 2 && !strings.Contains(b[0], "ID") {
			exact := regexp.MustCompile(regexp.QuoteMeta(b[0]) + `(\d+)` + regexp.QuoteMeta(b[1]))
			out = append(out, Way{Form: "pattern", Text: b[0] + "ID" + b[1], Hint: strings.Trim(b[0], "{}[]<>#@:$%=|!&~^ "),
				Find: func(v string) (ids []string) {
					for _, found := range exact.FindAllStringSubmatch(v, -1) {
						ids = append(ids, found[1])
					}
					return ids
				}})
		}
	}
	return out
}

func sortedKeys[V any](from map[string]V) (out []string) {
	for k := range from {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

var plainStep = pattern.Of(`^[\pL_][\pL\pN_-]*$`)

// pathsIn gives the paths at which JSON documents hold whole numbers, nil where the values
// are none.
func pathsIn(values []string) []Way {
	paths := map[string]string{} // path -> name of the member
	documents := 0
	for _, v := range values {
		if v = strings.TrimSpace(v); v == "" || v[0] != '{' && v[0] != '[' {
			if v == "" || v == "null" {
				continue
			}
			return nil
		}
		if !eachNumber(v, func(path, name, _ string) { paths[path] = name }) {
			return nil
		}
		documents++
	}
	if documents == 0 {
		return nil
	}
	out := []Way{}
	for _, path := range sortedKeys(paths) {
		out = append(out, Way{Form: "path", Text: path, Hint: paths[path], Find: func(v string) (ids []string) {
			eachNumber(v, func(at, _, id string) {
				if at == path {
					ids = append(ids, id)
				}
			})
			return ids
		}})
	}
	return out
}

// eachNumber gives the whole numbers of a JSON document, with their paths. It reports whether
// it is one.
func eachNumber(text string, give func(path, name, id string)) bool {
	decoder := json.NewDecoder(strings.NewReader(text))
	decoder.UseNumber()
	var document any
	if decoder.Decode(&document) != nil {
		return false
	}
	var walk func(v any, path, name string, depth int)
	walk = func(v any, path, name string, depth int) {
		if depth > 12 {
			return
		}
		switch v := v.(type) {
		case map[string]any:
			for _, member := range sortedKeys(v) {
				if plainStep.MatchString(member) {
					walk(v[member], path+"."+member, member, depth+1)
				} else if !strings.ContainsAny(member, "'\\") {
					walk(v[member], path+"['"+member+"']", member, depth+1)
				}
			}
		case []any:
			for _, item := range v {
				walk(item, path+"[*]", name, depth+1)
			}
		case json.Number:
			if n, err := strconv.ParseInt(v.String(), 10, 64); err == nil && n >= 0 {
				give(path, name, v.String())
			}
		case string:
			if n, err := strconv.ParseInt(v, 10, 64); err == nil && n > 0 && IDName(name) {
				give(path, name, v)
			}
		}
	}
	walk(document, "$", "", 0)
	return true
}
