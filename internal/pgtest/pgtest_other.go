//go:build !linux

// Package pgtest starts a PostgreSQL server for tests, on Linux; elsewhere these tests are skipped.
package pgtest

import "testing"

// Server is a PostgreSQL server.
type Server struct{}

// Start skips the test.
func Start(t *testing.T) *Server {
	t.Helper()
	t.Skip("a PostgreSQL server is started on Linux alone")
	return nil
}

// Stop has nothing to stop.
func Stop() {}

// Database is never called.
func (*Server) Database(t *testing.T) string { return "" }

// Kill is never called.
func (*Server) Kill(t *testing.T) {}

// Resume is never called.
func (*Server) Resume(t *testing.T) {}
