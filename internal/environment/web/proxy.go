package web

import (
	"cmp"
	"net/http"
	"net/url"

	"golang.org/x/net/http/httpproxy"

	"anagram/internal/environment"
)

// proxyOf gives the proxy of a request by the usual variables: HTTP_PROXY, HTTPS_PROXY and
// NO_PROXY, or the same in small letters. What is on this machine is asked directly.
func proxyOf(around environment.Surroundings) func(*http.Request) (*url.URL, error) {
	either := func(large, small string) string { return cmp.Or(around.Get(large), around.Get(small)) }
	of := (&httpproxy.Config{HTTPProxy: either("HTTP_PROXY", "http_proxy"), HTTPSProxy: either("HTTPS_PROXY", "https_proxy"),
		NoProxy: either("NO_PROXY", "no_proxy"),
		CGI:     around.Get("REQUEST_METHOD") != ""}).ProxyFunc()
	return func(r *http.Request) (*url.URL, error) { return of(r.URL) }
}
