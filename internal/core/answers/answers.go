// Package answers is the form in which decisions travel that were made outside the
// workspace: in a page, or by somebody who signs what they decided.
//
// The contract: an answers file is one JSON document in UTF-8. It names the docket by its
// digest, so that it is about what that docket shows and nothing else; the person; and one
// answer for each record, or field of one. What it does not know is refused. Nothing in it is
// believed about findings: only what somebody decided. Read limits its size.
package answers

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"
	"unicode/utf8"

	"anagram/internal/core/decision"
	"anagram/internal/core/limit"
)

// Kind and Version are what a file says of itself.
const (
	Kind    = "answers"
	Version = 1
)

// File is a file of answers.
type File struct {
	Anagram string   `json:"anagram"` // Kind
	Version int      `json:"version"`
	Docket  int      `json:"docket"` // number, for people; the digest counts
	Digest  string   `json:"digest"` // of the docket, hexadecimal
	Person  string   `json:"person"`
	SavedAt string   `json:"saved_at,omitempty"` // UTC, RFC 3339
	Answers []Answer `json:"answers"`
}

// Answer is what is decided about a record, or with Field about one field of it.
type Answer struct {
	Address  string `json:"address"`
	Field    string `json:"field,omitempty"`
	Decision string `json:"decision,omitempty"` // approve, decline, hold, reopen; "" only comments
	Take     string `json:"take,omitempty"`     // source or target, of an approval
	Note     string `json:"note,omitempty"`
	Comment  string `json:"comment,omitempty"`
	At       string `json:"at"` // UTC, RFC 3339
}

// Decisions lists what can be decided.
func Decisions() []string { return []string{"approve", "decline", "hold", "reopen"} }

// Error is an answers file that is not as it has to be; Answer is the number of the answer
// from 1, 0 for the file as such.
type Error struct {
	Answer  int
	Message string
}

func (e *Error) Error() string {
	if e.Answer == 0 {
		return e.Message
	}
	return fmt.Sprintf("answer %d: %s", e.Answer, e.Message)
}

// Read reads a file of answers.
func Read(text []byte) (File, error) {
	var f File
	if len(text) > limit.Answers {
		return f, &Error{0, fmt.Sprintf("the file has more than %d MiB", limit.Answers>>20)}
	}
	if !utf8.Valid(text) {
		return f, &Error{0, "the file is not text in UTF-8"}
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&f); err != nil {
		return f, &Error{0, "the file is no file of answers: " + err.Error()}
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return f, &Error{0, "something follows the answers"}
	}
	switch {
	case f.Anagram != Kind:
		return f, &Error{0, `the file is no file of answers: it does not say "anagram": "answers"`}
	case f.Version != Version:
		return f, &Error{0, fmt.Sprintf("the answers have version %d; this program knows version %d", f.Version, Version)}
	case f.Person == "":
		return f, &Error{0, "the answers do not say whose they are"}
	case decision.Unfit(f.Person) != "":
		return f, &Error{0, "the person's name cannot be used: " + decision.Unfit(f.Person)}
	}
	for i, a := range f.Answers {
		if message := a.wrong(); message != "" {
			return f, &Error{i + 1, message}
		}
	}
	return f, nil
}

// wrong says what is wrong with an answer by itself, "" for nothing.
func (a Answer) wrong() string {
	known := a.Decision == ""
	for _, word := range Decisions() {
		known = known || a.Decision == word
	}
	_, err := time.Parse(time.RFC3339, a.At)
	switch {
	case a.Address == "":
		return "it names no record"
	case !known:
		return fmt.Sprintf("the decision %q is not known; it is approve, decline, hold or reopen", a.Decision)
	case a.Decision == "" && a.Comment == "":
		return "it says nothing"
	case a.Take != "" && (a.Decision != "approve" || a.Take != "source" && a.Take != "target"):
		return "take is source or target, and goes with approve"
	case err != nil:
		return fmt.Sprintf("the time %q is none; it looks like 2026-11-25T08:00:00Z", a.At)
	case utf8.RuneCountInString(a.Note) > limit.Words || utf8.RuneCountInString(a.Comment) > limit.Words:
		return fmt.Sprintf("a note or comment has at most %d characters", limit.Words)
	}
	return ""
}

// Append writes a file of answers: the same answers give the same bytes.
func Append(out []byte, f File) ([]byte, error) {
	f.Anagram, f.Version = Kind, Version
	if f.Answers == nil {
		f.Answers = []Answer{}
	}
	var b bytes.Buffer
	encoder := json.NewEncoder(&b)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(f); err != nil {
		return out, err
	}
	return append(out, b.Bytes()...), nil
}
