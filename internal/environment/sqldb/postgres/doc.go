// Package postgres is the dialect of PostgreSQL. Values travel as the server's own text, in
// forms that no setting of the server changes; large amounts by COPY.
package postgres
