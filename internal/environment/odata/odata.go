package odata

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"anagram/internal/environment"
	"anagram/internal/environment/mirror"
	"anagram/internal/environment/web"
)

// service is one OData service, and what was found out about it.
type service struct {
	web      *web.Client
	name     string
	account  string
	readOnly bool
	page     int // rows asked for at a time

	schema  *schema
	places  map[string]*place
	version string
	able    able
}

// Options say how a service is opened.
type Options struct {
	Web      web.Options
	Account  string
	ReadOnly bool
	Page     int    // rows of a page, 0 is the default
	Batch    string // how it takes several requests at a time: json, parts, off; "" finds out
}

const usualPage = 1000

// Open opens a service. The error is an *environment.Error.
func Open(ctx context.Context, o Options) (environment.Environment, error) {
	client, err := web.Open(o.Web)
	if err != nil {
		return nil, err
	}
	s := &service{web: client, name: o.Web.Name, account: o.Account, readOnly: o.ReadOnly, page: o.Page, able: newAble()}
	if s.page <= 0 {
		s.page = usualPage
	}
	s.able.batch = map[string]int{"json": batchJSON, "parts": batchParts, "off": batchNone}[o.Batch]
	return mirror.Open(ctx, o.Web.Name, s)
}

// Close ends the connections.
func (s *service) Close() error {
	s.web.Close()
	return nil
}

func (s *service) fail(message, mend string) error {
	return &environment.Error{Environment: s.name, Message: message, Mend: mend}
}

// errUnable is a service that cannot do what was asked, or does not understand it.
var errUnable = errors.New("the service cannot do this")

// get asks for something that must be there.
func (s *service) get(ctx context.Context, url, accept string) (*web.Answer, error) {
	answer, err := s.ask(ctx, url, accept)
	if err != nil {
		return nil, err
	}
	return answer, s.told(answer)
}

// ask asks for something.
func (s *service) ask(ctx context.Context, url, accept string) (*web.Answer, error) {
	header := s.header(accept)
	if accept == "" {
		header.Set("Prefer", fmt.Sprintf("odata.maxpagesize=%d", s.page))
	}
	answer, err := s.web.Do(ctx, web.Request{Method: http.MethodGet, URL: url, Header: header, Again: true})
	if err == nil && accept == "" && !s.able.plainJSON && (answer.Status == http.StatusNotAcceptable ||
		answer.Status == http.StatusUnsupportedMediaType) {
		s.able.plainJSON = true
		return s.ask(ctx, url, accept)
	}
	return answer, err
}

func (s *service) header(accept string) http.Header {
	header := http.Header{"Odata-Maxversion": {"4.01"}}
	if accept == "" {
		accept = "application/json;odata.metadata=minimal;IEEE754Compatible=true"
		if s.able.plainJSON {
			accept = "application/json"
		}
	}
	header.Set("Accept", accept)
	return header
}

// told makes an error of an answer that is none of success.
func (s *service) told(a *web.Answer) error {
	if a.Status >= 200 && a.Status < 300 {
		return nil
	}
	if err := s.web.Refusal(a); err != nil {
		return err
	}
	err := s.fail(fmt.Sprintf("%s answers with %d%s.", s.web.Base(), a.Status, after(words(a.Body, nil), ": ")),
		"Check connect: of this environment in anagram.yaml, and ask who runs the service.")
	var known *environment.Error
	if errors.As(err, &known) && (a.Status == http.StatusNotImplemented || a.Status == http.StatusBadRequest ||
		a.Status == http.StatusNotFound || a.Status == http.StatusMethodNotAllowed || a.Status == http.StatusInternalServerError) {
		known.Cause = errUnable
	}
	return err
}

func after(text, sign string) string {
	if text == "" {
		return ""
	}
	return sign + text
}

// words gives what a service says about a refusal: its code and its message, without what was
// sent.
func words(body []byte, sent []string) string {
	var said struct {
		Error struct {
			Code    any
			Message any
			Details []struct {
				Message string
				Target  string
			}
		}
	}
	if len(body) > 1<<20 || web.Shallow(body) != nil || json.Unmarshal(body, &said) != nil {
		return ""
	}
	text := ""
	switch m := said.Error.Message.(type) {
	case string:
		text = m
	case map[string]any: // as older services have it
		text, _ = m["value"].(string)
	}
	for _, d := range said.Error.Details {
		text += after(strings.TrimSpace(d.Target+" "+d.Message), "; ")
	}
	code := fmt.Sprint(said.Error.Code)
	if code != "" && code != "<nil>" && !strings.Contains(text, code) {
		text = strings.TrimSpace(code + " " + text)
	}
	return strings.TrimRight(web.Clean(text, sent), ". ")
}
