package web

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/hashicorp/go-retryablehttp"
	"golang.org/x/time/rate"

	"anagram/internal/core/show"
	"anagram/internal/environment"
	"anagram/internal/files/safe"
)

// Options say how a service is reached.
type Options struct {
	Name     string // of the environment
	Base     string // http or https URL; the account may stand in it
	Password string // of the account, the token, or the client's secret
	Sign     Sign
	Headers  map[string]string // sent with each request
	Pace     Pace
	// TLSOff lets what signs in go over plain HTTP to a host that is not this machine.
	TLSOff bool
	Log    *slog.Logger // nil is none
	Around environment.Surroundings
}

// Sign says how to sign in, beyond account and password.
type Sign struct {
	Token          bool   // the password is a bearer token
	Header         string // the password is sent in this header
	Client         string // OAuth 2.0 client credentials: the client's name; the password is its secret
	TokenAt, Scope string
	Certificate    string // path of a PEM file with certificate and, unless Key names another, key
	Key            string
	Authority      string // path of a PEM file with the certificates that are believed, "" the system's
}

// Pace bounds how a service is asked. Zero members are the defaults.
type Pace struct {
	PerSecond float64 // requests a second
	AtOnce    int
	Wait      time.Duration // for an answer
	Tries     int           // of a request that may be repeated
}

// The defaults of Pace, and limits.
const (
	perSecond  = 100
	atOnce     = 4
	patience   = 60 * time.Second
	tries      = 6
	MostAnswer = 64 << 20 // bytes of an answer
	longest    = 2 * time.Minute
	mostFile   = 1 << 20
)

// Client talks to one service. It may be used by several at once.
type Client struct {
	name    string
	base    *url.URL
	headers map[string]string
	sign    *signer
	http    *retryablehttp.Client
	pace    *rate.Limiter
	slots   chan struct{}
	wait    time.Duration
	log     *slog.Logger
}

// Request is one request. Its URL is relative to the base, or of the same origin.
type Request struct {
	Method string
	URL    string
	Header http.Header
	Body   []byte
	// Again says that sending it twice does no harm.
	Again bool
	Most  int64 // bytes of the answer, 0 is MostAnswer
}

// Answer is what came back.
type Answer struct {
	Status int
	Header http.Header
	Body   []byte
	URL    *url.URL // that was asked
	Sent   string   // the id that went with the request
}

// LostError is a request of which nobody knows whether it took effect.
type LostError struct {
	After time.Duration // the service asks to be left alone for so long
	Cause error
}

// Error says so.
func (e *LostError) Error() string { return "the answer to it was lost: " + e.Cause.Error() }

// Unwrap gives the cause.
func (e *LostError) Unwrap() error { return e.Cause }

// Open makes a client; nothing is sent yet. The error is an *environment.Error.
func Open(o Options) (*Client, error) {
	fail := func(message, mend string, cause error) (*Client, error) {
		return nil, &environment.Error{Environment: o.Name, Message: message, Mend: mend, Cause: cause}
	}
	base, err := url.Parse(o.Base)
	if err != nil || base.Host == "" || base.Scheme != "http" && base.Scheme != "https" {
		return fail("its address is none of a service.", environment.MendAddress, nil)
	}
	account := base.User.Username()
	base.User, base.RawQuery, base.Fragment = nil, "", ""
	if !strings.HasSuffix(base.Path, "/") {
		base.Path += "/"
	}
	base = base.JoinPath("/") // without dots in it
	here := Here(base.Hostname())
	if base.Scheme == "http" && !here && !o.TLSOff && (o.Password != "" || o.Sign.Certificate != "") {
		return fail(fmt.Sprintf("a password would be sent to %s over a connection that is not proven to be that server's.", base.Host),
			"Use https in connect:; or say tls: off for this environment in anagram.yaml, if the network can be trusted.", nil)
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if o.Sign.Authority != "" {
		text, err := safe.ReadSmall(o.Sign.Authority, mostFile)
		config.RootCAs = x509.NewCertPool()
		if err != nil || !config.RootCAs.AppendCertsFromPEM(text) {
			return fail(fmt.Sprintf("the file %s, which should hold the certificates to believe, cannot be read or holds none.",
				o.Sign.Authority), "Check authority: in anagram.yaml.", err)
		}
	}
	if o.Sign.Certificate != "" {
		pair, err := readPair(o.Sign)
		if err != nil {
			return fail(fmt.Sprintf("the certificate in %s, with which to sign in, cannot be used.", o.Sign.Certificate),
				"Check certificate: and certificate_key: in anagram.yaml, and the rights of the files.", err)
		}
		config.Certificates = []tls.Certificate{pair}
	}
	c := &Client{name: o.Name, base: base, headers: o.Headers, wait: orDefault(o.Pace.Wait, patience), log: o.Log}
	if c.log == nil {
		c.log = slog.New(slog.DiscardHandler)
	}
	c.slots = make(chan struct{}, orDefault(o.Pace.AtOnce, atOnce))
	c.pace = rate.NewLimiter(rate.Limit(orDefault(o.Pace.PerSecond, perSecond)), cap(c.slots))
	transport := &http.Transport{TLSClientConfig: config, Proxy: proxyOf(o.Around), ForceAttemptHTTP2: true,
		MaxIdleConnsPerHost: cap(c.slots), IdleConnTimeout: time.Minute,
		DialContext: (&net.Dialer{Timeout: 10 * time.Second}).DialContext, TLSHandshakeTimeout: 10 * time.Second,
		ResponseHeaderTimeout: c.wait, MaxResponseHeaderBytes: 256 << 10}
	plain := &http.Client{Transport: transport, CheckRedirect: c.redirect}
	c.http = retryablehttp.NewClient()
	c.http.HTTPClient, c.http.Logger = plain, nil
	c.http.RetryMax, c.http.RetryWaitMin, c.http.RetryWaitMax = orDefault(o.Pace.Tries, tries)-1, 200*time.Millisecond, 10*time.Second
	c.http.CheckRetry, c.http.Backoff = c.again, backoff
	c.http.ErrorHandler = retryablehttp.PassthroughErrorHandler
	if c.sign, err = newSigner(o, account, &http.Client{Transport: transport, Timeout: c.wait,
		CheckRedirect: func(*http.Request, []*http.Request) error { return errElsewhere }}); err != nil {
		return nil, err
	}
	return c, nil
}

func orDefault[T int | float64 | time.Duration](given, usual T) T {
	if given > 0 {
		return given
	}
	return usual
}

func readPair(s Sign) (tls.Certificate, error) {
	certificate, err := safe.ReadSmall(s.Certificate, mostFile)
	key := certificate
	if err == nil && s.Key != "" {
		key, err = safe.ReadSmall(s.Key, mostFile)
	}
	if err != nil {
		return tls.Certificate{}, err
	}
	return tls.X509KeyPair(certificate, key)
}

// Here reports whether a host is this machine.
func Here(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Base is the address of the service, without what signs in.
func (c *Client) Base() string { return c.base.String() }

// errElsewhere is an address that is not the service's own.
var errElsewhere = errors.New("it leads to another server")

// redirect follows at most three times, and within the origin only.
func (c *Client) redirect(to *http.Request, via []*http.Request) error {
	if len(via) > 3 || to.URL.Scheme != c.base.Scheme || to.URL.Host != c.base.Host {
		return errElsewhere
	}
	if via[0].Method != http.MethodGet {
		return errElsewhere // what writes is sent where it was meant to go
	}
	return nil
}

// At resolves an address that the service gave, as seen from where it was given. One of
// another origin is refused.
func (c *Client) At(from *url.URL, given string) (string, error) {
	if from == nil {
		from = c.base
	}
	to, err := from.Parse(given)
	if err != nil || to.Scheme != c.base.Scheme || to.Host != c.base.Host || to.User != nil {
		return "", &environment.Error{Environment: c.name, Message: "the service names an address that is not its own, " +
			show.Harmless(shorten(given, 100)) + "; it was not followed.",
			Mend: "Ask who runs the service; nothing was sent there."}
	}
	return to.String(), nil
}

type repeat struct{}

// again decides whether a request is sent once more.
func (c *Client) again(ctx context.Context, r *http.Response, err error) (bool, error) {
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if may, _ := ctx.Value(repeat{}).(bool); !may {
		return false, nil
	}
	if errors.Is(err, errElsewhere) {
		return false, nil
	}
	if err == nil && r.StatusCode != http.StatusTooManyRequests && r.StatusCode != http.StatusServiceUnavailable &&
		r.StatusCode != http.StatusBadGateway && r.StatusCode != http.StatusGatewayTimeout &&
		r.StatusCode != http.StatusInternalServerError {
		return false, nil
	}
	if err == nil && After(r.Header) > longest {
		return false, nil
	}
	return retryablehttp.DefaultRetryPolicy(ctx, r, err)
}

// backoff waits as long as the service asks for, else longer each time.
func backoff(least, _ time.Duration, attempt int, r *http.Response) time.Duration {
	if r != nil {
		if after := After(r.Header); after > 0 {
			return min(after, longest)
		}
	}
	return retryablehttp.LinearJitterBackoff(least, least+least/2, attempt, r)
}

// After gives how long an answer asks to wait, 0 where it says nothing.
func After(h http.Header) time.Duration {
	text := h.Get("Retry-After")
	if n, err := strconv.Atoi(text); err == nil && n >= 0 {
		return time.Duration(min(n, 1_000_000)) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, time.Until(at))
	}
	return 0
}

// Do sends a request. The error is a *LostError where it may have taken effect all the
// same, else an *environment.Error or that of the context.
func (c *Client) Do(ctx context.Context, r Request) (*Answer, error) {
	answer, err := c.once(ctx, r)
	if err == nil && answer.Status == http.StatusUnauthorized && c.sign.renew() {
		return c.once(ctx, r) // the token has run out; what it refused did not happen
	}
	return answer, err
}

func (c *Client) once(ctx context.Context, r Request) (*Answer, error) {
	target, err := c.At(nil, strings.TrimPrefix(r.URL, "/"))
	if err != nil {
		return nil, err
	}
	select {
	case c.slots <- struct{}{}:
		defer func() { <-c.slots }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if err := c.pace.Wait(ctx); err != nil {
		return nil, err
	}
	id := uuid.NewString()
	within, cancel := context.WithTimeout(context.WithValue(ctx, repeat{}, r.Again), c.wait*time.Duration(1+c.http.RetryMax)+longest)
	defer cancel()
	var body any
	if r.Body != nil {
		body = bytes.NewReader(r.Body)
	}
	req, err := retryablehttp.NewRequestWithContext(within, r.Method, target, body)
	if err != nil {
		return nil, err
	}
	for name, values := range r.Header {
		req.Header[name] = values
	}
	for name, value := range c.headers {
		req.Header.Set(name, value)
	}
	req.Header.Set("User-Agent", "anagram")
	req.Header.Set("X-Request-ID", id)
	if err := c.sign.in(within, req.Request); err != nil {
		return nil, err
	}
	began := time.Now()
	response, err := c.http.Do(req)
	if err != nil {
		c.log.Debug("no answer", "environment", c.name, "method", r.Method, "request", id, "after", time.Since(began))
		return nil, c.lost(ctx, r, err)
	}
	defer response.Body.Close()
	most := r.Most
	if most == 0 {
		most = MostAnswer
	}
	content, err := io.ReadAll(io.LimitReader(response.Body, most+1))
	c.log.Debug("answered", "environment", c.name, "method", r.Method, "path", show.Harmless(shorten(req.URL.Path, 200)), "status",
		response.StatusCode, "bytes", len(content), "request", id, "theirs", show.Harmless(shorten(theirID(response.Header), 80)),
		"after", time.Since(began))
	if int64(len(content)) > most {
		return nil, &environment.Error{Environment: c.name,
			Message: fmt.Sprintf("%s answers with more than %d MiB at once, which is not read.", c.base.Host, most>>20),
			Mend:    "Ask for less at a time with page: of this environment in anagram.yaml, or leave the large fields out."}
	}
	if err != nil {
		return nil, c.lost(ctx, r, err)
	}
	return &Answer{Status: response.StatusCode, Header: response.Header, Body: content, URL: response.Request.URL, Sent: id}, nil
}

// theirID gives the id under which the service knows a request.
func theirID(h http.Header) string {
	for _, name := range []string{"X-Request-Id", "Request-Id", "X-Correlation-Id"} {
		if id := h.Get(name); id != "" {
			return id
		}
	}
	return ""
}

// lost says what came of a request that was not answered.
func (c *Client) lost(ctx context.Context, r Request, err error) error {
	if ctx.Err() != nil && r.Again {
		return ctx.Err()
	}
	if errors.Is(err, errElsewhere) {
		return &environment.Error{Environment: c.name, Message: c.base.Host +
			" sends requests on to another address, which was not followed.", Mend: environment.MendAddress}
	}
	message, mend := c.unreachable(err)
	out := &environment.Error{Environment: c.name, Message: message, Mend: mend, Cause: errHidden}
	var dial *net.OpError
	if r.Again || errors.As(err, &dial) && dial.Op == "dial" || isTLS(err) {
		return out
	}
	return &LostError{Cause: out}
}

// errHidden stands for a cause that may name what was sent.
var errHidden = errors.New("the request was not answered")

func isTLS(err error) bool {
	var certificate *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	return errors.As(err, &certificate) || errors.As(err, &record)
}

func (c *Client) unreachable(err error) (message, mend string) {
	var timeout net.Error
	var dns *net.DNSError
	switch {
	case isTLS(err):
		return c.base.Host + " does not prove that it is that server.",
			"Check the address; a certificate of your own authority is named with authority: in anagram.yaml."
	case errors.As(err, &dns):
		return "there is no host " + show.Harmless(c.base.Hostname()) + ".", environment.MendAddress
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return c.base.Host + " does not answer.", "Check address and network, and that this is the service."
	default:
		return c.base.Host + " cannot be reached, or ended the connection.", "Check address and network, and try again."
	}
}

func shorten(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "") + "…"
}

// Clean makes what a service says fit to be shown: without what was sent, harmless, short.
func Clean(text string, sent []string) string {
	sent = slices.Clone(sent)
	slices.SortFunc(sent, func(a, b string) int { return len(b) - len(a) })
	for _, value := range sent {
		if len(value) >= 4 {
			text = strings.ReplaceAll(text, value, "…")
		}
	}
	return show.Harmless(shorten(strings.Join(strings.Fields(text), " "), 300))
}

// Refusal says that a service does not let the account in, or not do something; nil where the
// status says nothing of the kind.
func (c *Client) Refusal(a *Answer) error {
	switch a.Status {
	case http.StatusUnauthorized:
		return &environment.Error{Environment: c.name, Message: c.base.Host + " does not let the account in.", Mend: environment.MendSign}
	case http.StatusForbidden:
		return &environment.Error{Environment: c.name, Message: c.base.Host + " refuses this to the account.",
			Mend: "Ask who runs the service for the right, or use another account."}
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		return &environment.Error{Environment: c.name, Message: c.base.Host + " is too busy and asks to come back later.",
			Mend: "Try again later, or ask less often with requests_a_second: in anagram.yaml."}
	}
	return nil
}

// Close ends the connections.
func (c *Client) Close() { c.http.HTTPClient.CloseIdleConnections() }
