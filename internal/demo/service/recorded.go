package service

import (
	"bytes"
	"net/http"
)

// recorded is an answer that is kept.
type recorded struct {
	Code   int
	header http.Header
	Body   bytes.Buffer
}

func newRecorded() *recorded { return &recorded{Code: http.StatusOK, header: http.Header{}} }

// Header gives the headers.
func (r *recorded) Header() http.Header { return r.header }

// WriteHeader keeps the status.
func (r *recorded) WriteHeader(status int) { r.Code = status }

// Write keeps the content.
func (r *recorded) Write(content []byte) (int, error) { return r.Body.Write(content) }
