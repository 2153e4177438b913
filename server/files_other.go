//go:build !unix

package server

// maxFiles returns how many files the process may have open; 0 means unknown.
func maxFiles() int { return 0 }
