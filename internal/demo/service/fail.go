package service

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Fail says how often it fails, and how: shares of the requests, from 0 to 1.
type Fail struct {
	Slow   float64 // the answer takes a while
	Before float64 // the connection ends before anything happens
	After  float64 // the connection ends once it has happened
	Busy   float64 // 429, with Retry-After
	Error  float64 // 500, before anything happens
	Late   float64 // 503, once it has happened
	Token  float64 // 401, as a token that runs out
	Touch  float64 // somebody else saves the record that a request changes, right before
	Seed   uint64
}

// Kinds lists the ways to fail, as they are named on a command line.
func Kinds() []string {
	return []string{"slow", "before", "after", "busy", "error", "late", "token", "touch"}
}

func (f *Fail) of(kind string) *float64 {
	return map[string]*float64{"slow": &f.Slow, "before": &f.Before, "after": &f.After, "busy": &f.Busy, "error": &f.Error,
		"late": &f.Late, "token": &f.Token, "touch": &f.Touch}[kind]
}

// ParseFail reads KIND=SHARE,... .
func ParseFail(text string) (Fail, error) {
	out := Fail{Seed: 1}
	if text == "" {
		return out, nil
	}
	for _, one := range strings.Split(text, ",") {
		kind, share, _ := strings.Cut(strings.TrimSpace(one), "=")
		n, err := strconv.ParseFloat(share, 64)
		if kind == "seed" && err == nil && n >= 0 {
			out.Seed = uint64(n)
			continue
		}
		if !slices.Contains(Kinds(), kind) || err != nil || n < 0 || n > 1 {
			return out, fmt.Errorf("%q is no way to fail; write KIND=SHARE with a share from 0 to 1 and one of %s, or seed=NUMBER",
				one, strings.Join(Kinds(), ", "))
		}
		*out.of(kind) = n
	}
	return out, nil
}

// failing draws lots.
type failing struct {
	Fail
	mutex  sync.Mutex
	random *rand.Rand
	times  int // it failed
}

func newFailing(f Fail) *failing {
	return &failing{Fail: f, random: rand.New(rand.NewPCG(f.Seed, f.Seed))}
}

// SetFail makes the service fail from now on as it says.
func (s *Service) SetFail(f Fail) {
	s.fail.mutex.Lock()
	defer s.fail.mutex.Unlock()
	s.fail.Fail = f
	s.fail.random = rand.New(rand.NewPCG(f.Seed, f.Seed))
}

// now is how it fails at the moment.
func (f *failing) now() Fail {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return f.Fail
}

func (f *failing) drawn(share float64) bool {
	if share <= 0 {
		return false
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if f.random.Float64() >= share {
		return false
	}
	f.times++
	return true
}

// Failed tells how often it failed so far.
func (s *Service) Failed() int {
	s.fail.mutex.Lock()
	defer s.fail.mutex.Unlock()
	return s.fail.times
}

// around answers a request, or fails.
func (f *failing) around(w http.ResponseWriter, answer func(http.ResponseWriter)) {
	of := f.now()
	if f.drawn(of.Slow) {
		time.Sleep(150 * time.Millisecond)
	}
	switch {
	case f.drawn(of.Before):
		panic(http.ErrAbortHandler)
	case f.drawn(of.Busy):
		w.Header().Set("Retry-After", "0")
		refuse(w, http.StatusTooManyRequests, "Busy", "Too many requests.")
		return
	case f.drawn(of.Error):
		refuse(w, http.StatusInternalServerError, "Internal", "Something went wrong.")
		return
	case f.drawn(of.Token):
		refuse(w, http.StatusUnauthorized, "Token", "The token has run out.")
		return
	}
	after, late := f.drawn(of.After), f.drawn(of.Late)
	if !after && !late {
		answer(w)
		return
	}
	answer(newRecorded())
	if after {
		panic(http.ErrAbortHandler)
	}
	refuse(w, http.StatusServiceUnavailable, "Late", "The service is not available.")
}

// inner fails for one request of a batch; it tells whether it did.
func (f *failing) inner(w http.ResponseWriter, r *http.Request) bool {
	of := f.now()
	switch {
	case r.Method == http.MethodGet:
		return false
	case f.drawn(of.Busy):
		refuse(w, http.StatusTooManyRequests, "Busy", "Too many requests.")
	case f.drawn(of.Error):
		refuse(w, http.StatusInternalServerError, "Internal", "Something went wrong.")
	default:
		return false
	}
	return true
}
