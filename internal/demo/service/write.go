package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"modernc.org/sqlite"
)

// mostBody bounds what a request may bring.
const mostBody = 64 << 20

// settings reads what a body says of a row.
func (s *set) settings(body io.Reader, sets map[string]*set, dropBinds bool) (columns []string, args []any, err error) {
	var raw map[string]json.RawMessage
	if json.NewDecoder(io.LimitReader(body, mostBody)).Decode(&raw) != nil || raw == nil {
		return nil, nil, errors.New("the body is no JSON object")
	}
	names := make([]string, 0, len(raw))
	for name := range raw {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		if strings.HasPrefix(name, "@") {
			continue
		}
		if nav, ok := strings.CutSuffix(name, "@odata.bind"); ok {
			at := slices.IndexFunc(s.fields, func(f field) bool { return f.nav == nav })
			if at < 0 {
				return nil, nil, fmt.Errorf("there is no navigation %s", nav)
			}
			if dropBinds {
				continue
			}
			if string(raw[name]) == "null" {
				columns, args = append(columns, s.fields[at].name), append(args, nil)
				continue
			}
			var to string
			_ = json.Unmarshal(raw[name], &to)
			target := sets[s.fields[at].refers]
			_, predicate, found := strings.Cut(to, "(")
			_, values, err := target.where(strings.TrimSuffix(predicate, ")"))
			if !found || err != nil {
				return nil, nil, errors.New("what is bound is not understood")
			}
			columns, args = append(columns, s.fields[at].name), append(args, values[0])
			continue
		}
		f, ok := s.field(name)
		if !ok || f.edm == "Edm.Stream" {
			return nil, nil, fmt.Errorf("there is no property %s", name)
		}
		if f.computed {
			continue
		}
		v, err := f.taken(raw[name])
		if err != nil {
			return nil, nil, err
		}
		columns, args = append(columns, name), append(args, v)
	}
	return columns, args, nil
}

// refused says what the database refused.
func refused(w http.ResponseWriter, err error) {
	var known *sqlite.Error
	if errors.As(err, &known) && known.Code()&0xff == 19 {
		refuse(w, http.StatusConflict, "Conflict", "A rule of the application does not hold: "+err.Error())
		return
	}
	refuse(w, http.StatusInternalServerError, "Database", "It cannot be written.")
}

// add adds a row.
func (s *Service) add(w http.ResponseWriter, r *http.Request, of *set) {
	ctx := r.Context()
	columns, args, err := of.settings(r.Body, s.sets, ignores(s, "bind"))
	if err != nil {
		refuse(w, http.StatusBadRequest, "Value", err.Error())
		return
	}
	marks := strings.TrimSuffix(strings.Repeat("?, ", len(args)), ", ")
	quoted := make([]string, len(columns))
	for i, name := range columns {
		quoted[i] = quote(name)
	}
	query := "INSERT INTO " + quote(of.name) + " (" + strings.Join(quoted, ", ") + ") VALUES (" + marks + ")"
	if len(columns) == 0 {
		query = "INSERT INTO " + quote(of.name) + " DEFAULT VALUES"
	}
	result, err := s.db.ExecContext(ctx, query, args...)
	if err != nil {
		refused(w, err)
		return
	}
	row, _ := result.LastInsertId()
	rows, err := of.selectRows(ctx, s.db, "WHERE rowid = ?", row)
	if ignores(s, "writes") && err == nil { // it says that it was done, and it is not
		_, err = s.db.ExecContext(ctx, "DELETE FROM "+quote(of.name)+" WHERE rowid = ?", row)
	}
	if err != nil || len(rows) != 1 {
		refuse(w, http.StatusInternalServerError, "Database", "It cannot be read back.")
		return
	}
	w.Header().Set("Location", of.name+url.PathEscape(of.predicate(rows[0])))
	if ignores(s, "representation") {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	s.give(w, r, of, rows[0], http.StatusCreated)
}

func (s *Service) give(w http.ResponseWriter, r *http.Request, of *set, e entity, status int) {
	out, err := s.object(r.Context(), r, of, e)
	if err != nil {
		refuse(w, http.StatusInternalServerError, "Database", "It cannot be read back.")
		return
	}
	if !s.o.NoTags {
		w.Header().Set("ETag", e.tag)
	}
	send(w, status, out)
}

// single does something with one row.
func (s *Service) single(w http.ResponseWriter, r *http.Request, of *set, predicate, rest string) {
	ctx := r.Context()
	if r.Method != http.MethodGet {
		s.touch(ctx, of, predicate)
	}
	e, there, err := s.one(ctx, of, predicate)
	switch {
	case err != nil:
		refuse(w, http.StatusBadRequest, "Key", "The key is not understood.")
		return
	case !there:
		refuse(w, http.StatusNotFound, "NotFound", "There is no such entity.")
		return
	case rest != "":
		s.below(w, r, of, e, predicate, rest)
		return
	case r.Method == http.MethodGet:
		s.give(w, r, of, e, http.StatusOK)
		return
	}
	if given := r.Header.Get("If-Match"); given != "" && given != "*" && given != e.tag {
		refuse(w, http.StatusPreconditionFailed, "Changed", "It was changed since.")
		return
	}
	where, args, _ := of.where(predicate)
	switch r.Method {
	case http.MethodPatch:
		s.change(w, r, of, e, predicate)
	case http.MethodDelete:
		if _, err := s.db.ExecContext(ctx, "DELETE FROM "+quote(of.name)+" WHERE "+where, args...); err != nil {
			refused(w, err)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	default:
		refuse(w, http.StatusMethodNotAllowed, "Method", "This cannot be done here.")
	}
}

// change writes some columns of a row.
func (s *Service) change(w http.ResponseWriter, r *http.Request, of *set, e entity, predicate string) {
	ctx := r.Context()
	where, args, _ := of.where(predicate)
	columns, values, err := of.settings(r.Body, s.sets, ignores(s, "bind"))
	if err != nil {
		refuse(w, http.StatusBadRequest, "Value", err.Error())
		return
	}
	if at := slices.IndexFunc(columns, func(name string) bool { f, _ := of.field(name); return f.once }); at >= 0 {
		refuse(w, http.StatusBadRequest, "Immutable", columns[at]+" cannot be changed.")
		return
	}
	if isStamped(of, columns) {
		columns, values = append(columns, "updated_at"), append(values, time.Now().UTC().Format("2006-01-02 15:04:05"))
	}
	sets := make([]string, len(columns))
	for i, name := range columns {
		sets[i] = quote(name) + " = ?"
	}
	if len(sets) > 0 && !ignores(s, "writes") {
		if _, err := s.db.ExecContext(ctx, "UPDATE "+quote(of.name)+" SET "+strings.Join(sets, ", ")+" WHERE "+where,
			append(values, args...)...); err != nil {
			refused(w, err)
			return
		}
	}
	if ignores(s, "writes") {
		s.give(w, r, of, e, http.StatusOK)
		return
	}
	e, there, err := s.one(ctx, of, predicate)
	if err != nil || !there || ignores(s, "representation") {
		w.WriteHeader(http.StatusNoContent)
		return
	}
	s.give(w, r, of, e, http.StatusOK)
}

// isStamped reports whether the application notes the time of a change by itself.
func isStamped(of *set, columns []string) bool {
	_, has := of.field("updated_at")
	return has && !slices.Contains(columns, "updated_at")
}

// below does something with a stream or a link.
func (s *Service) below(w http.ResponseWriter, r *http.Request, of *set, e entity, predicate, rest string) {
	ctx := r.Context()
	where, args, _ := of.where(predicate)
	for i, f := range of.fields {
		if f.edm != "Edm.Stream" || f.name != rest {
			continue
		}
		switch r.Method {
		case http.MethodGet:
			content, ok := e.values[i].([]byte)
			if !ok {
				w.WriteHeader(http.StatusNoContent)
				return
			}
			w.Header().Set("Content-Type", "application/octet-stream")
			_, _ = w.Write(content)
		case http.MethodPut:
			content, err := io.ReadAll(io.LimitReader(r.Body, mostBody))
			if err == nil {
				_, err = s.db.ExecContext(ctx, "UPDATE "+quote(of.name)+" SET "+quote(f.name)+" = ? WHERE "+where,
					append([]any{content}, args...)...)
			}
			if err != nil {
				refused(w, err)
				return
			}
			w.WriteHeader(http.StatusNoContent)
		default:
			refuse(w, http.StatusMethodNotAllowed, "Method", "This cannot be done here.")
		}
		return
	}
	name, what, _ := strings.Cut(rest, "/")
	for _, f := range of.fields {
		if f.navOnly && f.nav == name && what == "$ref" {
			s.refer(w, r, of, f, where, args)
			return
		}
	}
	for _, l := range of.links {
		if l.nav == name {
			s.link(w, r, of, e, l, what)
			return
		}
	}
	refuse(w, http.StatusNotFound, "NotFound", "There is nothing of this name.")
}

// refer makes a reference by navigation, or ends it.
func (s *Service) refer(w http.ResponseWriter, r *http.Request, of *set, f field, where string, args []any) {
	var to any
	if r.Method == http.MethodPut {
		var body map[string]string
		_ = json.NewDecoder(io.LimitReader(r.Body, mostBody)).Decode(&body)
		target := s.sets[f.refers]
		at := strings.LastIndex(body["@odata.id"], target.name+"(")
		if at < 0 {
			refuse(w, http.StatusBadRequest, "Link", "The link is not understood.")
			return
		}
		_, values, err := target.where(strings.TrimSuffix(body["@odata.id"][at+len(target.name)+1:], ")"))
		if err != nil {
			refuse(w, http.StatusBadRequest, "Link", "The link is not understood.")
			return
		}
		to = values[0]
	}
	if _, err := s.db.ExecContext(r.Context(), "UPDATE "+quote(of.name)+" SET "+quote(f.name)+" = ? WHERE "+where,
		append([]any{to}, args...)...); err != nil {
		refused(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (s *Service) link(w http.ResponseWriter, r *http.Request, of *set, e entity, l link, what string) {
	ctx := r.Context()
	to := s.sets[l.target]
	from := e.values[slices.IndexFunc(of.fields, func(f field) bool { return f.name == of.key[0] })]
	if r.Method == http.MethodGet && what == "" {
		rows, err := s.linked(ctx, of, l, e)
		if err != nil {
			refuse(w, http.StatusInternalServerError, "Database", "What is linked cannot be read.")
			return
		}
		value := []any{}
		for _, row := range rows {
			value = append(value, map[string]any{l.targetKey: to.value(row, l.targetKey, texts(r))})
		}
		send(w, http.StatusOK, map[string]any{"value": value})
		return
	}
	given := r.URL.Query().Get("$id")
	if r.Method == http.MethodPost {
		var body map[string]string
		_ = json.NewDecoder(io.LimitReader(r.Body, mostBody)).Decode(&body)
		given = body["@odata.id"]
	}
	at := strings.LastIndex(given, to.name+"(")
	if what != "$ref" || at < 0 {
		refuse(w, http.StatusBadRequest, "Link", "The link is not understood.")
		return
	}
	predicate, err := url.PathUnescape(strings.TrimSuffix(given[at+len(to.name)+1:], ")"))
	other, there, oneErr := s.one(ctx, to, predicate)
	if err != nil || oneErr != nil || !there {
		refuse(w, http.StatusBadRequest, "Link", "What is to be linked is not there.")
		return
	}
	query := "DELETE FROM %s WHERE %s = ? AND %s = ?"
	if r.Method == http.MethodPost {
		query = "INSERT OR IGNORE INTO %s (%s, %s) VALUES (?, ?)"
	}
	key := other.values[slices.IndexFunc(to.fields, func(f field) bool { return f.name == l.targetKey })]
	if _, err := s.db.ExecContext(ctx, fmt.Sprintf(query, quote(l.table), quote(l.from), quote(l.to)), from, key); err != nil {
		refused(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
