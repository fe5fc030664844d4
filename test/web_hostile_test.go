package test

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

const plainMetadata = `<?xml version="1.0"?><edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices><Schema Namespace="L" xmlns="http://docs.oasis-open.org/odata/ns/edm">
<EntityType Name="I"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.Int32" Nullable="false"/><Property Name="code" Type="Edm.String"/><Property Name="n" Type="Edm.Int32"/></EntityType>
<EntityContainer Name="C"><EntitySet Name="items" EntityType="L.I"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`

// metadata answers $metadata, and all else by do.
func metadataAnd(do http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "$metadata") {
			fmt.Fprint(w, plainMetadata)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		do(w, r)
	}
}

func says(text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, text) }
}

// meaningNoGood are services that mean no good, and what is said of them.
func meaningNoGood(elsewhere string) map[string]struct {
	answer http.HandlerFunc
	says   string
} {
	var n atomic.Int64
	endless := func(w http.ResponseWriter, size int64) {
		piece := bytes.Repeat([]byte("a"), 1<<16)
		for range size / int64(len(piece)) {
			if _, err := w.Write(piece); err != nil {
				return
			}
		}
	}
	return map[string]struct {
		answer http.HandlerFunc
		says   string
	}{
		"a page that leads to itself": {metadataAnd(says(`{"value":[{"id":1,"code":"a"}],"@odata.nextLink":"items?p=1"}`)), "pages of items without end"},
		"the same page under ever new addresses": {metadataAnd(func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"value":[{"id":1,"code":"a"}],"@odata.nextLink":"items?p=%d"}`, n.Add(1))
		}), "pages of items without end"},
		"pages that never end": {metadataAnd(func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprintf(w, `{"value":[],"@odata.nextLink":"items?p=%d"}`, n.Add(1))
		}), "pages of items without end"},
		"a next page elsewhere":     {metadataAnd(says(`{"value":[{"id":1,"code":"a"}],"@odata.nextLink":"` + elsewhere + `/items"}`)), "names an address that is not its own"},
		"a next page with userinfo": {metadataAnd(says(`{"value":[],"@odata.nextLink":"//x:y@` + strings.TrimPrefix(elsewhere, "http://") + `/items"}`)), "names an address that is not its own"},
		"a redirect elsewhere": {metadataAnd(func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, elsewhere+"/items", http.StatusTemporaryRedirect)
		}), "sends requests on to another address"},
		"metadata elsewhere": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, elsewhere+"/m", http.StatusFound)
		}, "sends requests on to another address"},
		"a text without end": {metadataAnd(func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `{"value":[{"id":1,"code":"`)
			endless(w, 1<<30)
		}), "more than 64 MiB at once"},
		"metadata without end": {func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `<?xml version="1.0"?><a>`)
			endless(w, 1<<30)
		}, "more than 64 MiB at once"},
		"deep JSON":         {metadataAnd(says(`{"value":[{"id":1,"code":` + strings.Repeat("[", 1<<20) + strings.Repeat("]", 1<<20) + `}]}`)), "nested too deep"},
		"a wrong type":      {metadataAnd(says(`{"value":[{"id":1,"code":"a","n":"many"}]}`)), "property n"},
		"a list for a text": {metadataAnd(says(`{"value":[{"id":1,"code":["a"]}]}`)), "it holds what is no Edm.String"},
		"no key":            {metadataAnd(says(`{"value":[{"code":"a"}]}`)), "comes without its key"},
		"half JSON":         {metadataAnd(says(`{"value":[{"id":1,"code":"a"},`)), "no JSON object, or that ends early"},
		"a page":            {metadataAnd(says(`<html>Sign in</html>`)), "no JSON object"},
		"no list":           {metadataAnd(says(`{"items":[]}`)), "no list of entities"},
		"fewer than it says": {metadataAnd(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, "$count") {
				fmt.Fprint(w, 7)
				return
			}
			fmt.Fprint(w, `{"@odata.count":7,"value":[{"id":1,"code":"a"}]}`)
		}), "says that items has 7 entities, and gives 1"},
		"entities within entities":             {says(`<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "bbbbbbbb"><!ENTITY c "&b;&b;&b;">]><a>&c;</a>`), "declares a document type"},
		"a file from here":                     {says(`<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b SYSTEM "file:///etc/passwd">]><a>&b;</a>`), "declares a document type"},
		"deep metadata":                        {says(strings.Repeat("<a>", 5000) + strings.Repeat("</a>", 5000)), "nested too deep"},
		"no metadata":                          {says("<html/>"), "describes no sets"},
		"types in a circle":                    {says(strings.Replace(plainMetadata, `Name="I"`, `Name="I" BaseType="L.I"`, 1)), "is its own base"},
		"properties that differ in case alone": {says(strings.Replace(plainMetadata, `<Property Name="n"`, `<Property Name="Code"`, 1)), "differ in case alone"},
		"a property with a blank":              {says(strings.Replace(plainMetadata, `<Property Name="n"`, `<Property Name="anagram ref"`, 1)), "which is no name"},
		"a property that says too much":        {says(strings.Replace(plainMetadata, `<Property Name="n"`, `<Property Name="n&quot;); DROP TABLE x; --&#10;"`, 1)), "which is no name"},
		"an older OData": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("DataServiceVersion", "2.0")
			fmt.Fprint(w, plainMetadata)
		}, "older OData than v4"},
		"signs in a message": {metadataAnd(func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusForbidden + 6)
			fmt.Fprint(w, "{\"error\":{\"code\":\"E\",\"message\":\"\\u001b[2J gone \\u202e\"}}")
		}), `\x1b[2J gone`},
		"come back in a year": {metadataAnd(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", "31536000")
			w.WriteHeader(http.StatusServiceUnavailable)
		}), "asks to come back later"},
		"nobody is let in": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusUnauthorized) }, "does not let the account in"},
	}
}

// What a service answers is not believed: it is refused with a sentence, in bounded time and
// memory, and what signs in goes nowhere else.
func TestServicesThatMeanNoGood(t *testing.T) {
	t.Parallel()
	var strangers atomic.Int64
	elsewhere := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		strangers.Add(1)
		fmt.Fprint(w, `{"value":[]}`)
	}))
	t.Cleanup(func() {
		elsewhere.Close()
		assert.Zero(t, strangers.Load(), "nobody else was asked anything")
	})
	for name, of := range meaningNoGood(elsewhere.URL) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			server := httptest.NewServer(of.answer)
			t.Cleanup(server.Close)
			p := &place{t: t, dir: t.TempDir(), user: "mara"}
			p.write("word", "planted-word")
			p.write("anagram.yaml", fmt.Sprintf("environments:\n  a: {connect: \"odata+http://anna@%s\", password: {file: word}}\n", strings.TrimPrefix(server.URL, "http://")))
			p.write("catalog.yaml", "types:\n  item: {at: items, key: [code], id: id}\n")
			p.trust()
			began := time.Now()
			r := p.run("export", "a", "--name", "p")
			assert.NotZero(t, r.code)
			assert.Contains(t, words(r.err), of.says)
			assert.NotContains(t, r.out+r.err, "planted-word")
			assert.NotContains(t, r.out+r.err, "\x1b")
			assert.Less(t, time.Since(began), time.Minute)
			assert.Less(t, r.peak, int64(600<<20))
			assert.NoFileExists(t, p.path("parcels/p.parcel"))
		})
	}
}
