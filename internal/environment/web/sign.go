package web

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"sync"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"anagram/internal/environment"
)

// signer puts into a request what signs in.
type signer struct {
	name              string
	account, password string
	token             bool
	header            string
	config            *clientcredentials.Config
	http              *http.Client

	mutex  sync.Mutex
	source oauth2.TokenSource
}

func newSigner(o Options, account string, plain *http.Client) (*signer, error) {
	s := &signer{name: o.Name, account: account, password: o.Password, token: o.Sign.Token, header: o.Sign.Header, http: plain}
	if o.Sign.Client == "" {
		return s, nil
	}
	at, err := url.Parse(o.Sign.TokenAt)
	if err != nil || at.Host == "" || at.User != nil || at.Scheme != "https" && (at.Scheme != "http" || !Here(at.Hostname()) && !o.TLSOff) {
		return nil, &environment.Error{Environment: o.Name, Message: "token_at: is no https address without an account in it.",
			Mend: "Correct token_at: of this environment in anagram.yaml."}
	}
	s.config = &clientcredentials.Config{ClientID: o.Sign.Client, ClientSecret: o.Password, TokenURL: o.Sign.TokenAt}
	if o.Sign.Scope != "" {
		s.config.Scopes = []string{o.Sign.Scope}
	}
	return s, nil
}

// in signs a request in.
func (s *signer) in(ctx context.Context, r *http.Request) error {
	switch {
	case s.config != nil:
		token, err := s.tokenNow()
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return &environment.Error{Environment: s.name, Message: "no token is to be had at token_at:" + said(err) + ".",
				Mend: "Check client:, token_at: and password: of this environment in anagram.yaml."}
		}
		r.Header.Set("Authorization", "Bearer "+token.AccessToken)
	case s.header != "":
		r.Header.Set(s.header, s.password)
	case s.token && s.password != "":
		r.Header.Set("Authorization", "Bearer "+s.password)
	case s.account != "":
		r.SetBasicAuth(s.account, s.password)
	}
	return nil
}

func (s *signer) tokenNow() (*oauth2.Token, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.source == nil {
		// A token outlives the request that asked for it.
		s.source = s.config.TokenSource(context.WithValue(context.Background(), oauth2.HTTPClient, s.http))
	}
	return s.source.Token()
}

// renew forgets the token, where it is one that can be had anew.
func (s *signer) renew() bool {
	if s.config == nil {
		return false
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.source = nil
	return true
}

// said gives the code with which a token was refused.
func said(err error) string {
	var refused *oauth2.RetrieveError
	if errors.As(err, &refused) && refused.ErrorCode != "" {
		return ", which says " + Clean(refused.ErrorCode, nil)
	}
	return ""
}
