// Package mysql is the dialect of MariaDB and MySQL.
package mysql
