package service

import (
	"context"
	"crypto/subtle"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"anagram/internal/files/sqlitefile"
)

// Ignorable lists what a service can be told to take no notice of.
func Ignorable() []string {
	return []string{"filter", "select", "count", "expand", "expanded rows", "bind", "representation", "writes", "batch", "versions"}
}

// Options say what a service is and what it does wrong.
type Options struct {
	File     string // the SQLite file behind it
	Account  string // who may sign in with Password, "" is everybody
	Password string
	Client   string // who gets a token at /token for Secret
	Secret   string
	TokenFor int // requests for which a token is good, 0 is all
	Page     int // rows of a page, 0 is 500
	NoBatch  bool
	Fail     Fail
	// Ignores lists what it takes no notice of: filter, select, count, expand, expanded rows (but
	// for the first), bind, representation, and writes, of which it says that they were done.
	Ignores []string
	Once    []string // properties, as set.property, that the metadata calls immutable
	InOne   int      // comparisons that a filter may have, 0 is any number
	NoTags  bool
	// NavOnly shows references as navigation alone, without a property, and lets them be bound.
	NavOnly bool
}

// Service answers requests. It may be used by several at once.
type Service struct {
	o     Options
	db    *sql.DB
	mutex sync.Mutex
	names []string
	sets  map[string]*set
	fail  *failing

	tokens   map[string]int
	requests int
	log      []string
}

// Open opens the file.
func Open(ctx context.Context, o Options) (*Service, error) {
	db, err := sqlitefile.Open(o.File, sqlitefile.Options{Wait: 5 * time.Second, Pragmas: []string{"foreign_keys(1)"}})
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	o.NoBatch, o.NoTags = o.NoBatch || slices.Contains(o.Ignores, "batch"), o.NoTags || slices.Contains(o.Ignores, "versions")
	s := &Service{o: o, db: db, fail: newFailing(o.Fail), tokens: map[string]int{}}
	if s.sets, err = model(ctx, db, o); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	s.names = slices.Sorted(maps.Keys(s.sets))
	if s.o.Page == 0 {
		s.o.Page = 500
	}
	return s, nil
}

// Close closes the file.
func (s *Service) Close() error { return s.db.Close() }

// Requests tells how many came so far, and forgets them.
func (s *Service) Requests() int {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	n := s.requests
	s.requests, s.log = 0, nil
	return n
}

// Log lists the requests that came since Requests was asked.
func (s *Service) Log() []string {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return slices.Clone(s.log)
}

// ServeHTTP answers.
func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mutex.Lock()
	s.requests++
	s.log = append(s.log, r.Method+" "+r.URL.Path)
	s.mutex.Unlock()
	if strings.TrimPrefix(r.URL.Path, "/") == "token" {
		s.token(w, r)
		return
	}
	if !s.allowed(r) {
		w.Header().Set("WWW-Authenticate", "Basic")
		refuse(w, http.StatusUnauthorized, "Unauthorized", "Sign in first.")
		return
	}
	s.fail.around(w, func(w http.ResponseWriter) {
		s.mutex.Lock()
		defer s.mutex.Unlock()
		s.answer(w, r)
	})
}

// touch stamps the row that is about to be changed, now and then, as somebody does who saves it
// at the same moment.
func (s *Service) touch(ctx context.Context, of *set, predicate string) {
	f, has := of.field("updated_at")
	where, args, err := of.where(predicate)
	if !has || f.edm == "Edm.Stream" || err != nil || !s.fail.drawn(s.fail.now().Touch) {
		return
	}
	_, _ = s.db.ExecContext(ctx, "UPDATE "+quote(of.name)+" SET updated_at = strftime('%Y-%m-%d %H:%M:%f', 'now') WHERE "+where, args...)
}

func same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

func (s *Service) allowed(r *http.Request) bool {
	if s.o.Account == "" && s.o.Client == "" {
		return true
	}
	account, password, basic := r.BasicAuth()
	if basic {
		return s.o.Account != "" && same(account, s.o.Account) && same(password, s.o.Password)
	}
	token := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
	if s.o.Account != "" && token != "" && same(token, s.o.Password) {
		return true
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	left, ok := s.tokens[token]
	if !ok {
		return false
	}
	if s.o.TokenFor > 0 {
		if left == 0 {
			delete(s.tokens, token)
			return false
		}
		s.tokens[token] = left - 1
	}
	return true
}

// token gives a token to a client (OAuth 2.0, RFC 6749 section 4.4).
func (s *Service) token(w http.ResponseWriter, r *http.Request) {
	client, secret, basic := r.BasicAuth()
	if !basic {
		client, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	if r.Method != http.MethodPost || s.o.Client == "" || !same(client, s.o.Client) || !same(secret, s.o.Secret) ||
		r.FormValue("grant_type") != "client_credentials" {
		send(w, http.StatusUnauthorized, map[string]any{"error": "invalid_client"})
		return
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	token := fmt.Sprintf("token-%d-%d", len(s.tokens)+1, time.Now().UnixNano())
	s.tokens[token] = s.o.TokenFor
	send(w, http.StatusOK, map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": 3600})
}

func send(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json;odata.metadata=minimal")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func refuse(w http.ResponseWriter, status int, code, message string) {
	send(w, status, map[string]any{"error": map[string]any{"code": code, "message": message}})
}

// answer answers one request, alone or of a batch.
func (s *Service) answer(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("OData-Version", "4.01")
	path := strings.Trim(r.URL.Path, "/")
	switch {
	case path == "":
		var all []map[string]string
		for _, name := range s.names {
			all = append(all, map[string]string{"name": name, "kind": "EntitySet", "url": name})
		}
		send(w, http.StatusOK, map[string]any{"@odata.context": "$metadata", "value": all})
	case path == "$metadata":
		w.Header().Set("Content-Type", "application/xml")
		_, _ = w.Write([]byte(metadata(s.sets, s.names, !s.o.NoBatch)))
	case path == "$batch" && !s.o.NoBatch:
		s.batch(w, r)
	default:
		s.resource(w, r, path)
	}
}

// resource takes SET, SET(KEY), SET(KEY)/PROPERTY and the like.
func (s *Service) resource(w http.ResponseWriter, r *http.Request, path string) {
	name, rest, _ := strings.Cut(path, "/")
	predicate, single := "", false
	if at := strings.IndexByte(path, '('); at >= 0 && at < len(path) {
		// A key may hold a slash.
		end := strings.LastIndex(path, ")")
		if end < at {
			refuse(w, http.StatusBadRequest, "Address", "The address is not understood.")
			return
		}
		if cut := closing(path[at:]); cut > 0 {
			end = at + cut
		}
		name, predicate, rest, single = path[:at], path[at+1:end], strings.TrimPrefix(path[end+1:], "/"), true
	}
	of, ok := s.sets[name]
	if !ok {
		refuse(w, http.StatusNotFound, "NoSuchSet", "There is no such set.")
		return
	}
	switch {
	case !single && rest == "" && r.Method == http.MethodGet:
		s.list(w, r, of)
	case !single && rest == "$count" && r.Method == http.MethodGet:
		s.count(w, r, of)
	case !single && rest == "" && r.Method == http.MethodPost:
		s.add(w, r, of)
	case single:
		s.single(w, r, of, predicate, rest)
	default:
		refuse(w, http.StatusMethodNotAllowed, "Method", "This cannot be done here.")
	}
}

// closing finds the parenthesis that ends a key, past those within texts.
func closing(text string) int {
	quoted := false
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '\'':
			quoted = !quoted
		case text[i] == ')' && !quoted:
			return i
		}
	}
	return -1
}

func ignores(s *Service, option string) bool { return slices.Contains(s.o.Ignores, option) }
