package service

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// texts reports whether large numbers are wanted as texts.
func texts(r *http.Request) bool {
	return strings.Contains(r.Header.Get("Accept"), "IEEE754Compatible=true")
}

// object gives a row as an object.
func (s *Service) object(ctx context.Context, r *http.Request, of *set, e entity) (map[string]any, error) {
	query := r.URL.Query()
	var chosen []string
	if text := query.Get("$select"); text != "" && !ignores(s, "select") {
		chosen = strings.Split(text, ",")
	}
	out := map[string]any{}
	if !s.o.NoTags {
		out["@odata.etag"] = e.tag
	}
	for i, f := range of.fields {
		if f.edm != "Edm.Stream" && !f.navOnly && (chosen == nil || slices.Contains(chosen, f.name)) {
			out[f.name] = f.shown(e.values[i], texts(r))
		}
	}
	if ignores(s, "expand") {
		return out, nil
	}
	return out, s.expand(ctx, r, of, e, out)
}

// expand adds what is navigated to.
func (s *Service) expand(ctx context.Context, r *http.Request, of *set, e entity, out map[string]any) error {
	for _, part := range strings.Split(r.URL.Query().Get("$expand"), ",") {
		name, _, _ := strings.Cut(part, "(")
		for i, f := range of.fields {
			if !f.navOnly || f.nav != name {
				continue
			}
			out[f.nav] = nil
			if to := s.sets[f.refers]; e.values[i] != nil {
				out[f.nav] = map[string]any{to.key[0]: f.shown(e.values[i], texts(r))}
			}
		}
		for _, l := range of.links {
			if l.nav != name {
				continue
			}
			to := s.sets[l.target]
			rows, err := s.linked(ctx, of, l, e)
			if err != nil {
				return err
			}
			if ignores(s, "expanded rows") && len(rows) > 1 {
				rows = rows[:1]
			}
			all := []any{}
			for _, row := range rows {
				all = append(all, map[string]any{l.targetKey: to.value(row, l.targetKey, texts(r))})
			}
			out[l.nav] = all
		}
	}
	return nil
}

func (s *set) value(e entity, name string, texts bool) any {
	for i, f := range s.fields {
		if f.name == name {
			return f.shown(e.values[i], texts)
		}
	}
	return nil
}

func (s *Service) linked(ctx context.Context, of *set, l link, e entity) ([]entity, error) {
	key := slices.IndexFunc(of.fields, func(f field) bool { return f.name == of.key[0] })
	to := s.sets[l.target]
	return to.selectRows(ctx, s.db, fmt.Sprintf("WHERE %s IN (SELECT %s FROM %s WHERE %s = ?) ORDER BY 1", to.at(l.targetKey),
		quote(l.to), quote(l.table), quote(l.from)), e.values[key])
}

// filtered gives the condition that a filter means.
func (s *Service) filtered(of *set, filter string) (string, []any, error) {
	switch {
	case filter == "" || ignores(s, "filter"):
		return "true", nil, nil
	case s.o.InOne > 0 && strings.Count(filter, " eq ") > s.o.InOne:
		return "", nil, errFilter
	}
	return of.condition(filter)
}

// list gives a page of a set.
func (s *Service) list(w http.ResponseWriter, r *http.Request, of *set) {
	ctx, query := r.Context(), r.URL.Query()
	where, args, err := s.filtered(of, query.Get("$filter"))
	if err != nil {
		refuse(w, http.StatusBadRequest, "Filter", err.Error())
		return
	}
	out := map[string]any{"@odata.context": "$metadata#" + of.name}
	if query.Get("$count") == "true" && !ignores(s, "count") {
		n := 0
		if err := s.db.QueryRowContext(ctx, "SELECT count(*) FROM "+quote(of.name)+" WHERE "+where, args...).Scan(&n); err != nil {
			refuse(w, http.StatusInternalServerError, "Database", "The count cannot be had.")
			return
		}
		out["@odata.count"] = n
	}
	size := s.o.Page
	if wanted, err := strconv.Atoi(strings.TrimPrefix(r.Header.Get("Prefer"), "odata.maxpagesize=")); err == nil && wanted > 0 {
		size = min(size, wanted)
	}
	top := -1
	if n, err := strconv.Atoi(query.Get("$top")); err == nil && n >= 0 {
		top = n
	}
	skip, _ := strconv.Atoi(query.Get("$skip"))
	order := make([]string, len(of.key))
	for i, key := range of.key {
		order[i] = of.at(key)
	}
	if token := query.Get("$skiptoken"); token != "" {
		last, err := lastOf(token, len(order))
		if err != nil {
			refuse(w, http.StatusGone, "Token", "The link to the page has run out.")
			return
		}
		where += " AND (" + strings.Join(order, ", ") + ") > (" + strings.TrimSuffix(strings.Repeat("?, ", len(last)), ", ") + ")"
		args = append(args, last...)
	}
	limit := size + 1
	if top >= 0 && top <= size {
		limit = top
	}
	rows, err := of.selectRows(ctx, s.db, fmt.Sprintf("WHERE %s ORDER BY %s LIMIT %d OFFSET %d", where, strings.Join(order, ", "),
		limit, skip), args...)
	if err != nil {
		refuse(w, http.StatusInternalServerError, "Database", "The rows cannot be read.")
		return
	}
	if len(rows) > size {
		rows = rows[:size]
		out["@odata.nextLink"] = of.next(query, rows[size-1], top-size)
	}
	value := []any{}
	for _, e := range rows {
		one, err := s.object(ctx, r, of, e)
		if err != nil {
			refuse(w, http.StatusInternalServerError, "Database", "What is linked cannot be read.")
			return
		}
		value = append(value, one)
	}
	out["value"] = value
	send(w, http.StatusOK, out)
}

func (s *Service) count(w http.ResponseWriter, r *http.Request, of *set) {
	n := 0
	if err := s.db.QueryRowContext(r.Context(), "SELECT count(*) FROM "+quote(of.name)).Scan(&n); err != nil {
		refuse(w, http.StatusInternalServerError, "Database", "The count cannot be had.")
		return
	}
	w.Header().Set("Content-Type", "text/plain")
	_, _ = fmt.Fprint(w, n)
}

// one reads the row of a key.
func (s *Service) one(ctx context.Context, of *set, predicate string) (entity, bool, error) {
	where, args, err := of.where(predicate)
	if err != nil {
		return entity{}, false, err
	}
	rows, err := of.selectRows(ctx, s.db, "WHERE "+where, args...)
	if err != nil || len(rows) == 0 {
		return entity{}, false, err
	}
	return rows[0], true, nil
}

// lastOf reads the key after which a page begins.
func lastOf(token string, parts int) ([]any, error) {
	text, err := base64.RawURLEncoding.DecodeString(token)
	if err != nil {
		return nil, err
	}
	var last []any
	decoder := json.NewDecoder(strings.NewReader(string(text)))
	decoder.UseNumber()
	if err := decoder.Decode(&last); err != nil || len(last) != parts {
		return nil, errFilter
	}
	for i, v := range last {
		if n, ok := v.(json.Number); ok {
			last[i], _ = n.Int64()
		}
	}
	return last, nil
}

// next gives the address of the page after a row; left is what $top still asks for, negative
// where it asks for nothing.
func (s *set) next(query url.Values, row entity, left int) string {
	var last []any
	for _, key := range s.key {
		at := slices.IndexFunc(s.fields, func(f field) bool { return f.name == key })
		last = append(last, row.values[at])
	}
	text, _ := json.Marshal(last)
	next := url.Values{}
	for name, values := range query {
		if name != "$skip" && name != "$top" {
			next[name] = values
		}
	}
	if left >= 0 {
		next.Set("$top", strconv.Itoa(left))
	}
	next.Set("$skiptoken", base64.RawURLEncoding.EncodeToString(text))
	return s.name + "?" + next.Encode()
}
