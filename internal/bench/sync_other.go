//go:build !linux

package main

import "os"

func datasync(f *os.File) error { return f.Sync() }
