package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const mediaMetadata = `<?xml version="1.0"?><edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices><Schema Namespace="L" xmlns="http://docs.oasis-open.org/odata/ns/edm">
<EntityType Name="Sheet" HasStream="true"><Key><PropertyRef Name="code"/></Key><Property Name="code" Type="Edm.String" Nullable="false"/><Property Name="name" Type="Edm.String"/></EntityType>
<EntityContainer Name="C"><EntitySet Name="sheets" EntityType="L.Sheet"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`

// sheets is a service of media entities: each is a content with a name.
type sheets struct {
	mutex    sync.Mutex
	names    map[string]string
	contents map[string][]byte
}

var oneSheet = regexp.MustCompile(`^/sheets\('([^']*)'\)(/\$value)?$`)

func (s *sheets) shown(code string) map[string]any {
	return map[string]any{"@odata.mediaReadLink": "sheets('" + code + "')/$value", "code": code, "name": s.names[code]}
}

// ServeHTTP answers.
func (s *sheets) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	body, _ := io.ReadAll(r.Body)
	var values map[string]string
	_ = json.Unmarshal(body, &values)
	m := oneSheet.FindStringSubmatch(r.URL.Path)
	switch {
	case r.URL.Path == "/$metadata":
		fmt.Fprint(w, mediaMetadata)
	case r.URL.Path == "/sheets" && r.Method == http.MethodGet:
		all := []any{}
		codes := make([]string, 0, len(s.names))
		for code := range s.names {
			codes = append(codes, code)
		}
		slices.Sort(codes)
		for _, code := range codes {
			all = append(all, s.shown(code))
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"value": all})
	case r.URL.Path == "/sheets" && r.Method == http.MethodPost:
		s.names[values["code"]] = values["name"]
		w.WriteHeader(http.StatusCreated)
		_ = json.NewEncoder(w).Encode(s.shown(values["code"]))
	case m == nil || m[2] == "" && !s.has(m[1]):
		w.WriteHeader(http.StatusNotFound)
	case m[2] == "" && r.Method == http.MethodGet:
		_ = json.NewEncoder(w).Encode(s.shown(m[1]))
	case m[2] == "" && r.Method == http.MethodPatch:
		if name, ok := values["name"]; ok {
			s.names[m[1]] = name
		}
		w.WriteHeader(http.StatusNoContent)
	case m[2] == "" && r.Method == http.MethodDelete:
		delete(s.names, m[1])
		delete(s.contents, m[1])
		w.WriteHeader(http.StatusNoContent)
	case r.Method == http.MethodGet && s.contents[m[1]] != nil:
		_, _ = w.Write(s.contents[m[1]])
	case r.Method == http.MethodPut && len(body) <= 1000:
		s.contents[m[1]] = body
		w.WriteHeader(http.StatusNoContent)
	case r.Method == http.MethodPut:
		w.WriteHeader(http.StatusRequestEntityTooLarge)
	default:
		w.WriteHeader(http.StatusNotFound)
	}
}

func (s *sheets) has(code string) bool { _, ok := s.names[code]; return ok }

// An entity that is a content itself is read, added, changed and taken back with it; a content that
// is not taken is found out.
func TestMediaEntities(t *testing.T) {
	t.Parallel()
	s := &sheets{names: map[string]string{"B": "b", "C": "c"}, contents: map[string][]byte{"B": []byte("old"), "C": []byte("same")}}
	server := httptest.NewServer(s)
	t.Cleanup(server.Close)
	const table = "CREATE TABLE sheets (code VARCHAR(9) PRIMARY KEY, name VARCHAR(40), media BLOB);"
	p := newPlace(t, "types:\n  sheet: {at: sheets, key: [code], files: [media]}\n", table+"INSERT INTO sheets VALUES ('A', 'a', CAST('fresh' AS BLOB)), ('B', 'b', CAST('new' AS BLOB)), ('C', 'c', CAST('same' AS BLOB));", table)
	p.write("anagram.yaml", fmt.Sprintf("environments:\n  source: {connect: \"sqlite:source.db\"}\n  target: {connect: \"odata+%s\"}\n", server.URL))
	p.must(3, "match", "source", "--against", "target")
	p.must(0, "approve", "*")
	p.must(0, "import")
	assert.Equal(t, map[string][]byte{"A": []byte("fresh"), "B": []byte("new"), "C": []byte("same")}, s.contents)
	p.must(0, "match", "source", "--against", "target")
	p.must(3, "restore", "1")
	docket := fmt.Sprint(docketsIn(p))
	p.must(0, "approve", docket, "*", "--take", "source")
	p.must(0, "import", docket)
	assert.Equal(t, map[string][]byte{"B": []byte("old"), "C": []byte("same")}, s.contents)

	p.sql("source", "UPDATE sheets SET media = zeroblob(2000) WHERE code = 'C'")
	p.must(3, "match", "source", "--against", "target")
	number := fmt.Sprint(docketsIn(p))
	p.must(0, "approve", number, "sheet/C", "--take", "source")
	r := p.run("import", number, "--json")
	require.Equal(t, 5, r.code, r.out+r.err)
	assert.Contains(t, r.out, "written-otherwise")
	assert.Equal(t, []byte("same"), s.contents["C"])
}
