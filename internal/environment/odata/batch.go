package odata

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/textproto"
	"strconv"
	"strings"

	"anagram/internal/environment/web"
)

// part is one request of several.
type part struct {
	method, url string
	header      http.Header
	body        []byte
}

func (p part) writes() bool { return p.method != http.MethodGet }

// several asks for several things, at most so many in one request where the service takes that.
func (s *service) several(ctx context.Context, urls []string, most int) ([]*web.Answer, error) {
	var out []*web.Answer
	way := batchNone
	if len(urls) > 1 {
		var err error
		if way, err = s.batchWay(ctx); err != nil {
			return nil, err
		}
	}
	for len(urls) > 0 {
		n := min(len(urls), most, s.able.most)
		if way == batchNone {
			answer, err := s.ask(ctx, urls[0], "")
			if err != nil {
				return nil, err
			}
			out, urls = append(out, answer), urls[1:]
			continue
		}
		parts := make([]part, n)
		for i, url := range urls[:n] {
			parts[i] = part{method: http.MethodGet, url: url, header: s.header("")}
		}
		answers, err := s.sendBatch(ctx, way, parts, true)
		if err != nil {
			return nil, err
		}
		for i, a := range answers {
			if a == nil || a.Status == http.StatusTooManyRequests || a.Status >= 500 { // by itself it is asked again
				if a, err = s.ask(ctx, urls[i], ""); err != nil {
					return nil, err
				}
			}
			out = append(out, a)
		}
		urls = urls[n:]
	}
	return out, nil
}

// sendBatch sends several requests in one. Each is for itself: what the others do is none of
// its business. An answer that did not come is nil.
func (s *service) sendBatch(ctx context.Context, way int, parts []part, again bool) ([]*web.Answer, error) {
	request := web.Request{Method: http.MethodPost, URL: "$batch", Again: again,
		Header: http.Header{"Odata-Maxversion": {"4.01"}, "Prefer": {"odata.continue-on-error"}}}
	var err error
	if way == batchJSON {
		request.Header.Set("Accept", "application/json")
		request.Header.Set("Content-Type", "application/json")
		request.Body, err = batchAsJSON(parts)
	} else {
		var boundary string
		request.Body, boundary, err = batchAsParts(parts)
		request.Header.Set("Accept", "multipart/mixed")
		request.Header.Set("Content-Type", "multipart/mixed; boundary="+boundary)
		request.Header.Set("Odata-Version", "4.0")
	}
	if err != nil {
		return nil, err
	}
	answer, err := s.web.Do(ctx, request)
	if err != nil {
		return nil, err
	}
	if answer.Status == http.StatusTooManyRequests || answer.Status >= 500 {
		if !again {
			return nil, &web.LostError{After: web.After(answer.Header), Cause: fmt.Errorf("it answers with %d", answer.Status)}
		}
	}
	if answer.Status < 200 || answer.Status >= 300 {
		return nil, s.told(answer)
	}
	out := make([]*web.Answer, len(parts))
	if way == batchJSON {
		err = s.batchFromJSON(answer, out)
	} else {
		err = batchFromParts(answer, parts, out)
	}
	if err != nil {
		err = errors.Join(err, &web.LostError{Cause: errors.New("its answer to several requests cannot be read")})
	}
	return out, err
}

func batchAsJSON(parts []part) ([]byte, error) {
	type one struct {
		ID      string            `json:"id"`
		Method  string            `json:"method"`
		URL     string            `json:"url"`
		Headers map[string]string `json:"headers,omitempty"`
		Body    json.RawMessage   `json:"body,omitempty"`
	}
	var all struct {
		Requests []one `json:"requests"`
	}
	for i, p := range parts {
		of := one{ID: strconv.Itoa(i + 1), Method: strings.ToLower(p.method), URL: p.url, Headers: map[string]string{}, Body: p.body}
		for name, values := range p.header {
			of.Headers[strings.ToLower(name)] = values[0]
		}
		all.Requests = append(all.Requests, of)
	}
	return json.Marshal(all)
}

func (s *service) batchFromJSON(answer *web.Answer, out []*web.Answer) error {
	var all struct {
		Responses []struct {
			ID      string            `json:"id"`
			Status  int               `json:"status"`
			Headers map[string]string `json:"headers"`
			Body    json.RawMessage   `json:"body"`
		} `json:"responses"`
	}
	if err := web.Shallow(answer.Body); err != nil {
		return err
	}
	if json.Unmarshal(answer.Body, &all) != nil {
		return errors.New("no JSON")
	}
	for _, r := range all.Responses {
		n, err := strconv.Atoi(r.ID)
		if err != nil || n < 1 || n > len(out) || out[n-1] != nil {
			return errors.New("an answer to no request")
		}
		header := http.Header{}
		for name, value := range r.Headers {
			header.Set(name, value)
		}
		body := []byte(r.Body)
		if string(body) == "null" {
			body = nil
		}
		out[n-1] = &web.Answer{Status: r.Status, Header: header, Body: body, URL: answer.URL, Sent: answer.Sent}
	}
	return nil
}

// batchAsParts writes each request that changes something as a set of changes of its own.
func batchAsParts(parts []part) ([]byte, string, error) {
	var out bytes.Buffer
	w := multipart.NewWriter(&out)
	for i, p := range parts {
		content := &bytes.Buffer{}
		fmt.Fprintf(content, "%s %s HTTP/1.1\r\n", p.method, p.url)
		for name, values := range p.header {
			fmt.Fprintf(content, "%s: %s\r\n", name, values[0])
		}
		if p.writes() {
			fmt.Fprintf(content, "Content-Length: %d\r\n", len(p.body))
		}
		content.WriteString("\r\n")
		content.Write(p.body)
		if !p.writes() {
			if err := addPart(w, textproto.MIMEHeader{"Content-Type": {"application/http"}, "Content-Transfer-Encoding": {"binary"}},
				content.Bytes()); err != nil {
				return nil, "", err
			}
			continue
		}
		var inner bytes.Buffer
		set := multipart.NewWriter(&inner)
		if err := addPart(set, textproto.MIMEHeader{"Content-Type": {"application/http"}, "Content-Transfer-Encoding": {"binary"},
			"Content-ID": {strconv.Itoa(i + 1)}}, content.Bytes()); err != nil {
			return nil, "", err
		}
		if err := set.Close(); err != nil {
			return nil, "", err
		}
		if err := addPart(w, textproto.MIMEHeader{"Content-Type": {"multipart/mixed; boundary=" + set.Boundary()}},
			inner.Bytes()); err != nil {
			return nil, "", err
		}
	}
	err := w.Close()
	return out.Bytes(), w.Boundary(), err
}

func addPart(w *multipart.Writer, header textproto.MIMEHeader, content []byte) error {
	to, err := w.CreatePart(header)
	if err == nil {
		_, err = to.Write(content)
	}
	return err
}

// answerIn reads the answer in a part.
func answerIn(in io.Reader, method string) (*web.Answer, error) {
	response, err := http.ReadResponse(bufio.NewReader(in), &http.Request{Method: method})
	if err != nil {
		return nil, err
	}
	defer response.Body.Close()
	content, err := io.ReadAll(response.Body)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, err
	}
	return &web.Answer{Status: response.StatusCode, Header: response.Header, Body: bytes.TrimSpace(content)}, nil
}

// batchFromParts reads the answers, which come in the order of the requests.
func batchFromParts(answer *web.Answer, parts []part, out []*web.Answer) error {
	n := 0
	var read func(kind string, body io.Reader, depth int) error
	read = func(kind string, body io.Reader, depth int) error {
		media, params, err := mime.ParseMediaType(kind)
		if err != nil || !strings.HasPrefix(media, "multipart/") || params["boundary"] == "" || depth > 2 {
			return errors.New("no parts")
		}
		for r := multipart.NewReader(body, params["boundary"]); ; {
			one, err := r.NextRawPart()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
			if strings.HasPrefix(one.Header.Get("Content-Type"), "multipart/") {
				if err := read(one.Header.Get("Content-Type"), one, depth+1); err != nil {
					return err
				}
				continue
			}
			if n >= len(out) {
				return errors.New("more answers than requests")
			}
			if out[n], err = answerIn(one, parts[n].method); err != nil {
				return err
			}
			out[n].URL, out[n].Sent = answer.URL, answer.Sent
			n++
		}
	}
	return read(answer.Header.Get("Content-Type"), bytes.NewReader(answer.Body), 0)
}
