// Command smallpantry-vet reports mistakes in programs that use Small Pantry: see package vet.
//
//	smallpantry-vet ./...
//	smallpantry-vet -fix ./...
//	go vet -vettool=$(which smallpantry-vet) ./...
package main

import (
	"os"
	"strings"

	"golang.org/x/tools/go/analysis/singlechecker"
	"golang.org/x/tools/go/analysis/unitchecker"

	"github.com/small-pantry/pantry/vet"
)

func main() {
	// The go command calls a vettool with -V=full, with -flags, and with one file of settings.
	for _, arg := range os.Args[1:] {
		if strings.HasPrefix(arg, "-V=") || arg == "-flags" || strings.HasSuffix(arg, ".cfg") {
			unitchecker.Main(vet.Analyzer)
		}
	}
	singlechecker.Main(vet.Analyzer)
}
