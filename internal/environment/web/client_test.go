package web

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"anagram/internal/environment"
)

// answering makes a client of a server that answers by what do says, and counts.
func answering(t *testing.T, do http.HandlerFunc) (*Client, *atomic.Int64) {
	t.Helper()
	var n atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n.Add(1)
		do(w, r)
	}))
	t.Cleanup(server.Close)
	c, err := Open(Options{Name: "lab", Base: server.URL + "/base", Password: "planted", Pace: Pace{PerSecond: 1000, Wait: 2 * time.Second, Tries: 3}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c, &n
}

// What reads is asked again, what writes is not: what became of it is not known here.
func TestOnlyWhatDoesNoHarmIsRepeated(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		again  bool
		asked  int64
		lost   bool
		status int
	}{
		"busy, reading":          {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTooManyRequests) }, true, 3, false, 429},
		"busy, writing":          {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTooManyRequests) }, false, 1, false, 429},
		"broken off, writing":    {func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, false, 1, true, 0},
		"broken off, reading":    {func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, true, 3, false, 0},
		"refused, reading":       {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusBadRequest) }, true, 1, false, 400},
		"not there yet, reading": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusBadGateway) }, true, 3, false, 502},
		"half an answer, writing": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "100")
			fmt.Fprint(w, "half")
		}, false, 1, true, 0},
		"late for long, reading": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", "3600")
			w.WriteHeader(http.StatusServiceUnavailable)
		}, true, 1, false, 503},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			client, n := answering(t, c.answer)
			answer, err := client.Do(context.Background(), Request{Method: http.MethodPost, URL: "x", Body: []byte("{}"), Again: c.again})
			var lost *LostError
			assert.Equal(t, c.lost, errors.As(err, &lost), "%v", err)
			if c.status > 0 {
				require.NoError(t, err)
				assert.Equal(t, c.status, answer.Status)
			} else {
				require.Error(t, err)
				assert.NotContains(t, err.Error(), "planted")
			}
			assert.Equal(t, c.asked, n.Load())
		})
	}
}

// An address that a service gives is followed within its own origin alone.
func TestAddressesOfAService(t *testing.T) {
	t.Parallel()
	c, _ := answering(t, func(http.ResponseWriter, *http.Request) {})
	from, err := url.Parse(c.Base() + "items?p=1")
	require.NoError(t, err)
	for given, want := range map[string]string{
		"items?p=2": c.Base() + "items?p=2", "/other/items": "http://" + c.base.Host + "/other/items", c.Base() + "items": c.Base() + "items", "//" + c.base.Host + "/x": "http://" + c.base.Host + "/x",
		"http://elsewhere.example/items": "", "https://" + c.base.Host + "/items": "", "//elsewhere.example/x": "", "file:///etc/passwd": "", "http://u:p@" + c.base.Host + "/x": "", "javascript:1": "", "http://" + c.base.Host + ":1/x": "", "::": "",
	} {
		got, err := c.At(from, given)
		assert.Equal(t, want, got, given)
		assert.Equal(t, want == "", err != nil, given)
	}
}

// A password goes to another machine over what is proven, or not at all.
func TestPasswordsOverPlainHTTP(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		options Options
		refused bool
	}{
		{Options{Base: "http://db.example/x", Password: "p"}, true}, {Options{Base: "http://db.example/x", Password: "p", TLSOff: true}, false}, {Options{Base: "http://db.example/x"}, false},
		{Options{Base: "http://127.0.0.1:8/x", Password: "p"}, false}, {Options{Base: "http://[::1]:8/x", Password: "p"}, false}, {Options{Base: "https://db.example/x", Password: "p"}, false},
		{Options{Base: "http://127.0.0.1.example/x", Password: "p"}, true}, {Options{Base: "ftp://db.example/x"}, true}, {Options{Base: "https:///x"}, true}, {Options{Base: "https://db.example/x", Sign: Sign{Certificate: "nowhere.pem"}}, true},
		{Options{Base: "https://db.example/x", Sign: Sign{Client: "c", TokenAt: "http://db.example/t"}}, true}, {Options{Base: "https://db.example/x", Sign: Sign{Client: "c", TokenAt: "https://u:p@db.example/t"}}, true},
	} {
		_, err := Open(c.options)
		assert.Equal(t, c.refused, err != nil, "%+v", c.options)
		var said *environment.Error
		if err != nil && assert.ErrorAs(t, err, &said) {
			assert.NotEmpty(t, said.Mend)
		}
	}
}

// What a service says is shown without what was sent, and so that it does nothing.
func TestWordsOfAService(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		text string
		sent []string
		want string
	}{
		{"value 'secret text' is taken", []string{"secret text", "secret"}, "value '…' is taken"}, {"an\x1b[2J\nend", nil, `an\x1b[2J end`}, {"abc is short", []string{"abc"}, "abc is short"}, {"a\u202eb", nil, `a\u202eb`},
	} {
		assert.Equal(t, c.want, Clean(c.text, c.sent))
	}
	assert.Less(t, len(Clean(string(make([]byte, 10_000)), nil)), 2000)
	assert.NoError(t, Shallow([]byte(strings.Repeat("[", 100)+`"[[[\\\"[["`+strings.Repeat("]", 100))))
	assert.Error(t, Shallow([]byte(strings.Repeat("[", 200))))
}

// Retry-After is read in both of its forms, and never more than can be meant.
func TestWhenToComeBack(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]time.Duration{"": 0, "3": 3 * time.Second, "-5": 0, "soon": 0, "99999999999": 1_000_000 * time.Second, "9999999": 1_000_000 * time.Second, "Mon, 02 Jan 2006 15:04:05 GMT": 0} {
		assert.Equal(t, want, After(http.Header{"Retry-After": {text}}), text)
	}
	later := time.Now().Add(time.Hour).UTC().Format(http.TimeFormat)
	assert.InDelta(t, time.Hour.Seconds(), After(http.Header{"Retry-After": {later}}).Seconds(), 5)
}
