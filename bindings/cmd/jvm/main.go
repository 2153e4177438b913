// Command jvm builds an app in Kotlin over the library for the JVM of this machine, and runs it:
//
//	jvm DIR MAIN [ARG...]
//
// DIR has the app's .kt files, and MAIN is the class of its main function, such as MainKt. The first
// build takes a minute. It needs a JDK, a C compiler and the Kotlin compiler, and says which is missing.
// It runs in the directory of module bindings.
package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"

	"github.com/small-pantry/pantry/bindings/jvm"
)

func main() {
	cmd, err := build(os.Args[1:])
	if err != nil {
		fmt.Fprintln(os.Stderr, "jvm:", err)
		os.Exit(1)
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
	if err := cmd.Run(); err != nil {
		os.Exit(1) // the app has said why
	}
}

// build builds an app and returns the command that runs it.
func build(args []string) (*exec.Cmd, error) {
	if len(args) < 2 {
		return nil, errors.New("usage: jvm DIR MAIN [ARG...]")
	}
	for program, install := range map[string]string{"java": "a JDK", "javac": "a JDK", "cc": "a C compiler"} {
		if _, err := exec.LookPath(program); err != nil {
			return nil, fmt.Errorf("%s is missing: install %s", program, install)
		}
	}
	files, err := filepath.Glob(filepath.Join(args[0], "*.kt"))
	if err != nil || len(files) == 0 {
		return nil, errors.Join(fmt.Errorf("there are no .kt files in %s", args[0]), err)
	}
	library, err := jvm.Library()
	if err != nil {
		return nil, err
	}
	app, err := library.Kotlin(filepath.Base(args[0]), nil, append(files, jvm.Layer...)...)
	if err != nil {
		return nil, err
	}
	return app.Command(args[1], args[2:]...), nil
}
