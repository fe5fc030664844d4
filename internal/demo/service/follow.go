package service

import (
	"context"
	"net/http"
	"os"
	"sync"
)

// Following answers over a file that may be replaced by another one.
type Following struct {
	o     Options
	mutex sync.Mutex
	now   *Service
	file  os.FileInfo
}

// Follow answers over a file, whatever becomes of it.
func Follow(ctx context.Context, o Options) (*Following, error) {
	f := &Following{o: o}
	_, err := f.current(ctx)
	return f, err
}

// current gives the service over the file that is there now.
func (f *Following) current(ctx context.Context) (*Service, error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	file, err := os.Stat(f.o.File)
	if err != nil {
		return nil, err
	}
	if f.now != nil && os.SameFile(file, f.file) {
		return f.now, nil
	}
	fresh, err := Open(ctx, f.o)
	if err != nil {
		return nil, err
	}
	if f.now != nil {
		fresh.fail, fresh.tokens = f.now.fail, f.now.tokens
		_ = f.now.Close()
	}
	f.now, f.file = fresh, file
	return fresh, nil
}

// ServeHTTP answers.
func (f *Following) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s, err := f.current(context.WithoutCancel(r.Context()))
	if err != nil {
		refuse(w, http.StatusServiceUnavailable, "Data", "The data are not there.")
		return
	}
	s.ServeHTTP(w, r)
}

// Close closes the file.
func (f *Following) Close() error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return f.now.Close()
}
