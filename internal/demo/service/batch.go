package service

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
	"net/url"
	"strings"
)

// Several requests in one: in JSON, or in parts with sets of changes.

// inner answers one request of a batch.
func (s *Service) inner(ctx context.Context, method, address string, header http.Header, body []byte) *recorded {
	out := newRecorded()
	at, err := url.Parse("/" + strings.TrimPrefix(address, "/"))
	if err != nil {
		refuse(out, http.StatusBadRequest, "Address", "The address is not understood.")
		return out
	}
	r := (&http.Request{Method: strings.ToUpper(method), URL: at, Header: header,
		Body: io.NopCloser(bytes.NewReader(body))}).WithContext(ctx)
	if s.fail.inner(out, r) {
		return out
	}
	s.answer(out, r)
	return out
}

func (s *Service) batch(w http.ResponseWriter, r *http.Request) {
	media, params, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	body, readErr := io.ReadAll(io.LimitReader(r.Body, mostBody))
	switch {
	case err != nil || readErr != nil || r.Method != http.MethodPost:
		refuse(w, http.StatusBadRequest, "Batch", "The batch is not understood.")
	case media == "application/json":
		s.batchJSON(w, r, body)
	case strings.HasPrefix(media, "multipart/"):
		var out bytes.Buffer
		answer := multipart.NewWriter(&out)
		if err := s.batchParts(r, bytes.NewReader(body), params["boundary"], answer, 0); err != nil {
			refuse(w, http.StatusBadRequest, "Batch", "The batch is not understood.")
			return
		}
		_ = answer.Close()
		w.Header().Set("Content-Type", "multipart/mixed; boundary="+answer.Boundary())
		_, _ = w.Write(out.Bytes())
	default:
		refuse(w, http.StatusUnsupportedMediaType, "Batch", "This form is not known.")
	}
}

func (s *Service) batchJSON(w http.ResponseWriter, r *http.Request, body []byte) {
	var all struct {
		Requests []struct {
			ID      string
			Method  string
			URL     string
			Headers map[string]string
			Body    json.RawMessage
		}
	}
	if json.Unmarshal(body, &all) != nil {
		refuse(w, http.StatusBadRequest, "Batch", "The batch is not understood.")
		return
	}
	responses := []any{}
	for _, one := range all.Requests {
		header := http.Header{}
		for name, value := range one.Headers {
			header.Set(name, value)
		}
		answer := s.inner(r.Context(), one.Method, one.URL, header, one.Body)
		headers := map[string]string{}
		for name := range answer.Header() {
			headers[strings.ToLower(name)] = answer.Header().Get(name)
		}
		of := map[string]any{"id": one.ID, "status": answer.Code, "headers": headers}
		if answer.Body.Len() > 0 && json.Valid(answer.Body.Bytes()) {
			of["body"] = json.RawMessage(answer.Body.Bytes())
		}
		responses = append(responses, of)
		if answer.Code >= 400 && !strings.Contains(r.Header.Get("Prefer"), "continue-on-error") {
			break
		}
	}
	send(w, http.StatusOK, map[string]any{"responses": responses})
}

func (s *Service) batchParts(r *http.Request, body io.Reader, boundary string, answer *multipart.Writer, depth int) error {
	for parts := multipart.NewReader(body, boundary); ; {
		one, err := parts.NextRawPart()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		kind := one.Header.Get("Content-Type")
		if strings.HasPrefix(kind, "multipart/") {
			_, params, err := mime.ParseMediaType(kind)
			if err != nil || depth > 0 {
				return errors.New("parts within parts")
			}
			var out bytes.Buffer
			inner := multipart.NewWriter(&out)
			if err := s.batchParts(r, one, params["boundary"], inner, depth+1); err != nil {
				return err
			}
			_ = inner.Close()
			to, err := answer.CreatePart(textproto.MIMEHeader{"Content-Type": {"multipart/mixed; boundary=" + inner.Boundary()}})
			if err == nil {
				_, err = to.Write(out.Bytes())
			}
			if err != nil {
				return err
			}
			continue
		}
		if err := s.batchPart(r, one, answer); err != nil {
			return err
		}
	}
}

func (s *Service) batchPart(r *http.Request, one *multipart.Part, answer *multipart.Writer) error {
	in := bufio.NewReader(one)
	line, err := in.ReadString('\n')
	if err != nil {
		return err
	}
	words := strings.Fields(line)
	if len(words) < 2 {
		return errors.New("no request")
	}
	header, err := textproto.NewReader(in).ReadMIMEHeader()
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	content, err := io.ReadAll(in)
	if err != nil {
		return err
	}
	came := s.inner(r.Context(), words[0], words[1], http.Header(header), content)
	to, err := answer.CreatePart(textproto.MIMEHeader{"Content-Type": {"application/http"}, "Content-Transfer-Encoding": {"binary"},
		"Content-Id": {one.Header.Get("Content-Id")}})
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(to, "HTTP/1.1 %d %s\r\n", came.Code, http.StatusText(came.Code)); err != nil {
		return err
	}
	for name := range came.Header() {
		if _, err := fmt.Fprintf(to, "%s: %s\r\n", name, came.Header().Get(name)); err != nil {
			return err
		}
	}
	_, err = fmt.Fprintf(to, "Content-Length: %d\r\n\r\n%s", came.Body.Len(), came.Body.Bytes())
	return err
}
