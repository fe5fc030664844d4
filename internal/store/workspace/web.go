package workspace

import (
	"net/http"
	"reflect"
	"slices"
	"strings"

	"anagram/internal/core/pattern"
	"anagram/internal/core/yamldoc"
)

// headerName is what a header may be called.
var headerName = pattern.Of("^[A-Za-z0-9-]{1,60}$")

// ours are headers that Anagram sends itself.
var ours = []string{"Authorization", "Cookie", "Host", "Content-Type", "Content-Length", "If-Match", "Accept", "Prefer", "Connection",
	"Transfer-Encoding", "Proxy-Authorization"}

// readWeb reads how a service on the web is reached.
func readWeb(doc *yamldoc.Document, name string, w Web, e *Environment) error {
	at := []string{"environments", name, "web"}
	if !e.IsWeb() {
		if !reflect.DeepEqual(w, Web{}) {
			return doc.Errorf(at, "environment %s: web: goes with a service on the web, such as connect: odata+https://host/path", name)
		}
		return nil
	}
	if err := signsIn(doc, name, w, e); err != nil {
		return err
	}
	switch {
	case w.PerSecond < 0 || w.PerSecond > 10_000 || w.AtOnce < 0 || w.AtOnce > 64 || w.Page < 0 || w.Page > 100_000 || w.Wait < 0 ||
		w.Wait > 3600:
		return doc.Errorf(at,
			"environment %s: web: requests_a_second: is a number up to 10000, at_once: up to 64, page: up to 100000, wait: up to 3600 seconds", name)
	case !slices.Contains([]string{"", "json", "parts", "off"}, w.Batch):
		return doc.Unknown([]string{"environments", name, "web", "batch"}, "word for batch:", w.Batch, []string{"json", "parts", "off"})
	}
	for header, value := range w.Headers {
		switch {
		case !headerName.MatchString(header) || strings.ContainsAny(value, "\r\n\x00"):
			return doc.Errorf(at, "environment %s: web: headers: holds what is no header", name)
		case slices.Contains(ours, http.CanonicalHeaderKey(header)):
			return doc.Errorf(at,
				"environment %s: web: headers: %s is set by Anagram itself; say how to sign in with password: and token:, header: or client:", name, http.CanonicalHeaderKey(header))
		}
	}
	e.Web = w
	return nil
}

// signsIn reads how to sign in.
func signsIn(doc *yamldoc.Document, name string, w Web, e *Environment) error {
	at := []string{"environments", name, "web"}
	ways := 0
	for _, given := range []bool{w.Token, w.Header != "", w.Client != ""} {
		if given {
			ways++
		}
	}
	switch {
	case ways > 1:
		return doc.Errorf(at, "environment %s: web: names more than one way to sign in; keep one of token:, header: and client:", name)
	case (w.Client != "") != (w.TokenAt != ""):
		return doc.Errorf(at, "environment %s: web: client: and token_at: go together", name)
	case w.Scope != "" && w.Client == "":
		return doc.Errorf(at, "environment %s: web: scope: goes with client:", name)
	case w.CertificateKey != "" && w.Certificate == "":
		return doc.Errorf(at, "environment %s: web: certificate_key: goes with certificate:", name)
	case ways > 0 && !e.Password.Given():
		return doc.Errorf(at, "environment %s: web: says how to sign in, and there is no password: to sign in with", name)
	case w.Header != "" && !headerName.MatchString(w.Header):
		return doc.Errorf(at, "environment %s: web: header: is no name of a header", name)
	}
	return nil
}
